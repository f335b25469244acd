package ext

import (
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"

	"diorthos/core/block"
)

// Further offsets in a group descriptor (ext4/group_descr.rst), in bytes.
const (
	gdFreeBlocks   = 0xc
	gdFreeInodes   = 0xe
	gdFolders      = 0x10
	gdFlags        = 0x12
	gdBlockSum     = 0x18
	gdInodeSum     = 0x1a
	gdUnused       = 0x1c // inodes at the end of the table that were never used
	gdSum          = 0x1e
	gdFreeHigh     = 0x2c // from here on the upper halves, in the same order
	gdInodesHigh   = 0x2e
	gdFoldersHigh  = 0x30
	gdUnusedHigh   = 0x32
	gdBlockSumHigh = 0x38
	gdInodeSumHigh = 0x3a
	gdWide         = 64 // bytes of a descriptor that has them

	noInodeBitmap = 0x1 // flags of a group: a bitmap was never written, and stands for one of zeros
	noBlockBitmap = 0x2

	roDescSum  = 0x10 // CRC-16 of descriptors
	roBigAlloc = 0x200

	sbFreeLow   = 0x0c
	sbFreeHigh  = 0x158
	sbFreeNodes = 0x10
	sbClusters  = 0x24 // in a group
)

// A desc is the descriptor of a group.
type desc struct {
	s     super
	group int64
	raw   []byte
}

func (d desc) wide() bool { return d.s.incompat&incompat64 != 0 && len(d.raw) >= gdWide }

// get is a number of which the upper half stands elsewhere.
func (d desc) get(low, high int) int64 {
	n := int64(binary.LittleEndian.Uint16(d.raw[low:]))
	if d.wide() {
		n |= int64(binary.LittleEndian.Uint16(d.raw[high:])) << 16
	}
	return n
}

func (d desc) put(low, high int, n int64) {
	binary.LittleEndian.PutUint16(d.raw[low:], uint16(n))
	if d.wide() {
		binary.LittleEndian.PutUint16(d.raw[high:], uint16(n>>16))
	}
}

// at is a block that it points to.
func (d desc) at(low int) int64 {
	n := int64(binary.LittleEndian.Uint32(d.raw[low:]))
	if d.wide() {
		n |= int64(binary.LittleEndian.Uint32(d.raw[low+gdTableHigh-gdTableLow:])) << 32
	}
	return n
}

// sum is its checksum; ok is false for file systems that keep none.
func (d desc) sum() (crc uint16, ok bool) {
	var number, none [4]byte
	binary.LittleEndian.PutUint32(number[:], uint32(d.group))
	switch {
	case d.s.checks():
		c := sum(sum(d.s.seed, number[:]), d.raw[:gdSum])
		return uint16(sum(sum(c, none[:2]), d.raw[gdSum+2:])), true
	case d.s.roCompat&roDescSum != 0:
		c := crc16(crc16(crc16(0xffff, d.s.uuid[:]), number[:]), d.raw[:gdSum])
		return crc16(c, d.raw[gdSum+2:]), true
	}
	return 0, false
}

// crc16 continues a CRC-16 of the polynomial 0x8005, bits turned.
func crc16(crc uint16, p []byte) uint16 {
	for _, b := range p {
		crc ^= uint16(b)
		for range 8 {
			low := crc & 1
			if crc >>= 1; low != 0 {
				crc ^= 0xa001
			}
		}
	}
	return crc
}

// sound reports whether it has its checksum and points into the volume.
func (d desc) sound() bool {
	want, ok := d.sum()
	return d.s.plausible(d.raw) && (!ok || want == binary.LittleEndian.Uint16(d.raw[gdSum:]))
}

// clustersOf is how many bits of the bitmap of blocks a group has.
func (s super) clustersOf(group int64) int64 {
	return (min(s.perGroup, s.blocks-s.firstBlock-group*s.perGroup) + s.clusterRatio() - 1) / s.clusterRatio()
}

// clusterRatio is how many blocks a bit stands for.
func (s super) clusterRatio() int64 {
	if s.roCompat&roBigAlloc != 0 && s.clusters > 0 {
		return max(1, s.perGroup/s.clusters)
	}
	return 1
}

// bitmap reads a bitmap of a group; nil for one that was never written.
func (d desc) bitmap(dev io.ReaderAt, low int, never uint16) ([]byte, error) {
	if binary.LittleEndian.Uint16(d.raw[gdFlags:])&never != 0 {
		return nil, nil
	}
	b := make([]byte, d.s.blockSize)
	if _, err := dev.ReadAt(b, d.at(low)*d.s.blockSize); err != nil {
		return nil, fmt.Errorf("ext: read a bitmap of group %d: %w", d.group, err)
	}
	return b, nil
}

// used counts the first bits that are set.
func used(b []byte, n int64) (set int64) {
	for i := range n / 8 {
		set += int64(bits.OnesCount8(b[i]))
	}
	if rest := n % 8; rest > 0 {
		set += int64(bits.OnesCount8(b[n/8] & (1<<rest - 1)))
	}
	return set
}

// blockSum and inodeSum are the checksums of bitmaps, as far as a descriptor has room for them.
func (d desc) blockSum(b []byte) int64 { return d.cut(sum(d.s.seed, b[:d.s.bitsOfBlocks()/8])) }
func (d desc) inodeSum(b []byte) int64 { return d.cut(sum(d.s.seed, b[:d.s.inodesGroup/8])) }

func (d desc) cut(crc uint32) int64 {
	if !d.wide() {
		crc &= 0xffff
	}
	return int64(crc)
}

func (s super) bitsOfBlocks() int64 {
	if s.roCompat&roBigAlloc != 0 && s.clusters > 0 {
		return s.clusters
	}
	return s.perGroup
}

// Check holds the descriptor of each group against its checksum and, if bitmaps is set, what it says of the group's
// bitmaps against them. It says what does not fit, at most so many lines. A volume whose journal has to be replayed is
// not looked at: what lies there is not final.
func (f *FS) Check(most int, bitmaps bool) (faults []string, err error) {
	if f.NeedsRecovery() {
		return nil, nil
	}
	more := 0
	for group := range f.sb.groups() {
		d, err := f.sb.descOf(f.dev, group)
		if err != nil {
			return nil, err
		}
		list, err := d.faults(f.dev, bitmaps)
		if err != nil {
			return nil, err
		}
		for _, text := range list {
			if len(faults) < most {
				faults = append(faults, text)
			} else {
				more++
			}
		}
	}
	if more > 0 {
		faults[most-1] += fmt.Sprintf(" (and %d more)", more)
	}
	return faults, nil
}

func (s super) descOf(dev io.ReaderAt, group int64) (desc, error) {
	raw := make([]byte, s.descSize)
	if _, err := dev.ReadAt(raw, s.descAt(group)); err != nil {
		return desc{}, fmt.Errorf("ext: read the descriptor of group %d: %w", group, err)
	}
	return desc{s, group, raw}, nil
}

// faults are what is wrong with a group.
func (d desc) faults(dev io.ReaderAt, bitmaps bool) (list []string, err error) {
	say := func(format string, args ...any) {
		list = append(list, fmt.Sprintf("group %d: ", d.group)+fmt.Sprintf(format, args...))
	}
	if !d.sound() {
		say("its descriptor is damaged")
	}
	if !bitmaps || len(list) > 0 {
		return list, nil
	}
	blocks, err := d.bitmap(dev, gdBlocksLow, noBlockBitmap)
	if err != nil {
		return nil, err
	}
	if blocks != nil {
		if d.s.checks() && d.blockSum(blocks) != d.get(gdBlockSum, gdBlockSumHigh) {
			say("its bitmap of blocks is not that of its checksum")
		} else if n := d.s.clustersOf(d.group); n-used(blocks, n) != d.get(gdFreeBlocks, gdFreeHigh) {
			say("%d blocks are free, and %d are said to be", n-used(blocks, n), d.get(gdFreeBlocks, gdFreeHigh))
		}
	}
	inodes, err := d.bitmap(dev, gdInodesLow, noInodeBitmap)
	if err != nil || inodes == nil {
		return list, err
	}
	if d.s.checks() && d.inodeSum(inodes) != d.get(gdInodeSum, gdInodeSumHigh) {
		say("its bitmap of inodes is not that of its checksum")
	} else if n := d.s.inodesGroup; n-used(inodes, n) != d.get(gdFreeInodes, gdInodesHigh) {
		say("%d inodes are free, and %d are said to be", n-used(inodes, n), d.get(gdFreeInodes, gdInodesHigh))
	}
	return list, nil
}

// counted brings a descriptor up to date from the bitmaps and the table of inodes that it points to. A copy of a
// descriptor is as old as the file system: what it points to never moves, all else does.
func (d desc) counted(dev io.ReaderAt) error {
	flags := binary.LittleEndian.Uint16(d.raw[gdFlags:])
	for _, m := range []struct {
		low   int
		never uint16
		take  func([]byte) error
	}{
		{gdBlocksLow, noBlockBitmap, d.countBlocks},
		{gdInodesLow, noInodeBitmap, func(b []byte) error { return d.countInodes(dev, b) }},
	} {
		b, err := d.bitmap(dev, m.low, 0)
		if err != nil {
			return err
		}
		if flags&m.never != 0 && used(b, d.s.blockSize*8) == 0 {
			continue // it was never written: a bitmap in use that is taken for one would be given out again
		}
		flags &^= m.never
		if err := m.take(b); err != nil {
			return err
		}
	}
	binary.LittleEndian.PutUint16(d.raw[gdFlags:], flags)
	if crc, ok := d.sum(); ok {
		binary.LittleEndian.PutUint16(d.raw[gdSum:], crc)
	}
	return nil
}

func (d desc) countBlocks(b []byte) error {
	n := d.s.clustersOf(d.group)
	d.put(gdFreeBlocks, gdFreeHigh, n-used(b, n))
	if d.s.checks() {
		d.put(gdBlockSum, gdBlockSumHigh, d.blockSum(b))
	}
	return nil
}

func (d desc) countInodes(dev io.ReaderAt, b []byte) error {
	n := d.s.inodesGroup
	d.put(gdFreeInodes, gdInodesHigh, n-used(b, n))
	if d.s.checks() {
		d.put(gdInodeSum, gdInodeSumHigh, d.inodeSum(b))
	}
	last, folders := int64(0), int64(0)
	raw := make([]byte, inBlock)
	for i := range n {
		if b[i/8]&(1<<(i%8)) == 0 {
			continue
		}
		last = i + 1
		if _, err := dev.ReadAt(raw, d.at(gdTableLow)*d.s.blockSize+i*d.s.inodeSize); err != nil {
			return fmt.Errorf("ext: read the inodes of group %d: %w", d.group, err)
		}
		links := binary.LittleEndian.Uint16(raw[inLinks:])
		if binary.LittleEndian.Uint16(raw[inMode:])&0xf000 == 0x4000 && links > 0 {
			folders++
		}
	}
	d.put(gdFolders, gdFoldersHigh, folders)
	if d.s.checks() || d.s.roCompat&roDescSum != 0 {
		d.put(gdUnused, gdUnusedHigh, n-last)
	}
	return nil
}

// MendGroups plans the descriptors of groups that are damaged, from a backup and from what is counted.
func (f *FS) MendGroups(dev io.ReaderAt, size int64) ([]block.Write, error) {
	b, err := FindBackup(dev, size)
	if err != nil {
		return nil, err
	}
	list, _, _, err := b.mended(dev)
	return list, err
}

// mended plans the descriptors of the first copy that are damaged; sound ones are newer than any copy. It counts what
// is free by all of them.
func (b *Backup) mended(dev io.ReaderAt) (list []block.Write, freeBlocks, freeInodes int64, err error) {
	for group := range b.sb.groups() {
		now, err := b.sb.descOf(dev, group)
		if err != nil {
			return nil, 0, 0, err
		}
		if kept := b.descOf(dev, group); kept.raw != nil && !b.holds(now, kept) {
			if err := kept.counted(dev); err != nil {
				return nil, 0, 0, err
			}
			now = kept
			at := b.sb.descAt(group)
			if n := len(list); n > 0 && list[n-1].Off+int64(len(list[n-1].Data)) == at {
				list[n-1].Data = append(list[n-1].Data, kept.raw...)
			} else {
				what := fmt.Sprintf("group descriptors, from group %d on", group)
				list = append(list, block.Write{Off: at, Data: kept.raw, What: what})
			}
		}
		freeBlocks += now.get(gdFreeBlocks, gdFreeHigh) * b.sb.clusterRatio()
		freeInodes += now.get(gdFreeInodes, gdInodesHigh)
	}
	return list, freeBlocks, freeInodes, nil
}

// holds reports whether a descriptor of the first copy can stay: it is sound, and points to where its copy does.
func (b *Backup) holds(now, kept desc) bool {
	if !now.sound() {
		return false
	}
	for _, low := range []int{gdBlocksLow, gdInodesLow, gdTableLow} {
		if now.at(low) != kept.at(low) {
			return false
		}
	}
	return true
}

// descOf is the copy of a descriptor: behind the backup superblock, or, of groups that keep their descriptors with
// them, in the group behind the first of those that share a block. It has no bytes where none is sound.
func (b *Backup) descOf(dev io.ReaderAt, group int64) desc {
	at := group * b.sb.descSize
	if at+b.sb.descSize <= int64(len(b.descs)) {
		return b.asSound(group, append([]byte(nil), b.descs[at:at+b.sb.descSize]...))
	}
	first := group / b.sb.descsPerBlock() * b.sb.descsPerBlock()
	if first+1 >= b.sb.groups() {
		return desc{}
	}
	raw := make([]byte, b.sb.descSize)
	at = b.sb.metaDescs(first+1)*b.sb.blockSize + group%b.sb.descsPerBlock()*b.sb.descSize
	if _, err := dev.ReadAt(raw, at); err != nil {
		return desc{}
	}
	return b.asSound(group, raw)
}

func (b *Backup) asSound(group int64, raw []byte) desc {
	if d := (desc{b.sb, group, raw}); d.sound() {
		return d
	}
	return desc{}
}
