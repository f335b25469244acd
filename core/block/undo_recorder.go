package block

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
)

// ErrCannotResume means that a journal knows only the way back.
var ErrCannotResume = errors.New("can only be taken back or begun anew")

// keptSize is the unit in which a UndoRecorder keeps what was there, in bytes.
const keptSize = 1 << 20

// A UndoRecorder is a device that keeps in a journal what stands on another, piece by
// piece, before it first writes to a piece. It is for changes too large to be
// planned as a whole. Such a change can be undone and not resumed. It is not
// safe for use by several goroutines.
type UndoRecorder struct {
	Device
	journal *Journal
	kept    map[int64]bool
}

// Keep begins a change of dev, whose journal's head must say that it keeps.
func (j *Journal) Keep(dev Device) (*UndoRecorder, error) {
	if j.state != Recorded || len(j.writes) > 0 || !j.head.Keeps {
		return nil, fmt.Errorf(
			"journal %s: is %s and holds %d changes; a journal is for one change", j.name, j.state, len(j.writes),
		)
	}
	return &UndoRecorder{dev, j, map[int64]bool{}}, j.mark(kindCommitted, Committed)
}

// WriteAt writes when what stands there is safe in the journal.
func (k *UndoRecorder) WriteAt(p []byte, off int64) (int, error) {
	noted := false
	for at := off / keptSize * keptSize; at < off+int64(len(p)) && at < k.Size(); at += keptSize {
		if k.kept[at] {
			continue
		}
		if err := k.journal.keep(k.Device, at, int(min(keptSize, k.Size()-at))); err != nil {
			return 0, err
		}
		k.kept[at], noted = true, true
	}
	if noted {
		if err := k.journal.sync(); err != nil {
			return 0, err
		}
		if err := k.journal.writeSeal(Committed, nil); err != nil { // one that lags is no harm
			return 0, err
		}
	}
	return k.Device.WriteAt(p, off)
}

// Done ends the change: what stands now is remembered, so that an undo can tell
// whether somebody else wrote there since.
func (k *UndoRecorder) Done(ctx context.Context) error {
	if err := k.Sync(); err != nil {
		return fmt.Errorf("make the change durable: %w", err)
	}
	sum, err := k.journal.digest(ctx, k.Device)
	if err != nil {
		return err
	}
	if err := k.journal.sealAs(Applied, sum); err != nil {
		return err
	}
	if err := k.journal.append(kindApplied, sum); err != nil {
		return err
	}
	k.journal.state, k.journal.finalDigest = Applied, sum
	return k.journal.sync()
}

// keep appends what stands at off. A piece of zeros, as a new stick is full of,
// takes no room.
func (j *Journal) keep(dev Device, off int64, n int) error {
	body := binary.LittleEndian.AppendUint64(nil, uint64(off))
	body = binary.LittleEndian.AppendUint32(body, uint32(n))
	was := make([]byte, n)
	if _, err := dev.ReadAt(was, off); err != nil {
		return fmt.Errorf("journal %s: read what stands at byte %d: %w", j.name, off, err)
	}
	if len(bytes.Trim(was, "\x00")) > 0 {
		body = append(body, was...)
	}
	at := j.end + recordHead
	if err := j.append(kindKept, body); err != nil {
		return err
	}
	j.writes = append(j.writes, indexKept(body, at))
	j.remember()
	return nil
}

// digest is over what stands on dev wherever the journal kept something.
func (j *Journal) digest(ctx context.Context, dev Device) ([]byte, error) {
	pieces := slices.Clone(j.writes)
	slices.SortFunc(pieces, func(a, b noted) int { return int((a.off - b.off) / keptSize) })
	sum := sha256.New()
	for _, w := range pieces {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		now := make([]byte, w.length)
		if _, err := dev.ReadAt(now, w.off); err != nil {
			return nil, fmt.Errorf("read back at byte %d: %w", w.off, err)
		}
		_, _ = sum.Write(now) // a hash takes all
	}
	return sum.Sum(nil), nil
}

// release checks that dev is as Done left it, and notes that from now on it may
// be anything: an undo that is cut off begins anew. After a cut of the change
// itself nobody can know how it is.
func (j *Journal) release(ctx context.Context, dev Device) error {
	if j.state != Applied {
		return nil
	}
	sum, err := j.digest(ctx, dev)
	if err != nil {
		return err
	}
	if !bytes.Equal(sum, j.finalDigest) {
		return fmt.Errorf("journal %s: what stands there is not what %s left: %w", j.name, j.head.Action, ErrChangedSince)
	}
	return j.mark(kindCommitted, Committed)
}
