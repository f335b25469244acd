// Package climb conducts repairs. Whatever changes a machine goes through it,
// whoever asks: a command, the console, an agent.
//
//	record, err := climb.OpenRecord("kestrel-office-3.climbs", "kestrel-office-3")
//	c := climb.Climb{Plan: plan, Machine: machine, Attendant: attendant, Record: record, Now: time.Now}
//	runs, err := c.Run(ctx)
//
// For each rung, in this order: identity, consent, guard, loans, journal, change,
// proof; then the next, or stop, or a restart first. What was borrowed is given
// back however the climb ends. The record on the machine is on disk before
// anything is changed, and belongs to the machine, not to one case.
package climb
