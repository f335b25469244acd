// Package layout reads, checks, plans and writes the partition tables of a
// disk, MBR and GPT, and recognises what lies on a partition by its own
// superblock. It reads no more than the tables' own sectors and the first
// sectors of each partition, and it never writes: a mend is a list of writes
// for block.Journal.
//
//	table, err := layout.Read(dev)
//	for _, p := range table.Check() { … }
//	writes, err := table.MendPrimary()
//
// GPT: UEFI Specification 2.10, section 5.3. Protective MBR: section 5.2.3.
// Partition types: Discoverable Partitions Specification.
package layout
