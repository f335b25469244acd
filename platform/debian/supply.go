package debian

import (
	"bytes"
	"context"
	"crypto/md5" //nolint:gosec // the sums that packages carry
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/media"
	"diorthos/core/store"
)

// errByPackage is said where a component is asked for by its hash alone.
var errByPackage = fmt.Errorf("packages are found by name and version: %w", fs.ErrNotExist)

// A noBuild is a source of a family that has versions of packages, and no builds.
type noBuild struct{ title string }

// Title names it.
func (s noBuild) Title() string { return s.title }

// Build is 0.
func (noBuild) Build() int { return 0 }

// Payload is not found by its hash.
func (noBuild) Payload(context.Context, string) ([]byte, error) { return nil, errByPackage }

// Manifest is not found.
func (noBuild) Manifest(context.Context, string, string) ([]byte, error) { return nil, errByPackage }

// A packageFolder is a folder, or a volume, with package files somewhere in it.
type packageFolder struct {
	noBuild
	files fs.FS
}

// openPackage finds the package file of a version.
func (s packageFolder) openPackage(p bag.Package) (found *debFile, err error) {
	err = fs.WalkDir(s.files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return fs.SkipDir
		}
		if d.IsDir() || path.Ext(name) != ".deb" || !strings.HasPrefix(d.Name(), p.Name) {
			return nil
		}
		f, err := s.files.Open(name)
		if err != nil {
			return nil //nolint:nilerr // another may do
		}
		said, err := ReadPackage(f)
		if err != nil || said.Name != p.Name || said.Version != p.Version || said.Architecture != p.Architecture {
			return f.Close()
		}
		if err := f.Close(); err != nil {
			return err
		}
		if f, err = s.files.Open(name); err != nil {
			return err
		}
		if found, err = openDeb(s.title+"/"+name, f); err != nil {
			return err
		}
		return fs.SkipAll
	})
	if err == nil && found == nil {
		err = fmt.Errorf("%s has no %s %s: %w", s.title, p.Name, p.Version, fs.ErrNotExist)
	}
	return found, err
}

// A singlePackage is one package file.
type singlePackage struct {
	noBuild
	raw []byte
	is  bag.Package
}

func (s singlePackage) openPackage(p bag.Package) (*debFile, error) {
	if p.Name != s.is.Name || p.Version != s.is.Version || p.Architecture != s.is.Architecture {
		return nil, fmt.Errorf("%s is %s %s for %s: %w", s.title, s.is.Name, s.is.Version, s.is.Architecture, fs.ErrNotExist)
	}
	return openDeb(s.title, &inMemory{Reader: bytes.NewReader(s.raw), name: s.title})
}

// inMemory is a file of bytes.
type inMemory struct {
	*bytes.Reader
	name string
}

func (f *inMemory) Stat() (fs.FileInfo, error) { return f, nil }
func (*inMemory) Close() error                 { return nil }
func (f *inMemory) Name() string               { return f.name }
func (*inMemory) Mode() fs.FileMode            { return 0o644 }
func (*inMemory) ModTime() time.Time           { return time.Time{} }
func (*inMemory) IsDir() bool                  { return false }
func (*inMemory) Sys() any                     { return nil }

// A twin is a healthy machine with the same packages.
type twin struct {
	noBuild
	files    fs.FS
	packages map[string]bag.Package
}

// has reports whether the twin has a package in the very version, at rest.
func (t *twin) has(p bag.Package) bool {
	own, ok := t.packages[p.Name]
	return ok && own.Version == p.Version && own.Architecture == p.Architecture && own.State == "installed"
}

// give lays out files as the twin has them, where they have the checksum that is wanted.
func (t *twin) give(files *os.Root, want map[string]string) (put int, err error) {
	for name, sum := range want {
		info, err := lstat(t.files, name)
		if err != nil {
			return put, nil //nolint:nilerr // it lacks what is wanted
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			to, err := fs.ReadLink(t.files, name)
			if err != nil {
				return put, err
			}
			_ = files.Remove(name)
			if err := files.Symlink(to, name); err != nil {
				return put, err
			}
			put++
			continue
		}
		data, err := fs.ReadFile(t.files, name)
		if err != nil {
			return put, err
		}
		if got := md5.Sum(data); sum != "" && hex.EncodeToString(got[:]) != sum { //nolint:gosec // as above
			return put, nil
		}
		if err := files.MkdirAll(path.Dir(name), 0o755); err != nil {
			return put, err
		}
		uid, gid := ownerOf(info)
		if err := putFile(files, name, data, info.Mode(), uid, gid); err != nil {
			return put, err
		}
		put++
	}
	return put, nil
}

// Medium takes a package file as a source.
func (Adapter) Medium(name string, raw []byte) (store.Source, bool, error) {
	if !bytes.HasPrefix(raw, []byte("!<arch>\n")) {
		return nil, false, nil
	}
	p, err := ReadPackage(bytes.NewReader(raw))
	if err != nil {
		return nil, true, err
	}
	return singlePackage{noBuild{path.Base(name)}, raw, p}, true, nil
}

// DescribeMedium knows none: an install medium of the family is told by what firmware starts.
func (Adapter) DescribeMedium(string, []byte) (*media.Medium, bool, error) { return nil, false, nil }

// Twin takes a healthy machine of the family, or a folder of package files.
func (a Adapter) Twin(name string, volume fs.FS) (store.Source, error) {
	if _, ok := a.Find(volume); ok {
		t := &twin{noBuild{name}, volume, map[string]bag.Package{}}
		for _, p := range installedIn(volume) {
			t.packages[p.Name] = p
		}
		return t, nil
	}
	found := false
	err := fs.WalkDir(volume, ".", func(name string, _ fs.DirEntry, err error) error {
		if err == nil && path.Ext(name) == ".deb" {
			found = true
			return fs.SkipAll
		}
		return nil
	})
	if err != nil || !found {
		return nil, errors.Join(err, errors.New("neither a system of the Debian family nor a folder with package files"))
	}
	return packageFolder{noBuild{name}, volume}, nil
}

// Service is none: the repositories that the machine names are asked by its own apt.
func (Adapter) Service(address string, _ int) store.Source { return noBuild{address} }
