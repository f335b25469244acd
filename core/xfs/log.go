package xfs

import (
	"fmt"
)

// The log: blocks of 512 bytes, written round and round. The first four bytes of each are the number of the round, or,
// at the head of a record, a mark that is followed by it.
const (
	logBlock     = 512
	logMagic     = 0xfeedbabe
	logOf        = 8 // version of a record
	logOps       = 40
	logRecord    = 320 // bytes of a record, at the most
	logHeadHolds = 32 << 10
	logUnmounted = 0x20
	logBigHeads  = 2
)

// NeedsRecovery reports whether the volume was not closed properly: its log may hold what was not written elsewhere.
// A log on another device is not looked at.
func (f *FS) NeedsRecovery() (bool, error) {
	g := f.geometry
	if g.logStart == 0 || g.logBlocks == 0 {
		return false, nil
	}
	at, err := g.blockAt(g.logStart)
	if err != nil {
		return false, fmt.Errorf("log: %w", err)
	}
	l := log{f: f, at: at, blocks: g.logBlocks * g.blockSize / logBlock}
	head, err := l.head()
	if err != nil {
		return false, err
	}
	return l.open(head)
}

type log struct {
	f      *FS
	at     int64 // bytes
	blocks int64
}

func (l log) block(n int64) ([]byte, error) {
	b := make([]byte, logBlock)
	if _, err := l.f.dev.ReadAt(b, l.at+n*logBlock); err != nil {
		return nil, fmt.Errorf("xfs: read the log: %w", err)
	}
	return b, nil
}

func (l log) round(n int64) (uint32, error) {
	b, err := l.block(n)
	if err != nil {
		return 0, err
	}
	if be.Uint32(b) == logMagic {
		return be.Uint32(b[4:]), nil
	}
	return be.Uint32(b), nil
}

// head is the block that is written next: the first of an earlier round than the log's first block.
func (l log) head() (int64, error) {
	first, err := l.round(0)
	if err != nil {
		return 0, err
	}
	low, high := int64(0), l.blocks // low is of the first round, high is not
	for high-low > 1 {
		middle := low + (high-low)/2
		round, err := l.round(middle)
		if err != nil {
			return 0, err
		}
		if round == first {
			low = middle
		} else {
			high = middle
		}
	}
	return high % l.blocks, nil
}

// longestRecord is how far a record's head can lie before its end, in blocks.
const longestRecord = 256<<10/logBlock + 16

// open reports whether the last record before the head says anything but that the volume was unmounted.
func (l log) open(head int64) (bool, error) {
	for back := int64(1); back <= min(longestRecord, l.blocks); back++ {
		at := (head - back + l.blocks) % l.blocks
		b, err := l.block(at)
		if err != nil {
			return false, err
		}
		if be.Uint32(b) != logMagic {
			continue
		}
		heads := int64(1)
		if size := int64(be.Uint32(b[logRecord:])); be.Uint32(b[logOf:])&logBigHeads != 0 && size > logHeadHolds {
			heads = (size + logHeadHolds - 1) / logHeadHolds
		}
		if be.Uint32(b[logOps:]) != 1 || heads+1 != back {
			return true, nil
		}
		op, err := l.block((at + heads) % l.blocks)
		if err != nil {
			return false, err
		}
		return op[9]&logUnmounted == 0, nil
	}
	return true, nil
}
