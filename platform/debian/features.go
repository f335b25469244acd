package debian

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"regexp"
	"strconv"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/core/system"
)

var (
	// errNotWanted is said where nothing tells which packages the attempt wanted.
	errNotWanted = errors.New(
		"which packages were wanted is not known: give what the screen said, as in \"diorthos diagnose --with FILE\"",
	)
	errNoSource = errors.New("no source was given: name a folder with package files, one of them, or a medium by --source")
	// toFetch is a line of what apt would fetch (apt-get(8), --print-uris): address, file, bytes.
	toFetch = regexp.MustCompile(`(?m)^'[^']+' ([^\s/_]+)_([^\s/_]+)_([^\s/_]+)\.deb (\d+)\b`)
	// wantedFile is a package file in what was said of an attempt.
	wantedFile = regexp.MustCompile(`([a-z0-9][a-z0-9+.-]+)_[^\s/_]+_[a-z0-9-]+\.deb\b`)
)

// A wantedPackage is one that apt would fetch, by the lists of packages that the machine has.
type wantedPackage struct {
	bag.Package
	file string
	size int64
	sums map[string]bool // SHA256 of it, by the machine's lists
}

// PutFeature puts the package files that the failed attempt could not fetch where apt looks for them first. Each has to
// be the very version that the machine's own lists name, and to have the sum that they tell.
func (n *inner) PutFeature(ctx context.Context, sources []store.Source, o system.ToolOptions) ([]string, error) {
	return n.working(ctx, o, func(w *worker, ctx context.Context) error {
		list, err := w.toFetch(ctx)
		if err != nil || len(list) == 0 {
			return err
		}
		if len(sources) == 0 {
			return fmt.Errorf("%s is wanted: %w", list[0].file, errNoSource)
		}
		for _, p := range list {
			if err := w.put(p, sources); err != nil {
				return err
			}
		}
		return nil
	})
}

// FeatureStored names the packages that the failed attempt wanted, and says which has still to be fetched.
func (n *inner) FeatureStored(ctx context.Context, o system.ToolOptions) (name string, err error) {
	err = n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, said: o.Said, say: func(string) {}}
		list, err := w.toFetch(ctx)
		if err == nil && len(list) > 0 {
			err = fmt.Errorf("%s has still to be fetched", list[0].file)
		}
		name = strings.Join(w.wantedNames(), ", ")
		return err
	})
	return name, err
}

// wantedNames are the packages of which what was said names files.
func (w *worker) wantedNames() (names []string) {
	seen := map[string]bool{}
	for _, m := range wantedFile.FindAllStringSubmatch(w.said, -1) {
		if !seen[m[1]] {
			seen[m[1]] = true
			names = append(names, m[1])
		}
	}
	return names
}

// toFetch asks apt what it would fetch for the attempt.
func (w *worker) toFetch(ctx context.Context) (list []wantedPackage, err error) {
	names := w.wantedNames()
	if len(names) == 0 {
		return nil, errNotWanted
	}
	args := append([]string{"apt-get", "-qq", "-y", "--print-uris", "install"}, names...)
	out, err := w.run(ctx, args...)
	if err != nil {
		return nil, err
	}
	if out.Status != 0 {
		return nil, fmt.Errorf("%s: %s", strings.Join(args, " "), lastWords(out.Text))
	}
	for _, m := range toFetch.FindAllStringSubmatch(out.Text, -1) {
		size, err := strconv.ParseInt(m[4], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("size of %s: %w", m[1], err)
		}
		list = append(list, wantedPackage{
			Package: bag.Package{Name: m[1], Version: strings.ReplaceAll(m[2], "%3a", ":"), Architecture: m[3]},
			file:    m[1] + "_" + m[2] + "_" + m[3] + ".deb", size: size, sums: map[string]bool{},
		})
		if err := w.sumsOf(ctx, &list[len(list)-1]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// sumsOf asks apt which sums its lists tell of a package file.
func (w *worker) sumsOf(ctx context.Context, p *wantedPackage) error {
	args := []string{"apt-cache", "show", p.Name + ":" + p.Architecture + "=" + p.Version}
	if p.Architecture == "all" {
		args[2] = p.Name + "=" + p.Version
	}
	out, err := w.run(ctx, args...)
	if err != nil {
		return err
	}
	if out.Status != 0 {
		return fmt.Errorf("%s: %s", strings.Join(args, " "), lastWords(out.Text))
	}
	return eachParagraph(strings.NewReader(out.Text), []string{"sha256"}, func(record paragraph) error {
		if sum := record["sha256"]; sum != "" {
			p.sums[sum] = true
		}
		return nil
	})
}

// put copies a package file of the first source that has it into apt's cache.
func (w *worker) put(p wantedPackage, sources []store.Source) error {
	missing := fmt.Errorf("no source has %s", p.file)
	for _, s := range sources {
		files, ok := s.(interface {
			openPackage(bag.Package) (*debFile, error)
		})
		if !ok {
			missing = errors.Join(missing, fmt.Errorf("%s has no package files", s.Title()))
			continue
		}
		f, err := files.openPackage(p.Package)
		if err != nil {
			missing = errors.Join(missing, err)
			continue
		}
		err = w.copyPackage(p, f)
		if err = errors.Join(err, f.Close()); err != nil {
			return fmt.Errorf("%s: %w", f.name, err)
		}
		w.did = append(
			w.did,
			fmt.Sprintf("%s is put where apt looks first, from %s: its sum is that of the machine's own lists",
				p.file, s.Title()),
		)
		return nil
	}
	return missing
}

// copyPackage copies a package file that has the sum that is wanted.
func (w *worker) copyPackage(p wantedPackage, f *debFile) error {
	if len(p.sums) == 0 {
		return errors.New("the machine's lists tell no SHA-256 sum of it: nothing would prove that it is the right one")
	}
	sum := sha256.New()
	if f.size != p.size {
		return fmt.Errorf("it has %d bytes, and the machine's lists want %d", f.size, p.size)
	}
	var raw bytes.Buffer
	if _, err := io.Copy(io.MultiWriter(&raw, sum), io.NewSectionReader(f.at, 0, f.size)); err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); !p.sums[got] {
		return fmt.Errorf("its SHA-256 sum is %s, and the machine's lists want another: it is not the same file", got)
	}
	if err := w.in.Files().MkdirAll(cacheFolder, 0o755); err != nil {
		return err
	}
	return replace(w.in.Files(), path.Join(cacheFolder, p.file), raw.Bytes(), os.FileMode(0o644))
}
