package docket_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"maps"
	"math"
	"os"
	"path"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
	"diorthos/standin/debian"
)

// later marks the failures that were drawn after all rules had been made: they are
// scored as they come.
// The prefix of a name tells the draw; of those in halves, the first rules were made with the eyes on one alone.
var draws = []struct {
	prefix, title string
	halves        [2]string // what became of each
}{
	{"later-", "the second draw, then looked at", [2]string{}},
	{"third-", "the third draw, then looked at", [2]string{}},
	{"fourth-", "the fourth draw", [2]string{}},
	{"fifth-", "the fifth draw", [2]string{"looked at first", "then looked at"}},
	{"sixth-", "the sixth draw", [2]string{}},
	{"seventh-", "the seventh draw", [2]string{"looked at first", "then looked at"}},
	{"eighth-", "the eighth draw, then looked at", [2]string{}},
	{"ninth-", "the ninth draw", [2]string{"looked at first", "then looked at"}},
	{"tenth-", "the tenth draw", [2]string{"looked at first", "then looked at"}},
	{"eleventh-", "the eleventh draw", [2]string{"looked at first", "not looked at"}},
	{"twelfth-", "the twelfth draw, then looked at", [2]string{}},
	{"thirteenth-", "the thirteenth draw", [2]string{"looked at first", "then looked at"}},
	{"debian13-", "earlier ones on Debian 13, whose apt has other words, then looked at", [2]string{}},
	{"injected-3-", "refused by chance, seed 3, then looked at", [2]string{}},
	{"injected-4-", "refused by chance, seed 4, not looked at", [2]string{}},
	{"injected-5-", "refused by chance, seed 5, not looked at", [2]string{}},
	{"injected-", "refused by chance, seeds 1 and 2", [2]string{}},
	{"", "described before the rules, then looked at", [2]string{}},
}

// drawOf is which draw a failure belongs to, and which half of it, in words.
func drawOf(name string) string {
	for _, d := range draws {
		switch {
		case !strings.HasPrefix(name, d.prefix):
		case d.halves == [2]string{}:
			return d.title
		default:
			return d.title + ", " + d.halves[crc32.ChecksumIEEE([]byte("half "+name))%2]
		}
	}
	return ""
}

// A set sums up how failures were judged.
type set struct {
	n, cause, kind, line int
	brier                float64
}

func (s set) share(n int) float64 { return 100 * float64(n) / math.Max(1, float64(s.n)) }

func (s set) String() string {
	return fmt.Sprintf(
		"%d failures: right cause first %.0f %%, right kind %.0f %%, decisive line %.0f %%, Brier score %.3f",
		s.n,
		s.share(s.cause),
		s.share(s.kind),
		s.share(s.line),
		s.brier/math.Max(1, float64(s.n)),
	)
}

// TestFreshFailures scores failures that were described before rules for them were
// made: those that are shipped, or, freshly provoked, those in the folder that
// DIORTHOS_FRESH names.
func TestFreshFailures(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	all := fresh(t)
	names, err := fs.Glob(all, "*/label.yaml")
	if err != nil || len(names) < 10 {
		t.Fatalf("%d failures: %v", len(names), err)
	}
	sets := map[string]*set{}
	var said reliability
	for _, file := range names {
		name := path.Dir(file)
		s := judge(t, k, all, name)
		draw := drawOf(name)
		if sets[draw] == nil {
			sets[draw] = &set{}
		}
		of := sets[draw]
		of.n++
		of.brier += math.Pow(1-s.probability, 2)
		if s.cause {
			of.cause++
		}
		if s.kind {
			of.kind++
		}
		if s.decisive {
			of.line++
		}
		said.count(s)
		if !s.cause || !s.decisive {
			t.Logf(
				"%-26s cause %-5t %s, want %s (%.0f %%); line %-5t %s",
				name, s.cause, s.got, s.want, 100*s.probability, s.decisive, s.line,
			)
		}
	}
	for _, draw := range slices.Sorted(maps.Keys(sets)) {
		t.Logf("%s: %s", draw, sets[draw])
	}
	t.Logf("what was said first, by how sure it was said:\n%s", said)
	for _, s := range sets {
		if s.share(s.cause) < 90 || s.share(s.line) < 85 {
			t.Errorf("it was better before: %s", s)
		}
	}
}

// bands are how sure a first cause can be said; the last goes to 100 %.
var bands = []float64{0, 0.3, 0.5, 0.7, 0.9, 0.97}

// A reliability holds, for each band, how often what was said so was right.
type reliability [6]struct {
	n, right int
	stated   float64
}

func (r *reliability) count(s score) {
	i := len(bands) - 1
	for i > 0 && s.stated < bands[i] {
		i--
	}
	r[i].n++
	r[i].stated += s.stated
	if s.cause {
		r[i].right++
	}
}

func (r reliability) String() string {
	var b strings.Builder
	for i, band := range r {
		if band.n > 0 {
			fmt.Fprintf(&b, "from %2.0f %%: said %4.1f %% in the mean, right %5.1f %% of %d\n",
				100*bands[i], 100*band.stated/float64(band.n), 100*float64(band.right)/float64(band.n), band.n)
		}
	}
	return b.String()
}

// fresh opens the shipped archives, one for each failure.
func fresh(t *testing.T) fs.FS {
	t.Helper()
	if dir := os.Getenv("DIORTHOS_FRESH"); dir != "" {
		return os.DirFS(dir)
	}
	all := fstest.MapFS{}
	archives, err := fs.Glob(debian.Fresh, "fresh/*.tar.gz")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range archives {
		if err := unpack(all, name); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
	}
	return all
}

func unpack(into fstest.MapFS, name string) error {
	raw, err := fs.ReadFile(debian.Fresh, name)
	if err != nil {
		return err
	}
	z, err := gzip.NewReader(bytes.NewReader(raw))
	if err != nil {
		return err
	}
	folder := strings.TrimSuffix(path.Base(name), ".tar.gz")
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		data, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		into[path.Join(folder, h.Name)] = &fstest.MapFile{Data: data}
	}
}
