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

func (p *paper) WriteAt(b []byte, off int64) (int, error) {
	n, err := p.power.use(len(b))
	if n < len(b) {
		n = 0 // a sector is written whole or not at all
	}
	if _, werr := p.File.WriteAt(b[:n], off); werr != nil {
		return 0, werr
	}
	return n, err
}

// papers makes the files of a journal at path.
func papers(t *testing.T, path string, power *power) (journal, seal *paper) {
	t.Helper()
	var list []*paper
	for _, name := range []string{path, path + block.SealSuffix} {
		f, err := os.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, &paper{f, power})
	}
	return list[0], list[1]
}

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
	f, seal := papers(t, path, d.power)
	defer func() { _, _ = f.Close(), seal.Close() }()
	head := block.Head{Action: "test", Target: block.Target{Size: d.Size(), SectorSize: 512}, Started: time.Unix(0, 0)}
	j, err := block.NewJournal(f, seal, path, head)
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

// What was done and lost from the journal is never "nothing to take back": whatever
// its length, and whichever of its bits differs, it undoes exactly or refuses and writes nothing.
func TestEveryTruncationAndEveryFlippedBitIsUndoneExactlyOrRefused(t *testing.T) {
	list := writes(9)
	changes := map[string]struct {
		was []byte
		do  func(t *testing.T, path string) *disk
	}{
		"planned": {original(), func(t *testing.T, path string) *disk {
			d, at, _ := cutOff(t, list, -1)
			for _, suffix := range []string{"", block.SealSuffix} {
				if err := os.Rename(at+suffix, path+suffix); err != nil {
					t.Fatal(err)
				}
			}
			return d
		}},
		"kept": {make([]byte, 5<<20+512), func(t *testing.T, path string) *disk {
			d := &disk{data: make([]byte, 5<<20+512)}
			if err := overwrite(t, d, path); err != nil {
				t.Fatal(err)
			}
			return d
		}},
	}
	for name, c := range changes {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "j")
			changed := c.do(t, path)
			read := func(suffix string) []byte {
				raw, err := os.ReadFile(path + suffix)
				if err != nil {
					t.Fatal(err)
				}
				return raw
			}
			journal, seal := read(""), read(block.SealSuffix)
			undone, refused := 0, 0
			try := func(what string, journal, seal []byte) {
				t.Helper()
				err := errors.Join(os.WriteFile(path, journal, 0o600), os.WriteFile(path+block.SealSuffix, seal, 0o600))
				if seal == nil {
					err = errors.Join(err, os.Remove(path+block.SealSuffix))
				}
				if err != nil {
					t.Fatal(err)
				}
				d := &disk{data: bytes.Clone(changed.data)}
				j, err := block.OpenJournal(path)
				if err == nil {
					err = j.Undo(context.Background(), d)
					_ = j.Close()
				}
				switch {
				case err == nil && bytes.Equal(d.data, c.was):
					undone++
				case err != nil && bytes.Equal(d.data, changed.data):
					refused++
				default:
					t.Errorf("%s: %v, and the disk is neither as before nor as it was left", what, err)
				}
			}
			for n := 0; n < len(journal); n += 7 + len(changed.data)/(1<<17) {
				try(fmt.Sprintf("cut to %d bytes", n), journal[:n], seal)
			}
			for n := 0; n < len(journal); n += 3 + len(journal)/700 {
				try(fmt.Sprintf("cut to %d bytes, no seal", n), journal[:n], nil)
				bad := bytes.Clone(journal)
				bad[n] ^= 1 << (n % 8)
				try(fmt.Sprintf("bit %d of byte %d", n%8, n), bad, seal)
			}
			for n := 0; n < len(seal); n += 3 + len(changed.data)/(1<<17) {
				bad := bytes.Clone(seal)
				bad[n] ^= 1 << (n % 8)
				try(fmt.Sprintf("seal, byte %d", n), journal, bad)
				try(fmt.Sprintf("seal cut to %d", n), journal, seal[:n])
			}
			t.Logf("%d undone exactly, %d refused", undone, refused)
			if undone == 0 || refused == 0 {
				t.Error("the test tries nothing")
			}
		})
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
		err := overwrite(t, d, path)
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

func overwrite(t *testing.T, d *disk, path string) error {
	f, seal := papers(t, path, d.power)
	defer func() { _, _ = f.Close(), seal.Close() }()
	j, err := block.NewJournal(f, seal, path, block.Head{
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
	if err := os.Remove(path + block.SealSuffix); err != nil {
		t.Fatal(err)
	}
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
