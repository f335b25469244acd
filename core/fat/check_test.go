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
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/fat"
)

func tool(t testing.TB, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v: %s", name, args, err, out)
	}
	return string(out)
}

// made is a volume made by mkfs.vfat and filled by mtools, with what is in it.
func made(t testing.TB, bits string, size int64) ([]byte, map[string][]byte) {
	t.Helper()
	dir := t.TempDir()
	image := filepath.Join(dir, "volume")
	if err := os.WriteFile(image, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(image, size); err != nil {
		t.Fatal(err)
	}
	tool(t, "mkfs.vfat", "-F", bits, "-n", "CHARTS", "-s", "1", image)
	r := rand.New(rand.NewPCG(5, 6))
	files := map[string][]byte{}
	for i, name := range []string{
		"EFI/debian/grubx64.efi", "EFI/debian/a long name, with Ölhafen.txt", "EMPTY.TXT",
		"timetable of all sailings.csv", "deep/er/still/chart.bin",
	} {
		data := make([]byte, []int{70_000, 100, 0, 5_000, 33_333}[i])
		for k := range data {
			data[k] = byte(r.Uint32())
		}
		files[name] = data
		from := filepath.Join(dir, "src", name)
		if err := os.MkdirAll(filepath.Dir(from), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(from, data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	entries, err := os.ReadDir(filepath.Join(dir, "src"))
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		tool(t, "mcopy", "-s", "-i", image, filepath.Join(dir, "src", e.Name()), "::")
	}
	raw, err := os.ReadFile(image)
	if err != nil {
		t.Fatal(err)
	}
	return raw, files
}

var kinds = []struct {
	bits string
	size int64
}{{"12", 1 << 20}, {"16", 5 << 20}, {"32", 36 << 20}}

func TestFilesAreThoseThatMtoolsWrote(t *testing.T) {
	for _, k := range kinds {
		raw, files := made(t, k.bits, k.size)
		v, err := fat.Open(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		if fmt.Sprint(v.Bits) != k.bits || v.Label != "CHARTS" {
			t.Errorf("%s: %d bits, label %q", k.bits, v.Bits, v.Label)
		}
		var names []string
		for name, want := range files {
			names = append(names, name)
			if got, err := fs.ReadFile(v, name); err != nil || !bytes.Equal(got, want) {
				t.Errorf("%s: %s: %d bytes, %v", k.bits, name, len(got), err)
			}
		}
		if err := fstest.TestFS(v, names...); err != nil {
			t.Errorf("%s: %v", k.bits, err)
		}
		if _, err := fs.ReadFile(v, "efi/DEBIAN/GRUBX64.EFI"); err != nil {
			t.Errorf("%s: case matters: %v", k.bits, err)
		}
		report, err := fat.Check(bytes.NewReader(raw))
		if err != nil || len(report.Findings) != 0 || len(report.Writes) != 0 || report.Files != len(files) {
			t.Errorf("%s: a sound volume: %v %+v", k.bits, err, report)
		}
	}
}

// clean asks fsck.fat, which reads only.
func clean(t testing.TB, raw []byte) (bool, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "volume")
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = os.Remove(path) }() // hundreds of volumes would fill a disk
	out, err := exec.Command("fsck.fat", "-n", path).CombinedOutput()
	return err == nil, string(out)
}

func repaired(t testing.TB, raw []byte, report *fat.Report) []byte {
	t.Helper()
	after := slices.Clone(raw)
	for _, w := range report.Writes {
		copy(after[w.Off:], w.Data)
	}
	return after
}

// Each damage has a name; after the repair fsck.fat finds nothing.
func TestEachDamageIsNamedAndRepaired(t *testing.T) {
	raw, files := made(t, "32", 36<<20)
	v, err := fat.Open(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	first, second := v.Reserved*v.Sector, (v.Reserved+v.TableSize)*v.Sector
	both := func(d []byte, cluster int, value uint32) {
		for _, at := range []int64{first, second} {
			at += int64(cluster) * 4
			d[at], d[at+1], d[at+2], d[at+3] = byte(value), byte(value>>8), byte(value>>16), byte(value>>24)
		}
	}
	last := 2
	for c := 2; c < 400; c++ {
		if d := raw[first+int64(c)*4:]; d[0]|d[1]|d[2]|d[3] != 0 {
			last = c
		}
	}
	for name, c := range map[string]struct {
		spoil func(d []byte)
		want  string
	}{
		"boot sector":        {func(d []byte) { clear(d[:512]) }, "boot-sector-damaged"},
		"backup boot sector": {func(d []byte) { clear(d[6*512 : 7*512]) }, "boot-sectors-differ"},
		"one table":          {func(d []byte) { clear(d[second+16 : second+100]) }, "tables-differ"},
		"first entry":        {func(d []byte) { both(d, 0, 0) }, "table-begins-wrong"},
		"a lost chain": {func(d []byte) {
			both(d, last+5, uint32(last+6))
			both(d, last+6, 0x0fffffff)
		}, "chains-lost"},
		"a chain that loops": {func(d []byte) { both(d, last, uint32(last-1)) }, "chain"},
		"a broken chain":     {func(d []byte) { both(d, last-3, 0) }, "chain-broken"},
		"crossed chains":     {func(d []byte) { both(d, 60, uint32(last-30)) }, "chains-crossed"},
		"free counts":        {func(d []byte) { d[512+488]++ }, "free-count-wrong"},
		"damaged counts":     {func(d []byte) { clear(d[512:516]) }, "free-counts-damaged"},
	} {
		d := slices.Clone(raw)
		c.spoil(d)
		report, err := fat.Check(bytes.NewReader(d))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if !slices.ContainsFunc(report.Findings, func(f fat.Finding) bool {
			return strings.HasPrefix(f.ID, c.want) && f.Text != "" && f.Do != ""
		}) {
			t.Errorf("%s: %+v", name, report.Findings)
		}
		after := repaired(t, d, report)
		if ok, out := clean(t, after); !ok {
			t.Errorf("%s: fsck.fat: %s", name, out)
		}
		if again, err := fat.Check(bytes.NewReader(after)); err != nil || len(again.Findings) != 0 {
			t.Errorf("%s: a second look: %v %+v", name, err, again)
		}
	}
	_ = files
}

// Damage at random places of tables and folders. After the repair fsck.fat is
// content, or we said why the volume cannot be read at all.
func TestDamageAtRandomIsRepaired(t *testing.T) {
	for _, k := range kinds {
		raw, _ := made(t, k.bits, k.size)
		v, err := fat.Open(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		tables := int(v.Reserved * v.Sector)
		span := int(v.TableSize*v.Sector)*v.Tables + 64<<10
		unclean := 0
		for seed := range uint64(340) {
			r := rand.New(rand.NewPCG(seed, uint64(v.Bits)))
			d := slices.Clone(raw)
			for range 1 + r.IntN(4) {
				at := tables + r.IntN(min(span, 100<<10))
				if v.Bits == 32 && r.IntN(2) == 0 {
					at = tables + int(v.TableSize*v.Sector)*v.Tables + r.IntN(4<<10)
				}
				for i := range 1 + r.IntN(24) {
					d[at+i] = byte(r.Uint32())
				}
			}
			report, err := fat.Check(bytes.NewReader(d))
			if err != nil {
				var why *fat.FormatError
				if !errors.As(err, &why) {
					t.Errorf("%s bits, seed %d: %v", k.bits, seed, err)
				}
				continue
			}
			after := repaired(t, d, report)
			again, err := fat.Check(bytes.NewReader(after))
			if err != nil || len(again.Findings) > 0 {
				unclean++
				if unclean < 4 {
					t.Logf("%s bits, seed %d: a second look: %v %+v", k.bits, seed, err, again)
				}
			}
			if ok, says := clean(t, after); !ok {
				unclean++
				t.Logf("%s bits, seed %d: fsck.fat: %s", k.bits, seed, says)
			}
		}
		if unclean > 0 {
			t.Errorf("%s bits: %d of 340 have findings after the repair", k.bits, unclean)
		}
	}
}

func FuzzCheck(f *testing.F) {
	raw, _ := made(f, "12", 1<<20)
	f.Add(raw[:64<<10])
	f.Fuzz(func(t *testing.T, raw []byte) {
		v, err := fat.Open(bytes.NewReader(raw))
		if err != nil {
			return
		}
		met := 0
		_ = fs.WalkDir(v, ".", func(string, fs.DirEntry, error) error {
			if met++; met > 1000 { // folders can lie in several others, and those too
				return fs.SkipAll
			}
			return nil
		})
		_, _ = fat.Check(bytes.NewReader(raw))
	})
}
