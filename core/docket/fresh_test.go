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
	"math"
	"os"
	"path"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
	"diorthos/standin/debian"
)

// later marks the failures that were drawn after all rules had been made: they are
// scored as they come.
const (
	later    = "later-"
	third    = "third-"
	fourth   = "fourth-"
	fifth    = "fifth-"
	sixth    = "sixth-"
	seventh  = "seventh-"
	eighth   = "eighth-"
	ninth    = "ninth-"
	tenth    = "tenth-"
	eleventh = "eleventh-"
	injected = "injected-" // drawn by chance, with the seed after it
)

// Halves of the large draws: the first rules were made with the eyes on one alone.
const (
	fifthSeen      = fifth + "seen"
	fifthUnseen    = fifth + "unseen"
	seventhSeen    = seventh + "seen"
	seventhUnseen  = seventh + "unseen"
	ninthSeen      = ninth + "seen"
	ninthUnseen    = ninth + "unseen"
	tenthSeen      = tenth + "seen"
	tenthUnseen    = tenth + "unseen"
	eleventhSeen   = eleventh + "seen"
	eleventhUnseen = eleventh + "unseen"
	injectedFirst  = injected + "first"
	injectedSeen   = injected + "3-"
	injectedUnseen = injected + "4-"
)

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
	sets := map[string]*set{
		"":             {},
		later:          {},
		third:          {},
		fourth:         {},
		fifthSeen:      {},
		fifthUnseen:    {},
		sixth:          {},
		seventhSeen:    {},
		seventhUnseen:  {},
		eighth:         {},
		ninthSeen:      {},
		ninthUnseen:    {},
		tenthSeen:      {},
		tenthUnseen:    {},
		eleventhSeen:   {},
		eleventhUnseen: {},
		injectedFirst:  {},
		injectedSeen:   {},
		injectedUnseen: {},
	}
	var said reliability
	for _, file := range names {
		name := path.Dir(file)
		s := judge(t, k, all, name)
		of := sets[drawOf(name)]
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
	t.Logf("described before the rules, then looked at: %s", sets[""])
	t.Logf("the second draw, then looked at:            %s", sets[later])
	t.Logf("the third draw, then looked at:             %s", sets[third])
	t.Logf("the fourth draw, then looked at:            %s", sets[fourth])
	t.Logf("half of the fifth draw, looked at first:    %s", sets[fifthSeen])
	t.Logf("the other half, then looked at:             %s", sets[fifthUnseen])
	t.Logf("the sixth draw, then looked at:             %s", sets[sixth])
	t.Logf("half of the seventh draw, looked at first:  %s", sets[seventhSeen])
	t.Logf("the other half, then looked at:             %s", sets[seventhUnseen])
	t.Logf("the eighth draw, then looked at:            %s", sets[eighth])
	t.Logf("half of the ninth draw, looked at first:    %s", sets[ninthSeen])
	t.Logf("the other half, then looked at:             %s", sets[ninthUnseen])
	t.Logf("half of the tenth draw, looked at first:    %s", sets[tenthSeen])
	t.Logf("the other half, then looked at:             %s", sets[tenthUnseen])
	t.Logf("half of the eleventh draw, looked at first: %s", sets[eleventhSeen])
	t.Logf("the other half, not looked at:              %s", sets[eleventhUnseen])
	t.Logf("refused by chance, seeds 1 and 2:           %s", sets[injectedFirst])
	t.Logf("refused by chance, seed 3, then looked at:  %s", sets[injectedSeen])
	t.Logf("refused by chance, seed 4, not looked at:   %s", sets[injectedUnseen])
	t.Logf("what was said first, by how sure it was said:\n%s", said)
	for _, s := range sets {
		if s.n > 0 && s.share(s.cause) < 90 || s.share(s.line) < 85 {
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

// drawOf is which draw a failure belongs to, by its name.
func drawOf(name string) string {
	for _, draw := range []string{fifth, seventh, ninth, tenth, eleventh} {
		if strings.HasPrefix(name, draw) {
			if crc32.ChecksumIEEE([]byte("half "+name))%2 == 0 {
				return draw + "seen"
			}
			return draw + "unseen"
		}
	}
	for _, draw := range []string{later, third, fourth, sixth, eighth, injectedSeen, injectedUnseen} {
		if strings.HasPrefix(name, draw) {
			return draw
		}
	}
	if strings.HasPrefix(name, injected) {
		return injectedFirst
	}
	return ""
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
