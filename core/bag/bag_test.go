package bag_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/core/layout"
)

func facts() *bag.Facts {
	return &bag.Facts{
		Schema:   bag.FactsVersion,
		Gathered: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC),
		Machine:  bag.Machine{Name: "kestrel-office-3"},
		Disks: []bag.Disk{{
			ID:         "disk0",
			Source:     "k.img",
			Size:       1 << 20,
			SectorSize: 512,
			Style:      "none",
			Marks:      []string{},
			Primary:    bag.TableCopy{State: "absent"},
			Backup:     bag.TableCopy{State: "absent"},
			Problems:   []layout.Problem{},
			Partitions: []bag.Partition{},
		}},
	}
}

func pack(t *testing.T, zstd bool, files map[string]string) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := bag.NewWriter(&out, bag.Options{Name: "kestrel-office-3", Created: facts().Gathered, Zstd: zstd})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.AddFacts(facts()); err != nil {
		t.Fatal(err)
	}
	for name, text := range files {
		if err := w.AddFile(name, int64(len(text)), strings.NewReader(text)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestWhatWasPackedIsReadBack(t *testing.T) {
	files := map[string]string{
		"logs/dpkg.log":         "a line\n",
		"logs/100% of it\n.log": strings.Repeat("x", 100_000),
		"empty":                 "",
	}
	var digests []string
	for _, zstd := range []bool{false, true} {
		dir := t.TempDir()
		info, err := bag.Unpack(context.Background(), bytes.NewReader(pack(t, zstd, map[string]string{
			"logs/dpkg.log": files["logs/dpkg.log"],
			"empty":         "",
		})), bag.DefaultLimits, dir)
		if err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(filepath.Join(dir, "logs/dpkg.log"))
		if err != nil || string(text) != "a line\n" || info.Facts.Machine.Name != "kestrel-office-3" || len(info.Files) != 2 {
			t.Errorf("%q %v %+v", text, err, info)
		}
		digests = append(digests, info.Digest)
	}
	if digests[0] != digests[1] {
		t.Error("the same evidence has two digests")
	}
}

// The bag must be one to tools that are not ours: tar unpacks it, sha256sum
// agrees with its manifest.
func TestTarAndSha256sumAgree(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "b.tar.gz")
	if err := os.WriteFile(file, pack(t, false, map[string]string{"logs/apt/term.log": "text\n"}), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, command := range []string{
		"tar xzf b.tar.gz", "cd kestrel-office-3 && sha256sum --check --strict manifest-sha256.txt tagmanifest-sha256.txt",
		"grep -q 'BagIt-Version: 1.0' kestrel-office-3/bagit.txt",
	} {
		cmd := exec.Command("sh", "-c", command)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", command, err, out)
		}
	}
}

// entry is one file of a hand-made archive.
type entry struct {
	name, text string
	kind       byte
}

func archive(entries ...entry) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Typeflag: e.kind, Size: int64(len(e.text)), Mode: 0o644}
		if e.kind == tar.TypeSymlink {
			h.Linkname, h.Size, e.text = e.text, 0, ""
		}
		_ = w.WriteHeader(h)
		_, _ = io.WriteString(w, e.text)
	}
	_ = w.Close()
	_ = z.Close()
	return out.Bytes()
}

func zeros(n int64) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	_ = w.WriteHeader(&tar.Header{Name: "b/data/zeros", Typeflag: tar.TypeReg, Size: n, Mode: 0o644})
	chunk := make([]byte, 1<<20)
	for ; n > 0; n -= int64(len(chunk)) {
		_, _ = w.Write(chunk)
	}
	_ = w.Close()
	_ = z.Close()
	return out.Bytes()
}

func TestBadBagsAreRefusedByName(t *testing.T) {
	good := pack(
		t, false, map[string]string{"logs/dpkg.log": strings.Repeat("some text that is long enough to be cut\n", 200)},
	)
	sum := func(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s))) }
	declared := entry{"b/bagit.txt", "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n", tar.TypeReg}
	small := bag.DefaultLimits
	small.Files = 1
	altered := bytes.Clone(good)
	altered[len(altered)/2] ^= 0x10
	for name, c := range map[string]struct {
		raw    []byte
		want   error
		limits bag.Limits
	}{
		"empty":            {nil, bag.ErrNotABag, bag.DefaultLimits},
		"text":             {[]byte("this is not an archive"), bag.ErrNotABag, bag.DefaultLimits},
		"tar of no bag":    {archive(entry{"readme", "hello", tar.TypeReg}), bag.ErrNotABag, bag.DefaultLimits},
		"no declaration":   {archive(entry{"b/data/a", "x", tar.TypeReg}), bag.ErrNotABag, bag.DefaultLimits},
		"no manifest":      {archive(declared, entry{"b/data/a", "x", tar.TypeReg}), bag.ErrNotABag, bag.DefaultLimits},
		"cut off":          {good[:len(good)*2/3], bag.ErrTruncated, bag.DefaultLimits},
		"cut off at start": {good[:5], bag.ErrTruncated, bag.DefaultLimits},
		"no facts": {
			archive(declared, entry{
				"b/data/a", "x", tar.TypeReg,
			}, entry{"b/manifest-sha256.txt", sum("x") + "  data/a\n", tar.TypeReg}),
			bag.ErrFacts, bag.DefaultLimits,
		},
		"facts not valid": {
			archive(declared, entry{
				"b/data/facts.json", `{"schema":1}`, tar.TypeReg,
			}, entry{"b/manifest-sha256.txt", sum(`{"schema":1}`) + "  data/facts.json\n", tar.TypeReg}),
			bag.ErrFacts, bag.DefaultLimits,
		},
		"wrong checksum": {
			archive(declared, entry{
				"b/data/a", "x", tar.TypeReg,
			}, entry{"b/manifest-sha256.txt", sum("y") + "  data/a\n", tar.TypeReg}),
			bag.ErrChecksum, bag.DefaultLimits,
		},
		"promised file": {
			archive(declared, entry{"b/manifest-sha256.txt", sum("y") + "  data/a\n", tar.TypeReg}), bag.ErrChecksum,
			bag.DefaultLimits,
		},
		"file not listed": {
			archive(declared, entry{
				"b/data/a", "x", tar.TypeReg,
			}, entry{"b/data/b", "x", tar.TypeReg}, entry{"b/manifest-sha256.txt", sum("x") + "  data/a\n", tar.TypeReg}),
			bag.ErrChecksum, bag.DefaultLimits,
		},
		"climbs out": {
			archive(declared, entry{"b/data/../../etc/passwd", "x", tar.TypeReg}), bag.ErrUnsafe, bag.DefaultLimits,
		},
		"absolute": {archive(entry{"/etc/passwd", "x", tar.TypeReg}), bag.ErrUnsafe, bag.DefaultLimits},
		"a file below a file": {
			archive(declared, entry{"b/data/a", "x", tar.TypeReg}, entry{"b/data/a/b", "y", tar.TypeReg}), bag.ErrUnsafe,
			bag.DefaultLimits,
		},
		"a file above a file": {
			archive(declared, entry{"b/data/a/b/c", "x", tar.TypeReg}, entry{"b/data/a", "y", tar.TypeReg}), bag.ErrUnsafe,
			bag.DefaultLimits,
		},
		"a long part": {
			archive(declared, entry{"b/data/" + strings.Repeat("n", 256), "x", tar.TypeReg}), bag.ErrTooLarge,
			bag.DefaultLimits,
		},
		"backslash": {archive(declared, entry{`b/data/..\..\x`, "x", tar.TypeReg}), bag.ErrUnsafe, bag.DefaultLimits},
		"link": {
			archive(declared, entry{"b/data/a", "/etc/passwd", tar.TypeSymlink}), bag.ErrUnsafe, bag.DefaultLimits,
		},
		"twice": {
			archive(declared, entry{"b/data/a", "x", tar.TypeReg}, entry{"b/data/a", "y", tar.TypeReg}), bag.ErrUnsafe,
			bag.DefaultLimits,
		},
		"two folders": {archive(declared, entry{"c/data/a", "x", tar.TypeReg}), bag.ErrNotABag, bag.DefaultLimits},
		"too deep": {
			archive(declared, entry{"b/data/" + strings.Repeat("d/", 40) + "a", "x", tar.TypeReg}), bag.ErrTooLarge,
			bag.DefaultLimits,
		},
		"too many files": {good, bag.ErrTooLarge, small},
		"bomb":           {zeros(256 << 20), bag.ErrTooLarge, bag.DefaultLimits},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			_, err := bag.Unpack(context.Background(), bytes.NewReader(c.raw), c.limits, dir)
			var own *bag.Error
			if !errors.Is(err, c.want) || !errors.As(err, &own) || own.Do == "" {
				t.Errorf("got %v, want %v", err, c.want)
			}
			if _, err := os.Stat(filepath.Join(dir, "..", "etc")); err == nil {
				t.Error("something was written outside")
			}
		})
	}
	if _, err := bag.Read(context.Background(), bytes.NewReader(altered), bag.DefaultLimits, nil); err == nil {
		t.Error("an altered bag was accepted")
	}
}

func TestAWriterRefusesWhatAReaderWould(t *testing.T) {
	begin := func() *bag.Writer {
		w, err := bag.NewWriter(io.Discard, bag.Options{Name: "../odd name/", Created: facts().Gathered})
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	w := begin()
	if _, err := w.Close(); err == nil || !strings.Contains(err.Error(), "no facts") {
		t.Errorf("a bag without facts: %v", err)
	}
	bad := facts()
	bad.Machine.Name = "two\nlines"
	if err := begin().AddFacts(bad); err == nil || !strings.Contains(err.Error(), "/machine/name") {
		t.Errorf("facts that break the schema: %v", err)
	}
	if err := begin().AddFile("a", 10, strings.NewReader("short")); err == nil ||
		!strings.Contains(err.Error(), "5 of 10 bytes") {
		t.Errorf("a file that became shorter: %v", err)
	}
	for _, name := range []string{"../up", "/abs", "a//b", "a/./b", `back\slash`, "", "bell\a"} {
		if err := begin().AddFile(name, 0, strings.NewReader("")); !errors.Is(err, bag.ErrUnsafe) {
			t.Errorf("%q: %v", name, err)
		}
	}
	w = begin()
	if err := w.AddFile("a", 1, strings.NewReader("x")); err != nil {
		t.Fatal(err)
	}
	if err := w.AddFile("a", 1, strings.NewReader("y")); err == nil {
		t.Error("the same name was taken twice")
	}
}

// A file that grows while it is packed is taken as long as it was.
func TestAFileThatGrowsIsTakenAsItWas(t *testing.T) {
	var out bytes.Buffer
	w, err := bag.NewWriter(&out, bag.Options{Name: "x", Created: facts().Gathered})
	if err == nil {
		err = w.AddFacts(facts())
	}
	if err == nil {
		err = w.AddFile("growing.log", 4, strings.NewReader("then and now"))
	}
	if err == nil {
		_, err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	seen := ""
	_, err = bag.Read(context.Background(), &out, bag.DefaultLimits, func(name string, size int64, r io.Reader) error {
		raw, err := io.ReadAll(r)
		seen = fmt.Sprintf("%s %d %s", name, size, raw)
		return err
	})
	if err != nil || seen != "growing.log 4 then" {
		t.Errorf("%v: %q", err, seen)
	}
}

func TestReadingStopsWhenTheCallerHasGone(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := bag.Read(
		ctx, bytes.NewReader(pack(t, false, nil)), bag.DefaultLimits, nil,
	); !errors.Is(err, context.Canceled) {
		t.Errorf("got %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(archive(entry{
		"b/bagit.txt", "BagIt-Version: 1.0\n", tar.TypeReg,
	}, entry{"b/data/facts.json", "{}", tar.TypeReg}))
	f.Add([]byte{0x28, 0xb5, 0x2f, 0xfd, 0})
	limits := bag.DefaultLimits
	limits.Total, limits.RatioFrom = 1<<22, 1<<20
	f.Fuzz(func(t *testing.T, raw []byte) {
		dir := t.TempDir()
		if _, err := bag.Unpack(context.Background(), bytes.NewReader(raw), limits, dir); err == nil {
			t.Log("accepted")
		}
	})
}
