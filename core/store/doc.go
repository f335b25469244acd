// Package store verifies component stores and repairs them from a source of
// the same build.
//
//	report, err := store.Verify(ctx, s, runtime.NumCPU(), nil)
//	done, err := store.Repair(ctx, s, report, sources)
//
// A component store keeps, for each component, a manifest that lists its files
// with the hash of each, and the payloads from which the files of the running
// system are made. How a system keeps them is known to its adapter.
package store
