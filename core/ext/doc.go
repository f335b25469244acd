// Package ext reads ext2, ext3 and ext4 file systems from any block device,
// with no mount and no root. It never writes.
//
//	fsys, err := ext.Open(part)
//	text, err := fs.ReadFile(fsys, "etc/os-release")
//
// The journal is not replayed: NeedsRecovery says when that matters.
// Format: the Linux kernel's documentation, filesystems/ext4/.
package ext
