// Package agent is the process on a machine: it notices that something failed, gathers, hands
// in, and carries out orders that the service has signed.
//
//	a := &agent.Agent{Folder: "/var/lib/diorthos/agent", Gather: …, Trace: …, Open: …, Record: …, Log: log}
//	machine, err := a.Enrol(ctx, url, code)
//	err = a.Run(ctx)
//
// It speaks to the service only, by connections that it opens itself. Its key, what it was told, and bags and outcomes
// that could not be handed in yet lie in its folder.
package agent
