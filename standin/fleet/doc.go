// Package fleet makes the invented machines of Skerrow Ferries: disk images
// with real tables and real file systems, broken as real ones break.
//
//	err := fleet.Machines[0].Make(ctx, "kestrel-office-3.img")
//
// ext4 volumes are made by mke2fs, which every Debian has; all else by our
// own code.
package fleet
