// Package action holds the typed changes that a remedy, or a person, can ask
// for: of partition tables, file systems, systems, firmware and media.
//
//	a, ok := action.Named("layout.mend-gpt")
//	c, err := a.Open(dev, environment, params)
//	effect, err := a.Do(ctx, c)     // drafted, nothing is written
//	writes, err := c.Writes()       // what a journal has to apply
//	checks := a.Prove(ctx, before, wanted, after)
//
// An action drafts; it never writes to a device. Who conducts it (package climb)
// sees to consent, journal, proof and undo.
package action
