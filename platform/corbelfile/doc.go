// Package corbelfile reads and writes the files of Corbel: what is on a
// machine's volumes, and the nameplate that stands for what is not on a disk.
// It knows bytes and no more; what they mean for a repair is known elsewhere.
//
//	index, err := corbelfile.ReadIndex(raw)
//	raw = corbelfile.Seal("corbel-index", index)
//
// The formats are specified in docs/formats/corbel.md.
package corbelfile
