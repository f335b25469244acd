package block

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"
)

// A Write is one planned change: Data shall stand at byte offset Off.
// What says in a technician's words what the bytes are.
type Write struct {
	Off  int64
	Data []byte
	What string
}

// A Head says what a journal is about. It is the journal's first record.
type Head struct {
	Action  string    `json:"action"`            // the typed action, such as "layout.mend-primary-gpt"
	Machine string    `json:"machine,omitempty"` // whose disk it is
	Case    int64     `json:"case,omitempty"`    // the case that asked for it, 0 for none
	Rung    string    `json:"rung,omitempty"`    // the remedy that asked for it
	Number  int       `json:"number,omitempty"`  // of the rung on the case's ladder
	Target  Target    `json:"target"`            // what is changed
	Started time.Time `json:"started"`
	Keeps   bool      `json:"keeps,omitempty"` // it holds the way back only
	// Files says which paths have which places, where files of a folder are changed, and not a disk.
	Files []Place `json:"files,omitempty"`
}

// A Place is where what a path is stands, in a space of bytes that takes the place of a disk.
type Place struct {
	Path   string `json:"path"`
	Off    int64  `json:"off"`
	Length int64  `json:"length"` // bytes
	// Was and Will are the time of a folder before and after, in nanoseconds since 1970.
	Was  int64 `json:"was,omitempty"`
	Will int64 `json:"will,omitempty"`
}

// A Target tells one disk from all others by what it holds, not by the name
// it happens to have today.
type Target struct {
	Path       string   `json:"path"`       // where it was; may differ at the next start
	Size       int64    `json:"size"`       // bytes
	SectorSize int      `json:"sectorSize"` // bytes
	Marks      []string `json:"marks"`      // disk and partition GUIDs, file-system UUIDs
}

// A State is how far a journalled change came.
type State string

// The states of a journal, in the order in which it passes through them.
const (
	Recorded  State = "recorded"  // before-images may be there; the disk is untouched
	Committed State = "committed" // everything is noted; some, all or none of it is written
	Applied   State = "applied"   // all of it is written and durable
	Undone    State = "undone"    // all of it is taken back and durable
)

var (
	// ErrDamaged means that the journal itself cannot be trusted.
	ErrDamaged = errors.New("journal is damaged")
	// ErrChangedSince means that the disk holds, where the journal wants to
	// write, bytes that are neither those from before nor those from after.
	ErrChangedSince = errors.New("disk was changed since")
	// ErrNotThisDisk means that the disk is not the one the journal is about.
	ErrNotThisDisk = errors.New("not the journal's disk")
	// ErrCutShort means that a journal knows less than was done: the disk holds changes
	// of which the journal says that they were not made, or it cannot tell.
	ErrCutShort = errors.New("the journal was cut short")
)

// File is what a journal is kept in; *os.File is one.
type File interface {
	io.Writer
	io.ReaderAt
	Sync() error
	Close() error
}

// A Journal takes the notes of one change. It is not safe for use by several
// goroutines.
type Journal struct {
	file        File
	name        string
	head        Head
	state       State
	chain       uint32 // checksum of the last record, which the next one includes
	end         int64  // where the next record goes
	writes      []noted
	finalDigest []byte // digest of what a change left that is kept only
	seal        SealFile
	notesEnd    int64  // where the last note of a change ends
	notesChain  uint32 // checksum of that note
	unsealed    bool   // it was read, and there is no seal to hold it against
	marks       []byte // records that its seal knows of and it lost
	// prepare makes the file ready for the first record that is added to one that
	// was read.
	prepare func() error
}

// noted is where in the journal the two images of one write stand.
type noted struct {
	off    int64 // on the device
	length int
	before int64 // in the journal
	after  int64
	what   string
}

// CreateJournal starts a journal in a new file at path. It refuses to write
// over an existing one. The file's entry in its folder is durable on return.
func CreateJournal(path string, head Head) (*Journal, error) {
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		if errors.Is(err, os.ErrExist) {
			return nil, fmt.Errorf("journal %s exists already: undo it, or name another with --journal: %w", path, err)
		}
		return nil, fmt.Errorf("start journal: %w", err)
	}
	seal, err := os.OpenFile(path+SealSuffix, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("start journal: %w", err), file.Close())
	}
	j, err := NewJournal(file, seal, path, head)
	if err == nil {
		err = SyncFolder(filepath.Dir(path))
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("start journal %s: %w", path, err), file.Close(), seal.Close())
	}
	return j, nil
}

// NewJournal starts a journal in file, which must be empty, and its seal. name is used
// in messages.
func NewJournal(file File, seal SealFile, name string, head Head) (*Journal, error) {
	j := &Journal{file: file, seal: seal, name: name, head: head, state: Recorded}
	body, err := json.Marshal(head)
	if err != nil {
		return nil, fmt.Errorf("journal %s: head: %w", name, err)
	}
	if _, err := file.Write([]byte(journalMagic)); err != nil {
		return nil, fmt.Errorf("journal %s: %w", name, err)
	}
	j.end = int64(len(journalMagic))
	if err := j.append(kindHead, body); err != nil {
		return nil, err
	}
	j.remember()
	if err := j.sealAs(Recorded, nil); err != nil {
		return nil, err
	}
	return j, j.sync()
}

// remember keeps where the notes end, as the seal will say it.
func (j *Journal) remember() { j.notesEnd, j.notesChain = j.end, j.chain }

// OpenJournal reads the journal at path and checks every record of it. A record
// that was being written when the machine stopped is left out: the disk was not
// yet touched on its account. The file is left as it is until something is
// added to it.
func OpenJournal(path string) (*Journal, error) { return openJournal(path, os.O_RDWR) }

// ReadJournal is OpenJournal for who only looks.
func ReadJournal(path string) (*Journal, error) { return openJournal(path, os.O_RDONLY) }

func openJournal(path string, flag int) (*Journal, error) {
	file, err := OpenRegular(path, flag)
	if err != nil {
		return nil, fmt.Errorf("open journal: %w", err)
	}
	j, err := readJournal(file, path)
	if err == nil {
		err = j.heldAgainst(readSeal(path))
	}
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	if flag == os.O_RDWR {
		seal, err := os.OpenFile(path+SealSuffix, os.O_RDWR, 0)
		switch {
		case err == nil:
			j.seal = seal
		case !errors.Is(err, os.ErrNotExist):
			return nil, errors.Join(fmt.Errorf("open journal: %w", err), file.Close())
		}
	}
	j.prepare = func() error { // what was cut off in the middle goes, once something is added
		if err := file.Truncate(j.end); err != nil {
			return fmt.Errorf("journal %s: %w", path, err)
		}
		if _, err := file.Seek(j.end, io.SeekStart); err != nil {
			return fmt.Errorf("journal %s: %w", path, err)
		}
		return j.appendLostMarks()
	}
	return j, nil
}

// Head says what the journal is about.
func (j *Journal) Head() Head { return j.head }

// State says how far the change came.
func (j *Journal) State() State { return j.state }

// Sealed reports whether there is a seal that the journal was held against. Of one that
// has none and notes nothing, it cannot be told whether it lost its end.
func (j *Journal) Sealed() bool { return !j.unsealed }

// Changes lists what the journal holds, in the order in which it was written.
// Data is left out, and pieces that were kept one behind the other are one.
func (j *Journal) Changes() []Write {
	var list []Write
	var length int64
	for i, w := range j.writes {
		if last := i - 1; j.head.Keeps && i > 0 && j.writes[last].off+int64(j.writes[last].length) == w.off {
			length += int64(w.length)
			list[len(list)-1].What = fmt.Sprintf("%s (%d bytes)", w.what, length)
			continue
		}
		length = int64(w.length)
		list = append(list, Write{Off: w.off, What: fmt.Sprintf("%s (%d bytes)", w.what, length)})
	}
	return list
}

// Close closes the journal's files. The journal stays usable on disk.
func (j *Journal) Close() error {
	if j.seal == nil {
		return j.file.Close()
	}
	return errors.Join(j.file.Close(), j.seal.Close())
}

// Apply notes what stands on dev where writes go, makes the notes durable,
// writes, and makes that durable. If it fails or is killed at any point, Undo
// restores dev exactly and Resume completes the change exactly.
func (j *Journal) Apply(ctx context.Context, dev Device, writes []Write) error {
	if j.state != Recorded || len(j.writes) > 0 {
		return fmt.Errorf(
			"journal %s: is %s and holds %d changes; a journal is for one change", j.name, j.state, len(j.writes),
		)
	}
	for _, w := range writes {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := j.note(dev, w); err != nil {
			return err
		}
	}
	if err := j.mark(kindCommitted, Committed); err != nil {
		return err
	}
	return j.write(dev)
}

// note records the images of one write.
func (j *Journal) note(dev Device, w Write) error {
	before := make([]byte, len(w.Data))
	if _, err := dev.ReadAt(before, w.Off); err != nil {
		return fmt.Errorf("journal %s: read what stands at byte %d: %w", j.name, w.Off, err)
	}
	body := writeRecord(w, before)
	at := j.end + recordHead
	if err := j.append(kindWrite, body); err != nil {
		return err
	}
	j.writes = append(j.writes, indexWrite(body, at))
	j.remember()
	return nil
}

// write brings every after-image onto dev. The caller has made sure that the
// journal is armed.
func (j *Journal) write(dev Device) error {
	for i := range j.writes {
		if err := j.put(dev, j.writes[i], j.writes[i].after); err != nil {
			return err
		}
	}
	if err := dev.Sync(); err != nil {
		return fmt.Errorf("make the change durable: %w", err)
	}
	return j.mark(kindApplied, Applied)
}

// Resume completes a change that was cut off. One whose notes were not
// complete has not begun: it is left at Recorded, and the caller plans anew.
func (j *Journal) Resume(ctx context.Context, dev Device) error {
	switch j.state {
	case Recorded, Applied:
		return nil
	case Undone:
		return fmt.Errorf("journal %s: the change was taken back; there is nothing to resume", j.name)
	}
	if j.head.Keeps {
		return fmt.Errorf("journal %s: %s %w", j.name, j.head.Action, ErrCannotResume)
	}
	if err := j.mayTouch(ctx, dev); err != nil {
		return err
	}
	return j.write(dev)
}

// Replay writes onto dev what the journal has noted for it to be after the
// change. It notes nothing: dev is a draft.
func (j *Journal) Replay(dev *Draft) error {
	for _, w := range j.writes {
		if err := j.put(dev, w, w.after); err != nil {
			return err
		}
	}
	return nil
}

// Rewind writes onto dev, a draft, what stood there before the change.
func (j *Journal) Rewind(dev *Draft) error {
	for i := len(j.writes) - 1; i >= 0; i-- {
		if err := j.put(dev, j.writes[i], j.writes[i].before); err != nil {
			return err
		}
	}
	return nil
}

// Undo brings dev back to the bytes from before the change. It may itself be
// cut off at any point and be started again. It refuses, before anything is
// written, when dev is not the disk of the journal or holds something else
// now.
func (j *Journal) Undo(ctx context.Context, dev Device) error {
	switch {
	case j.state == Undone:
		return nil
	case j.state == Recorded:
		return j.untouched(ctx, dev)
	case j.state == Committed && j.head.Keeps && j.unsealed:
		return fmt.Errorf(
			"journal %s was cut off and its seal is missing: whether it keeps all that %s wrote over cannot be told: %w",
			j.name, j.head.Action, ErrCutShort,
		)
	}
	if err := j.mayTouch(ctx, dev); err != nil {
		return err
	}
	for i := len(j.writes) - 1; i >= 0; i-- {
		if err := j.put(dev, j.writes[i], j.writes[i].before); err != nil {
			return err
		}
	}
	if err := dev.Sync(); err != nil {
		return fmt.Errorf("make the undo durable: %w", err)
	}
	return j.mark(kindUndone, Undone)
}

// untouched checks that nothing was written on account of a journal that says so: every
// place that it noted is as it was. Without a seal, one that noted nothing can have lost all.
func (j *Journal) untouched(ctx context.Context, dev Device) error {
	if j.unsealed && len(j.writes) == 0 {
		return fmt.Errorf(
			"journal %s notes no change, and its seal %s is missing: whether %s was carried out cannot be told from it: %w",
			j.name, filepath.Base(j.name)+SealSuffix, j.head.Action, ErrCutShort,
		)
	}
	if dev.Size() != j.head.Target.Size {
		return fmt.Errorf(
			"journal %s is about a disk of %d bytes, this one has %d: %w",
			j.name, j.head.Target.Size, dev.Size(), ErrNotThisDisk,
		)
	}
	for _, w := range j.writes {
		if err := ctx.Err(); err != nil {
			return err
		}
		now, was := make([]byte, w.length), make([]byte, w.length)
		if _, err := dev.ReadAt(now, w.off); err != nil {
			return fmt.Errorf("read %s at byte %d: %w", w.what, w.off, err)
		}
		if _, err := j.file.ReadAt(was, w.before); err != nil {
			return fmt.Errorf("journal %s: %w", j.name, err)
		}
		if !bytes.Equal(now, was) {
			return fmt.Errorf(
				"journal %s says that nothing was written, but %s at byte %d is not as it notes it: it was cut short, or "+
					"the disk was changed since: %w", j.name, w.what, w.off, ErrCutShort,
			)
		}
	}
	return nil
}

// mayTouch checks that dev is the journal's disk and that each byte it covers
// is one that the journal knows.
func (j *Journal) mayTouch(ctx context.Context, dev Device) error {
	if dev.Size() != j.head.Target.Size {
		return fmt.Errorf(
			"journal %s is about a disk of %d bytes, this one has %d: %w",
			j.name, j.head.Target.Size, dev.Size(), ErrNotThisDisk,
		)
	}
	if j.head.Keeps {
		return j.release(ctx, dev)
	}
	for i, w := range j.writes {
		if err := ctx.Err(); err != nil {
			return err
		}
		now := make([]byte, w.length)
		if _, err := dev.ReadAt(now, w.off); err != nil {
			return fmt.Errorf("read %s at byte %d: %w", w.what, w.off, err)
		}
		known, err := j.known(i, now)
		if err != nil {
			return err
		}
		if !known {
			return fmt.Errorf(
				"journal %s: %s at byte %d is neither as before nor as after the change: %w",
				j.name, w.what, w.off, ErrChangedSince,
			)
		}
	}
	return nil
}

// known reports whether each byte of now is one that write i, or another
// write over the same place, found or left there. A kill can tear a write
// anywhere, so a mixture is allowed.
func (j *Journal) known(i int, now []byte) (bool, error) {
	w := j.writes[i]
	good := make([]bool, w.length)
	for _, other := range j.writes {
		from, to := max(w.off, other.off), min(w.off+int64(w.length), other.off+int64(other.length))
		if from >= to {
			continue
		}
		for _, at := range []int64{other.before, other.after} {
			image := make([]byte, to-from)
			if _, err := j.file.ReadAt(image, at+from-other.off); err != nil {
				return false, fmt.Errorf("journal %s: %w", j.name, err)
			}
			for k := range image {
				here := int(from-w.off) + k
				good[here] = good[here] || image[k] == now[here]
			}
		}
	}
	return !bytes.Contains(boolBytes(good), []byte{0}), nil
}

func boolBytes(list []bool) []byte {
	out := make([]byte, len(list))
	for i, b := range list {
		if b {
			out[i] = 1
		}
	}
	return out
}

// put copies one image from the journal onto dev.
func (j *Journal) put(dev Device, w noted, image int64) error {
	data := make([]byte, w.length)
	if image != nowhere {
		if _, err := j.file.ReadAt(data, image); err != nil {
			return fmt.Errorf("journal %s: %w", j.name, err)
		}
	}
	if _, err := dev.WriteAt(data, w.off); err != nil {
		return fmt.Errorf("write %s at byte %d: %w", w.what, w.off, err)
	}
	return nil
}

// mark makes all notes durable, then adds a record of kind and makes it
// durable too.
func (j *Journal) mark(kind byte, state State) error {
	if err := j.sync(); err != nil {
		return err
	}
	if err := j.sealAs(state, nil); err != nil {
		return err
	}
	if err := j.append(kind, nil); err != nil {
		return err
	}
	if err := j.sync(); err != nil {
		return err
	}
	j.state = state
	return nil
}

// appendLostMarks writes the marks anew that the seal knows of and the journal lost.
func (j *Journal) appendLostMarks() error {
	marks := j.marks
	j.marks = nil
	for _, kind := range marks {
		var body []byte
		if kind == kindApplied {
			body = j.finalDigest
		}
		if err := j.append(kind, body); err != nil {
			return err
		}
	}
	return nil
}

func (j *Journal) append(kind byte, body []byte) error {
	if prepare := j.prepare; prepare != nil {
		j.prepare = nil
		if err := prepare(); err != nil {
			return err
		}
	}
	record, sum := sealRecord(j.chain, kind, body)
	if _, err := j.file.Write(record); err != nil {
		return fmt.Errorf("journal %s: %w", j.name, err)
	}
	j.chain = sum
	j.end += int64(len(record))
	return nil
}

func (j *Journal) sync() error {
	if err := j.file.Sync(); err != nil {
		return fmt.Errorf("journal %s: make durable: %w", j.name, err)
	}
	return nil
}

// SyncFolder makes the entries of a folder durable.
func SyncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	err = folder.Sync()
	return errors.Join(err, folder.Close())
}
