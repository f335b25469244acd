// Package volumes finds where file systems may lie between partitions and file systems: the
// logical volumes of LVM2, arrays of MD, encrypted volumes of LUKS, one inside the other, and
// reads and writes them through package block.
//
//	set := volumes.Open(disk, table, keys)      // keys may be nil: what is encrypted stays closed
//	for _, v := range set.All() { … v.Number, v.Name, v.Content … }
//	root := set.Named("/dev/mapper/quay--vg-root")
//	raw := root.Dev                             // a block.Device where the disk is one
//
// Partitions keep their numbers; what lies inside them is numbered from [FirstInner] in the order
// in which it is found. What cannot be put together is said in a volume's Problem.
//
// Sources: LVM2 by lvm2's own documentation (lvmsystemd, format_text/layout.h: label, metadata
// areas, text metadata), MD by the kernel's include/uapi/linux/raid/md_p.h and Documentation/admin-guide/md.rst,
// LUKS1 by "LUKS On-Disk Format Specification" 1.2.3, LUKS2 by "LUKS2 On-Disk Format Specification" 1.1.1.
package volumes
