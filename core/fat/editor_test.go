package fat_test

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
)

var edited = time.Date(2026, 11, 20, 9, 30, 0, 0, time.UTC)

// TestEditedVolumesAreWhole does a few hundred random things to a volume of
// each kind. fsck.fat must find nothing wrong with it, mtools must read what
// was written, and the model must agree with both.
func TestEditedVolumesAreWhole(t *testing.T) {
	for _, bits := range []int{12, 16, 32} {
		t.Run(fmt.Sprint(bits), func(t *testing.T) {
			size := map[int]int64{12: 2 << 20, 16: 16 << 20, 32: 40 << 20}[bits]
			path := filepath.Join(t.TempDir(), "volume.img")
			if err := os.WriteFile(path, nil, 0o600); err != nil {
				t.Fatal(err)
			}
			if err := os.Truncate(path, size); err != nil {
				t.Fatal(err)
			}
			dev, err := block.OpenImage(path, 512, false)
			if err != nil {
				t.Fatal(err)
			}
			if err := fat.Format(dev, size, fat.Options{Label: "DATA", Serial: 7, Bits: bits}); err != nil {
				t.Fatal(err)
			}
			draft := block.NewDraft(dev)
			e, err := fat.Edit(draft, edited)
			if err != nil {
				t.Fatal(err)
			}
			want := shuffle(t, e, rand.New(rand.NewPCG(uint64(bits), 1)))
			writes, err := draft.Writes()
			if err != nil {
				t.Fatal(err)
			}
			for _, w := range writes {
				if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
					t.Fatal(err)
				}
			}
			if err := dev.Close(); err != nil {
				t.Fatal(err)
			}
			if out, err := exec.Command("fsck.fat", "-n", path).CombinedOutput(); err != nil {
				t.Fatalf("fsck.fat: %v\n%s", err, out)
			}
			for name, data := range want {
				got, err := exec.Command("mtype", "-i", path, "::"+name).Output()
				if err != nil || !bytes.Equal(got, data) {
					t.Fatalf("mtools read %d bytes of %s, want %d: %v", len(got), name, len(data), err)
				}
			}
		})
	}
}

// shuffle writes, overwrites, moves and removes, and returns what must be on
// the volume at the end.
func shuffle(t *testing.T, e *fat.Editor, r *rand.Rand) map[string][]byte {
	t.Helper()
	want := map[string][]byte{}
	var names []string
	for n := range 300 {
		folder := []string{".", "logs", "corbel/update work", "corbel/store/Größe"}[r.IntN(4)]
		if err := e.Mkdir(folder); err != nil {
			t.Fatal(err)
		}
		name := strings.TrimPrefix(fmt.Sprintf("%s/piece of state %d.json", folder, n), "./")
		switch k := r.IntN(10); {
		case k < 5 || len(names) == 0:
			names = append(names, name)
			want[name] = bytes.Repeat([]byte{byte(n)}, r.IntN(4000))
			if err := e.WriteFile(name, want[name]); err != nil {
				t.Fatal(err)
			}
		case k < 7:
			at := names[r.IntN(len(names))]
			want[at] = bytes.Repeat([]byte{byte(n + 1)}, r.IntN(9000))
			if err := e.WriteFile(at, want[at]); err != nil {
				t.Fatal(err)
			}
		default:
			i := r.IntN(len(names))
			old := names[i]
			data := want[old]
			delete(want, old)
			if k == 9 {
				names = append(names[:i], names[i+1:]...)
				if err := e.Remove(old); err != nil {
					t.Fatal(err)
				}
				continue
			}
			names[i], want[name] = name, data
			if err := e.Rename(old, name); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := e.Rename("corbel/store", "aside"); err != nil {
		t.Fatal(err)
	}
	for name, data := range want {
		if rest, ok := strings.CutPrefix(name, "corbel/store/"); ok {
			delete(want, name)
			want["aside/"+rest] = data
		}
	}
	for name, data := range want {
		got, err := fs.ReadFile(e, name)
		if err != nil || !bytes.Equal(got, data) {
			t.Fatalf("%s: %d bytes, want %d: %v", name, len(got), len(data), err)
		}
	}
	return want
}

func TestAFullVolumeIsRefusedAndStaysWhole(t *testing.T) {
	mem := block.NewDraftOver(bytes.NewReader(make([]byte, 1<<20)))
	if err := fat.Format(mem, 1<<20, fat.Options{Bits: 12}); err != nil {
		t.Fatal(err)
	}
	e, err := fat.Edit(mem, edited)
	if err != nil {
		t.Fatal(err)
	}
	if err := e.WriteFile("large", make([]byte, e.Free()+1)); !errors.Is(err, fat.ErrFull) {
		t.Fatalf("got %v, want %v", err, fat.ErrFull)
	}
	if err := e.WriteFile("large", make([]byte, e.Free())); err != nil {
		t.Fatal(err)
	}
	if err := e.Mkdir("more"); !errors.Is(err, fat.ErrFull) {
		t.Fatalf("got %v, want %v", err, fat.ErrFull)
	}
	if err := e.SetReadOnly("large", true); err != nil {
		t.Fatal(err)
	}
	if err := e.WriteFile("large", nil); !errors.Is(err, fs.ErrPermission) {
		t.Fatalf("got %v, want %v", err, fs.ErrPermission)
	}
	report, err := fat.Check(mem)
	if err != nil || len(report.Findings) > 0 {
		t.Fatalf("%+v %v", report, err)
	}
}
