package block_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"diorthos/core/block"
)

// disk is a device in memory that loses power at a given write.
type disk struct {
	data  []byte
	power *power
}

// power counts writes to disk and journal alike, and fails the n-th half-way.
type power struct{ left int }

var errPower = errors.New("power lost")

// use reports how much of a write still arrives.
func (p *power) use(n int) (int, error) {
	if p == nil || p.left < 0 {
		return n, nil
	}
	if p.left == 0 {
		return n / 2, errPower
	}
	p.left--
	return n, nil
}

func (d *disk) ReadAt(p []byte, off int64) (int, error) {
	return bytes.NewReader(d.data).ReadAt(p, off)
}
func (d *disk) Size() int64     { return int64(len(d.data)) }
func (d *disk) SectorSize() int { return 512 }
func (d *disk) Sync() error     { _, err := d.power.use(0); return err }
func (d *disk) WriteAt(p []byte, off int64) (int, error) {
	n, err := d.power.use(len(p))
	copy(d.data[off:], p[:n])
	return n, err
}

// paper is a journal's file that loses power with the disk.
type paper struct {
	*os.File
	power *power
}

func (p *paper) Write(b []byte) (int, error) {
	n, err := p.power.use(len(b))
	if _, werr := p.File.Write(b[:n]); werr != nil {
		return 0, werr
	}
	return n, err
}

func (p *paper) Sync() error { _, err := p.power.use(0); return err }

func writes(seed uint64) []block.Write {
	r := rand.New(rand.NewPCG(seed, 1))
	var list []block.Write
	for i := range 6 {
		data := make([]byte, 100+r.IntN(1500))
		for k := range data {
			data[k] = byte(r.Uint32())
		}
		list = append(list, block.Write{Off: int64(r.IntN(14_000)), Data: data, What: fmt.Sprintf("piece %d", i)})
	}
	return list
}

func original() []byte {
	data := make([]byte, 16<<10)
	for i := range data {
		data[i] = byte(i * 7)
	}
	return data
}

func after(list []block.Write) []byte {
	data := original()
	for _, w := range list {
		copy(data[w.Off:], w.Data)
	}
	return data
}

// cutOff applies the writes with power for n of them, and returns the disk as
// it was left and where the journal lies. ended says that power sufficed.
func cutOff(t *testing.T, list []block.Write, n int) (d *disk, path string, ended bool) {
	t.Helper()
	d = &disk{data: original(), power: &power{left: n}}
	path = filepath.Join(t.TempDir(), "j")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	head := block.Head{Action: "test", Target: block.Target{Size: d.Size(), SectorSize: 512}, Started: time.Unix(0, 0)}
	j, err := block.NewJournal(&paper{f, d.power}, path, head)
	if err == nil {
		err = j.Apply(context.Background(), d, list)
	}
	if err != nil && !errors.Is(err, errPower) {
		t.Fatal(err)
	}
	d.power = nil
	return d, path, err == nil
}

func TestCutOffAtEveryWriteCanBeUndoneAndResumed(t *testing.T) {
	list := writes(7)
	for n := 0; ; n++ {
		d, path, ended := cutOff(t, list, n)
		left := bytes.Clone(d.data)
		j, err := block.OpenJournal(path)
		if err != nil { // cut off before the journal's head was whole
			if !errors.Is(err, block.ErrDamaged) || !bytes.Equal(d.data, original()) {
				t.Fatalf("write %d: %v; disk untouched: %t", n, err, bytes.Equal(d.data, original()))
			}
			continue
		}
		if err := j.Resume(context.Background(), d); err != nil {
			t.Fatalf("write %d: resume: %v", n, err)
		}
		want := after(list)
		if j.State() == block.Recorded {
			want = original()
		}
		if !bytes.Equal(d.data, want) {
			t.Fatalf("write %d: resumed disk differs (%s)", n, j.State())
		}
		_ = j.Close()

		d2, path2, _ := cutOff(t, list, n)
		if !bytes.Equal(left, d2.data) {
			t.Fatal("the same cut leaves different disks")
		}
		undoAtEveryWrite(t, d2, path2, original())
		if ended {
			t.Logf("%d places to cut", n)
			return
		}
	}
}

func TestAJournalWhoseEndIsZerosWasCutOff(t *testing.T) {
	d, path, _ := cutOff(t, writes(2), 5)
	text, err := os.ReadFile(path)
	if err == nil {
		err = os.WriteFile(path, append(text, make([]byte, 4096)...), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	undoAtEveryWrite(t, d, path, original())
}

// undoAtEveryWrite cuts the undo off as well, again and again, each time a
// write later, until it ends.
func undoAtEveryWrite(t *testing.T, d *disk, path string, was []byte) {
	t.Helper()
	for n := 0; ; n++ {
		d.power = &power{left: n}
		j, err := block.OpenJournal(path)
		if err != nil {
			t.Fatal(err)
		}
		err = j.Undo(context.Background(), d)
		_ = j.Close()
		if err == nil {
			break
		}
		if !errors.Is(err, errPower) {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(d.data, was) {
		t.Fatal("undone disk differs")
	}
}

func TestUndoRefusesADiskThatWasChangedSince(t *testing.T) {
	list := writes(3)
	d, path, _ := cutOff(t, list, -1)
	at := list[len(list)-1].Off + 5 // bytes that neither image has
	for d.data[at] == original()[at] || d.data[at] == after(list)[at] {
		d.data[at]++
	}
	before := bytes.Clone(d.data)
	j, err := block.OpenJournal(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = j.Close() }()
	if err := j.Undo(context.Background(), d); !errors.Is(err, block.ErrChangedSince) || !bytes.Equal(before, d.data) {
		t.Errorf("got %v; untouched: %t", err, bytes.Equal(before, d.data))
	}
	other := &disk{data: make([]byte, 32<<10)}
	if err := j.Undo(context.Background(), other); !errors.Is(err, block.ErrNotThisDisk) {
		t.Errorf("another disk: %v", err)
	}
}

func TestADamagedJournalIsRefused(t *testing.T) {
	_, path, _ := cutOff(t, writes(5), -1)
	good, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for at := 0; at < len(good); at += 13 {
		bad := bytes.Clone(good)
		bad[at] ^= 0x40
		if err := os.WriteFile(path, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		j, err := block.OpenJournal(path)
		if err == nil {
			t.Errorf("byte %d altered and nobody noticed: %s", at, j.State())
			_ = j.Close()
		} else if !errors.Is(err, block.ErrDamaged) {
			t.Errorf("byte %d: %v", at, err)
		}
	}
}

func FuzzReadJournal(f *testing.F) {
	f.Add([]byte("diorthos journal 1\n"))
	if good, err := os.ReadFile("testdata/applied.journal"); err == nil {
		f.Add(good)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		path := filepath.Join(t.TempDir(), "j")
		if err := os.WriteFile(path, raw, 0o600); err != nil {
			t.Fatal(err)
		}
		j, err := block.OpenJournal(path)
		if err != nil {
			return
		}
		d := &disk{data: original()}
		if err := j.Undo(context.Background(), d); err != nil && !bytes.Equal(d.data, original()) && !errors.Is(err, io.EOF) {
			t.Errorf("undo failed with %v and left its mark", err)
		}
		_ = j.Close()
	})
}

// A change that is kept piece by piece is cut off at every write of disk and
// journal, with some pieces of zeros; what was there always comes back.
func TestWhatAKeeperKeptComesBackAfterEveryCut(t *testing.T) {
	const size = 5<<20 + 512
	was := make([]byte, size) // the third piece is zeros
	r := rand.New(rand.NewPCG(3, 3))
	for i := range was {
		if i>>20 != 2 {
			was[i] = byte(r.Uint32())
		}
	}
	for n := 0; ; n++ {
		d := &disk{data: bytes.Clone(was), power: &power{left: n}}
		path := filepath.Join(t.TempDir(), "j")
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		err = overwrite(d, f, path)
		if err != nil && !errors.Is(err, errPower) {
			t.Fatal(err)
		}
		d.power = nil
		left := bytes.Clone(d.data)
		j, opened := block.OpenJournal(path)
		if opened != nil {
			if err == nil || !bytes.Equal(d.data, was) {
				t.Fatalf("write %d: %v", n, opened)
			}
			continue
		}
		if j.State() == block.Committed {
			if err := j.Resume(context.Background(), d); !errors.Is(err, block.ErrCannotResume) || !bytes.Equal(d.data, left) {
				t.Fatalf("write %d: resumed: %v", n, err)
			}
		}
		undoAtEveryWrite(t, d, path, was)
		if err == nil {
			if info, _ := os.Stat(path); info.Size() > size-(1<<20)+4096 {
				t.Errorf("the journal has %d bytes: zeros were kept", info.Size())
			}
			refusedIfWrittenSince(t, path, left)
			return
		}
	}
}

func overwrite(d *disk, f *os.File, path string) error {
	defer func() { _ = f.Close() }()
	j, err := block.NewJournal(&paper{f, d.power}, path, block.Head{
		Action:  "test",
		Keeps:   true,
		Target:  block.Target{Size: d.Size(), SectorSize: 512},
		Started: time.Unix(0, 0),
	})
	if err != nil {
		return err
	}
	k, err := j.Keep(d)
	if err != nil {
		return err
	}
	for _, w := range []struct {
		off int64
		n   int
	}{{1 << 20, 3 << 20}, {100, 50}, {1<<20 + 7, 4000}, {5<<20 + 500, 12}, {1<<20 - 10, 20}} {
		if _, err := k.WriteAt(bytes.Repeat([]byte{0xa5}, w.n), w.off); err != nil {
			return err
		}
	}
	return k.Done(context.Background())
}

// refusedIfWrittenSince takes the journal of an undone change for a copy of the
// disk as the change left it, less one byte.
func refusedIfWrittenSince(t *testing.T, path string, left []byte) {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	const undone = 2 * 13 // the last records: armed again, and undone
	if err := os.WriteFile(path, raw[:len(raw)-undone], 0o600); err != nil {
		t.Fatal(err)
	}
	for at, want := range map[int]error{4 << 20: nil, 1<<20 + 1: block.ErrChangedSince, 5<<20 + 1: block.ErrChangedSince} {
		j, err := block.OpenJournal(path)
		if err != nil {
			t.Fatal(err)
		}
		d := &disk{data: bytes.Clone(left)}
		d.data[at] ^= 0xff
		if err := j.Undo(context.Background(), d); !errors.Is(err, want) {
			t.Errorf("byte %d was written since: %v", at, err)
		}
		if want == nil {
			if err := os.WriteFile(path, raw[:len(raw)-undone], 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
}
