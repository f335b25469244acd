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

// Restore plans the first superblock anew from a backup, and those group descriptors that are damaged. Descriptors that
// are sound stay: copies are as old as the file system. What is free is counted, and whether the journal has to be
// replayed is taken from the journal itself. The volume is marked as not checked, so that its own check looks at it.
func (b *Backup) Restore(dev io.ReaderAt) ([]block.Write, error) {
	raw := bytes.Clone(b.raw)
	le := binary.LittleEndian
	le.PutUint16(raw[sbBlockGroup:], 0)
	list, freeBlocks, freeInodes, err := b.mended(dev)
	if err != nil {
		return nil, err
	}
	le.PutUint32(raw[sbFreeLow:], uint32(freeBlocks))
	if b.sb.incompat&incompat64 != 0 {
		le.PutUint32(raw[sbFreeHigh:], uint32(freeBlocks>>32))
	}
	le.PutUint32(raw[sbFreeNodes:], uint32(freeInodes))
	le.PutUint16(raw[sbState:], le.Uint16(raw[sbState:])&^stateClean)
	if b.journalWaits(dev, raw, list) {
		le.PutUint32(raw[sbIncompat:], le.Uint32(raw[sbIncompat:])|incompatRecover)
	}
	if b.sb.checks() {
		le.PutUint32(raw[sbChecksum:], sum(^uint32(0), raw[:sbChecksum]))
	}
	now := make([]byte, superSize)
	if _, err := dev.ReadAt(now, superAt); err != nil {
		return nil, fmt.Errorf("ext: read at byte %d: %w", superAt, err)
	}
	if !bytes.Equal(now, raw) {
		list = append([]block.Write{{Off: superAt, Data: raw, What: "first superblock"}}, list...)
	}
	return list, nil
}

// journalWaits reports whether the journal holds what is to be replayed. A volume that is said to be clean while it
// does would lose what was written last.
func (b *Backup) journalWaits(dev io.ReaderAt, raw []byte, writes []block.Write) bool {
	mended := block.NewDraftOver(dev)
	for _, w := range writes {
		if _, err := mended.WriteAt(w.Data, w.Off); err != nil {
			return false
		}
	}
	f := &FS{dev: mended, sb: b.sb}
	r, err := f.readJournal(raw)
	return r != nil && (err != nil || len(r.blocks) > 0)
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
