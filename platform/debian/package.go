package debian

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"diorthos/core/bag"
	"diorthos/core/system"
)

// ErrNotAPackage means that a file is no Debian package (deb(5)).
var ErrNotAPackage = errors.New("not a Debian package")

// maxControl bounds the control member, in bytes.
const maxControl = 16 << 20

// ReadPackage reads what a package file says of itself.
func ReadPackage(r io.Reader) (bag.Package, error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(r, head); err != nil || string(head) != "!<arch>\n" {
		return bag.Package{}, fmt.Errorf("%w: it begins with %q", ErrNotAPackage, head)
	}
	for {
		member := make([]byte, 60) // name 16, time 12, owner 6, group 6, mode 8, size 10, end 2
		if _, err := io.ReadFull(r, member); err != nil {
			return bag.Package{}, fmt.Errorf("%w: it has no control member", ErrNotAPackage)
		}
		size, err := strconv.ParseInt(strings.TrimSpace(string(member[48:58])), 10, 64)
		if err != nil || size < 0 || !bytes.Equal(member[58:], []byte("`\n")) {
			return bag.Package{}, fmt.Errorf("%w: damaged member header", ErrNotAPackage)
		}
		name := strings.TrimRight(strings.TrimSpace(string(member[:16])), "/")
		body := io.LimitReader(r, size)
		if strings.HasPrefix(name, "control.tar") {
			return readControl(name, body)
		}
		if _, err := io.CopyN(io.Discard, r, size+size%2); err != nil {
			return bag.Package{}, fmt.Errorf("%w: cut off in member %s", ErrNotAPackage, name)
		}
	}
}

func readControl(name string, r io.Reader) (bag.Package, error) {
	plain, err := unpacked(name, r)
	if err != nil {
		return bag.Package{}, fmt.Errorf("%w: %s: %w", ErrNotAPackage, name, err)
	}
	files := tar.NewReader(io.LimitReader(plain, maxControl))
	for {
		h, err := files.Next()
		if err != nil {
			return bag.Package{}, fmt.Errorf("%w: %s holds no control file: %w", ErrNotAPackage, name, err)
		}
		if path.Clean(h.Name) != "control" {
			continue
		}
		var p bag.Package
		err = eachParagraph(files, []string{"package", "version", "architecture", "installed-size"}, func(f paragraph) error {
			p = bag.Package{
				Name:         f["package"],
				Version:      f["version"],
				Architecture: f["architecture"],
				Size:         f.kib("installed-size"),
				State:        "not-installed",
			}
			return nil
		})
		if err == nil && (p.Name == "" || p.Version == "") {
			err = fmt.Errorf("%w: its control file names no package", ErrNotAPackage)
		}
		return p, err
	}
}

func unpacked(name string, r io.Reader) (io.Reader, error) {
	switch path.Ext(name) {
	case ".gz":
		return gzip.NewReader(r)
	case ".xz":
		return xz.NewReader(r)
	case ".zst":
		return zstd.NewReader(r, zstd.WithDecoderConcurrency(1))
	}
	return r, nil
}

// ReadPackage reads what a package says of itself.
func (Adapter) ReadPackage(r io.Reader) (bag.Package, error) { return ReadPackage(r) }

// CompareVersions is as the policy manual, section 5.6.12, has it.
func (Adapter) CompareVersions(a, b string) int { return CompareVersions(a, b) }

// PackageLists names the lists of a release that apt has fetched.
func (Adapter) PackageLists(root fs.FS, codename string) (found []string) {
	for _, suite := range []string{codename, codename + "-updates", codename + "-security"} {
		list, _ := fs.Glob(root, path.Join("var/lib/apt/lists", "*_dists_"+suite+"_*_Packages*")) // the pattern is right
		found = append(found, list...)
	}
	slices.Sort(found)
	return found
}

// PlanUpgrade computes the upgrade of an installed system.
func (Adapter) PlanUpgrade(sys *bag.Installed, basis string, lists ...io.Reader) (*system.UpgradePlan, error) {
	index, err := ReadIndex(sys.Architecture, lists...)
	if err != nil {
		return nil, err
	}
	return index.Plan(sys, basis), nil
}
