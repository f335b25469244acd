// Package corbel is the adapter for Corbel: how each idea of the core is found
// on that system. The formats are those of corbelfile; what lies where is
// described in docs/formats/corbel.md.
//
//	facts.State, facts.Installed = …            // corbel.Adapter{}.Survey
//	sys, err := corbel.Adapter{}.Open(dev, mode, now)
//	err = sys.PutServices(services)              // onto a draft, for the journal
package corbel
