package ext

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"diorthos/core/block"
)

// A Backup is a second superblock that was found, with the descriptors of the
// groups behind it.
type Backup struct {
	Group int64
	At    int64 // bytes from the start of the volume

	sb    super
	raw   []byte
	descs []byte
}

// ErrNoBackup means that no second superblock was found.
var ErrNoBackup = errors.New("ext: no backup superblock was found")

// FindBackup looks for a second superblock where the groups would begin that
// keep one, for each size of a block (ext4/super.rst: groups 1 and the powers
// of 3, 5 and 7).
func FindBackup(dev io.ReaderAt, size int64) (*Backup, error) {
	for _, blockSize := range []int64{4096, 1024, 2048, 8192, 16384, 32768, 65536} {
		first := int64(0)
		if blockSize == 1024 {
			first = 1
		}
		for _, group := range []int64{1, 3, 5, 7, 9, 25, 27, 49} {
			at := (group*blockSize*8 + first) * blockSize
			if at+superSize > size {
				break
			}
			if b := readBackup(dev, size, at, group, blockSize); b != nil {
				return b, nil
			}
		}
	}
	return nil, ErrNoBackup
}

func readBackup(dev io.ReaderAt, size, at, group, blockSize int64) *Backup {
	raw := make([]byte, superSize)
	if _, err := dev.ReadAt(raw, at); err != nil {
		return nil
	}
	s, err := parseSuper(raw)
	if err != nil || s.blockSize != blockSize || int64(binary.LittleEndian.Uint16(raw[sbBlockGroup:])) != group ||
		checkSuper(raw, s, at) != nil {
		return nil
	}
	groups := min(s.groups(), s.firstMeta*s.descsPerBlock())
	if groups > size/s.descSize { // more than the volume has room for
		return nil
	}
	b := &Backup{Group: group, At: at, sb: s, raw: raw, descs: make([]byte, groups*s.descSize)}
	if _, err := dev.ReadAt(b.descs, at/blockSize*blockSize+blockSize); err != nil {
		return nil
	}
	return b
}

// Restore plans the first superblock and the first copy of the group
// descriptors anew from a backup. What the backup does not know, since the
// kernel writes it rarely, such as free counts, a check of the file system
// puts right afterwards.
func (b *Backup) Restore(dev io.ReaderAt) ([]block.Write, error) {
	raw := bytes.Clone(b.raw)
	le := binary.LittleEndian
	le.PutUint16(raw[sbBlockGroup:], 0)
	if b.sb.checks() {
		le.PutUint32(raw[sbChecksum:], sum(^uint32(0), raw[:sbChecksum]))
	}
	descsAt := (b.sb.firstBlock + 1) * b.sb.blockSize
	planned := []block.Write{
		{Off: superAt, Data: raw, What: "first superblock"},
		{Off: descsAt, Data: b.descs, What: "group descriptors"},
	}
	meta, err := b.metaDescs(dev)
	if err != nil {
		return nil, err
	}
	var list []block.Write
	for _, w := range append(planned, meta...) {
		now := make([]byte, len(w.Data))
		if _, err := dev.ReadAt(now, w.Off); err != nil {
			return nil, fmt.Errorf("ext: read at byte %d: %w", w.Off, err)
		}
		if !bytes.Equal(now, w.Data) {
			list = append(list, w)
		}
	}
	return list, nil
}

// metaDescs plans the blocks of descriptors that stand in their own groups and
// are damaged, from the copy that the group behind keeps. A sound one is newer
// than its copy.
func (b *Backup) metaDescs(dev io.ReaderAt) ([]block.Write, error) {
	var list []block.Write
	for first := b.sb.firstMeta * b.sb.descsPerBlock(); first+1 < b.sb.groups(); first += b.sb.descsPerBlock() {
		n := min(b.sb.descsPerBlock(), b.sb.groups()-first) * b.sb.descSize
		now, kept := make([]byte, n), make([]byte, n)
		for at, into := range map[int64][]byte{b.sb.metaDescs(first): now, b.sb.metaDescs(first + 1): kept} {
			if _, err := dev.ReadAt(into, at*b.sb.blockSize); err != nil {
				return nil, fmt.Errorf("ext: read the descriptors of group %d: %w", first, err)
			}
		}
		if !b.sb.plausible(now) && b.sb.plausible(kept) {
			list = append(list, block.Write{
				Off:  b.sb.metaDescs(first) * b.sb.blockSize,
				Data: kept,
				What: fmt.Sprintf("descriptors of group %d and those behind it", first),
			})
		}
	}
	return list, nil
}

// plausible reports whether all that descriptors point to lies on the volume.
func (s super) plausible(descs []byte) bool {
	for ; len(descs) > 0; descs = descs[s.descSize:] {
		for _, at := range []int{gdBlocksLow, gdInodesLow, gdTableLow} {
			to := int64(binary.LittleEndian.Uint32(descs[at:]))
			if s.incompat&incompat64 != 0 && s.descSize >= 64 {
				to |= int64(binary.LittleEndian.Uint32(descs[at+gdTableHigh-gdTableLow:])) << 32
			}
			if to <= s.firstBlock || to >= s.blocks {
				return false
			}
		}
	}
	return true
}
