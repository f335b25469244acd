package upkeep

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// An Owner says whose the files below a folder are, and what can be done about them.
type Owner struct {
	Path string `yaml:"path" json:"path"` // without a leading slash
	Of   string `yaml:"of" json:"of"`     // what they are, and what can be done
	// Each has every folder and file right below it told by itself, as those of people are.
	Each bool `yaml:"each" json:"-"`
	// System means that it comes back by itself: by installing anew, by fetching, by running.
	System bool `yaml:"system" json:"-"`
}

// A Share is what of a volume is taken by something.
type Share struct {
	Path  string `json:"path"`
	Of    string `json:"of"` // empty where nothing is known of it
	Bytes int64  `json:"bytes"`
	Files int    `json:"files"`
}

// Usage is what fills a volume.
type Usage struct {
	Shares []Share `json:"shares"` // the largest first
	Bytes  int64   `json:"bytes"`
	Files  int     `json:"files"`
	Unread int     `json:"unread"` // folders that could not be read
}

// A Measure says how files are measured; the zero value counts each with its length.
type Measure struct {
	Skip  func(folder fs.DirEntry) bool // leaves a folder out
	Taken func(fs.FileInfo) int64       // what a file takes of the volume, in bytes
}

// Shares adds up the files of a volume by whose they are: the owner whose path is the longest above a file, or the
// folder at its top where none is. A file that has several names counts with each.
func Shares(ctx context.Context, volume fs.FS, owners []Owner, m Measure) (*Usage, error) {
	u, of := &Usage{Shares: []Share{}}, map[string]*Share{}
	err := fs.WalkDir(volume, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && name == ".":
			return err
		case err != nil:
			u.Unread++
			if d != nil && d.IsDir() {
				return fs.SkipDir
			}
			return nil
		case d.IsDir() && name != "." && m.Skip != nil && m.Skip(d):
			return fs.SkipDir
		case !d.Type().IsRegular():
			return nil
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it went meanwhile
		}
		if err != nil {
			u.Unread++
			return nil //nolint:nilerr // it is told how many
		}
		at, whose := shareOf(name, owners)
		s := of[at]
		if s == nil {
			s = &Share{Path: at, Of: whose}
			of[at] = s
		}
		taken := info.Size()
		if m.Taken != nil {
			taken = m.Taken(info)
		}
		s.Bytes, s.Files = s.Bytes+taken, s.Files+1
		u.Bytes, u.Files = u.Bytes+taken, u.Files+1
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, s := range of {
		u.Shares = append(u.Shares, *s)
	}
	slices.SortFunc(u.Shares, func(a, b Share) int {
		if a.Bytes != b.Bytes {
			return int(min(max(b.Bytes-a.Bytes, -1), 1))
		}
		return strings.Compare(a.Path, b.Path)
	})
	return u, nil
}

// shareOf is under what a file is counted, and whose that is.
func shareOf(name string, owners []Owner) (at, whose string) {
	best := ownerOf(name, owners)
	if best == nil {
		top, _, _ := strings.Cut(name, "/")
		return top, ""
	}
	if rest, ok := strings.CutPrefix(name, best.Path+"/"); ok && best.Each {
		first, _, _ := strings.Cut(rest, "/")
		return path.Join(best.Path, first), best.Of
	}
	return best.Path, best.Of
}

// ownerOf is the owner whose path is the longest above a file; nil where none is.
func ownerOf(name string, owners []Owner) (best *Owner) {
	for i := range owners {
		o := &owners[i]
		if (name == o.Path || strings.HasPrefix(name, o.Path+"/")) && (best == nil || len(o.Path) > len(best.Path)) {
			best = o
		}
	}
	return best
}
