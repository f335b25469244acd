// Package btrfs reads a Btrfs volume without mounting it.
//
//	fsys, err := btrfs.Open(partition)
//	if err != nil { … }
//	raw, err := fs.ReadFile(fsys, "@rootfs/etc/fstab")
//
// The files are those of the volume's first subvolume; other subvolumes are folders in it. Default names the one that
// is mounted where nothing else is asked for. The format is that of the "Btrfs on-disk format" of its documentation.
// Of a volume that spans several devices only what lies on this one can be read; files packed with LZO cannot.
package btrfs
