// Package xfs reads an XFS volume without mounting it, and writes into files that are there.
//
//	fsys, err := xfs.Open(partition)
//	if err != nil { … }
//	raw, err := fs.ReadFile(fsys, "etc/fstab")
//
// The format is that of "XFS Algorithms & Data Structures" (the file systems of versions 4 and 5, with everything but
// a realtime volume). Its log is not replayed: NeedsRecovery tells whether it holds anything.
package xfs
