// Package block is the floor on which everything that changes a disk stands:
// devices made of sectors, and a journal that can take every change back.
//
// No other package writes to a device. A change is planned as a list of
// writes, the journal notes what stood there before and what shall stand
// there after, and only then are the sectors touched:
//
//	j, err := block.CreateJournal(path, head)
//	err = j.Apply(ctx, dev, writes)          // noted, synced, then written
//	err = block.Undo(ctx, dev, path)         // every byte as it was
//	err = block.Resume(ctx, dev, path)       // after a crash: finished
//
// The journal's format is specified in docs/formats.md, section "Journal".
package block
