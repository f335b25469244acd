// Package bag packs, checks and reads the evidence of a case: one document of
// facts and the files it came with, as a BagIt bag (RFC 8493) in a .tar.gz or
// .tar.zst. A bag is hostile input: nothing in it is believed before its
// checksums agree, and no name in it can reach outside of it.
//
//	w, err := bag.NewWriter(out, bag.Options{Name: "kestrel-office-3"})
//	err = w.AddFacts(facts)
//	err = w.AddFile("logs/dpkg.log", size, log)
//	digest, err := w.Close()
//
//	info, err := bag.Read(ctx, in, bag.DefaultLimits, nil)
//
// The bag and the facts are specified in docs/formats.md; the facts' JSON
// Schema is facts.schema.json in this folder.
package bag
