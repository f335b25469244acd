// Package upkeep knows the state that a system keeps beside its files:
// services, settings, work that is pending for the next start.
//
//	order, err := upkeep.StartOrder(services, "courier")
//	cut, err := upkeep.Excise(ctx, in, out, corbelfile.FindOperations(missing))
//
// How a system writes these down is known to its adapter.
package upkeep
