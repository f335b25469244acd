package layout_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"diorthos/core/block"
	"diorthos/core/ext"
	"diorthos/core/fat"
	"diorthos/core/layout"
)

var errPower = errors.New("the power went")

// mortal is a disk that loses power before its n-th write or sync.
type mortal struct {
	*block.Image
	left int
}

func (m *mortal) alive() error {
	if m.left--; m.left < 0 {
		return errPower
	}
	return nil
}

func (m *mortal) WriteAt(p []byte, off int64) (int, error) {
	if err := m.alive(); err != nil {
		return 0, err
	}
	return m.Image.WriteAt(p, off)
}

func (m *mortal) Sync() error {
	if err := m.alive(); err != nil {
		return err
	}
	return m.Image.Sync()
}

// damaged is a volume that another tool made, with bytes altered at some places.
func damaged(t *testing.T, size int64, at map[int64][]byte, tool string, args ...string) string {
	t.Helper()
	path := blank(t, size)
	oracle(t, "", tool, append(args, path)...)
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	for off, b := range at {
		poke(t, f, off, b...)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

// unsigned is a copy of a disk of whose sector 0 the last two bytes are gone.
func unsigned(t *testing.T, disk string) string {
	t.Helper()
	raw, err := os.ReadFile(disk)
	if err != nil {
		t.Fatal(err)
	}
	clear(raw[510:512])
	path := filepath.Join(t.TempDir(), "unsigned.img")
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// Every plan that changes a table or mends a volume, cut off at every single
// write: what the journal takes back is as before, and what it completes as
// without the cut.
func TestEveryChangeSurvivesACutAtEveryWrite(t *testing.T) {
	gpt := gptDisk(t, 4<<20)
	dos := blank(t, 8<<20)
	oracle(t, "label: dos\n2048,4096,83,*\n", "sfdisk", "--quiet", dos)
	spoilt := func(t *testing.T) string {
		path := gptDisk(t, 4<<20)
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		poke(t, f, 512, make([]byte, 4096)...)
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
		return path
	}
	for name, c := range map[string]struct {
		disk string
		plan planner
	}{
		"mend": {spoilt(t), func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
			return t.MendAll(layout.Mending{})
		}},
		"to gpt": {dos, func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
			r, err := t.Restyle(layout.Restyling{To: layout.StyleGPT, Firmware: "bios", NewGUID: guids(1)})
			if err != nil {
				return nil, err
			}
			return r.Writes, nil
		}},
		"to mbr": {gpt, func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
			r, err := t.Restyle(layout.Restyling{To: layout.StyleMBR})
			if err != nil {
				return nil, err
			}
			return r.Writes, nil
		}},
		"sign":     {unsigned(t, dos), func(t *layout.Table, _ *block.Image) ([]block.Write, error) { return t.SignMBR() }},
		"rebuild":  {gpt, func(t *layout.Table, _ *block.Image) ([]block.Write, error) { return t.Rebuild(nil, guids(1)) }},
		"wipe":     {gpt, func(t *layout.Table, _ *block.Image) ([]block.Write, error) { return t.EmptyMBR(7), nil }},
		"activate": {dos, func(t *layout.Table, _ *block.Image) ([]block.Write, error) { return t.Activate(0) }},
		"carve": {dos, func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
			entries, err := t.Allocate([]layout.PartitionRequest{{
				Name:  "system",
				Type:  layout.TypeLinux,
				Min:   1 << 20,
				Share: 1,
			}}, guids(3))
			if err != nil {
				return nil, err
			}
			return t.Rebuild(entries, guids(1))
		}},
		"mend FAT": {damaged(t, 4<<20, map[int64][]byte{
			0:           make([]byte, 11),
			32*512 + 30: bytes.Repeat([]byte{0x22}, 900),
		}, "mkfs.vfat", "-F", "32", "-s", "1"), func(_ *layout.Table, dev *block.Image) ([]block.Write, error) {
			report, err := fat.Check(dev)
			if err != nil {
				return nil, err
			}
			return report.Writes, nil
		}},
		"restore ext": {
			damaged(t, 9<<20, map[int64][]byte{1024: make([]byte, 3072)}, "mke2fs", "-q", "-F", "-b", "1024"),
			func(_ *layout.Table, dev *block.Image) ([]block.Write, error) {
				b, err := ext.FindBackup(dev, dev.Size())
				if err != nil {
					return nil, err
				}
				return b.Restore(dev)
			},
		},
	} {
		before, err := os.ReadFile(c.disk)
		if err != nil {
			t.Fatal(err)
		}
		cuts := 0
		var whole []byte
		for n := 1000; ; n = cuts { // the first run is not cut
			path, journal := filepath.Join(t.TempDir(), "disk.img"), filepath.Join(t.TempDir(), "j")
			after, done := cut(t, path, journal, before, c.plan, n)
			if n == 1000 {
				if !done {
					t.Fatalf("%s: cut after 1000 writes", name)
				}
				whole = after
				continue
			}
			if done {
				break
			}
			cuts++
			for _, resume := range []bool{true, false} {
				if got, want := settle(t, path, journal, resume), map[bool][]byte{
					true:  whole,
					false: before,
				}[resume]; got != nil && !bytes.Equal(got, want) {
					t.Errorf("%s, cut at write %d: resume %t: not what it should be", name, n, resume)
				}
			}
		}
		if cuts < 2 {
			t.Errorf("%s: only %d cuts", name, cuts)
		}
	}
}

// A planner plans a change of a disk.
type planner func(*layout.Table, *block.Image) ([]block.Write, error)

// cut applies a plan on a disk that lives for n writes and syncs.
func cut(t *testing.T, path, journal string, before []byte, plan planner, n int) (after []byte, done bool) {
	t.Helper()
	if err := os.WriteFile(path, before, 0o600); err != nil {
		t.Fatal(err)
	}
	image, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = image.Close() }()
	table, err := layout.Read(image)
	if err != nil {
		t.Fatal(err)
	}
	writes, err := plan(table, image)
	if err != nil {
		t.Fatal(err)
	}
	j, err := block.CreateJournal(journal, block.Head{
		Action:  "test",
		Target:  table.Target(path),
		Started: time.Unix(1_795_000_000, 0),
	})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = j.Close() }()
	err = j.Apply(t.Context(), &mortal{image, n}, writes)
	if err != nil && !errors.Is(err, errPower) {
		t.Fatal(err)
	}
	after, failed := os.ReadFile(path)
	if failed != nil {
		t.Fatal(failed)
	}
	return after, err == nil
}

// settle resumes or undoes on a copy, and returns the disk; nil when there was
// nothing to resume, since nothing had been written.
func settle(t *testing.T, path, journal string, resume bool) []byte {
	t.Helper()
	dir := t.TempDir()
	for from, to := range map[string]string{path: "disk", journal: "journal"} {
		raw, err := os.ReadFile(from)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, to), raw, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	image, err := block.OpenImage(filepath.Join(dir, "disk"), 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = image.Close() }()
	j, err := block.OpenJournal(filepath.Join(dir, "journal"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = j.Close() }()
	if resume && j.State() == block.Recorded {
		return nil
	}
	if resume {
		err = j.Resume(t.Context(), image)
	} else {
		err = j.Undo(t.Context(), image)
	}
	if err != nil {
		t.Fatalf("resume %t: %v", resume, err)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "disk"))
	if err != nil {
		t.Fatal(err)
	}
	return raw
}
