package debian

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"diorthos/core/bag"
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
			p = bag.Package{Name: f["package"], Version: f["version"], Architecture: f["architecture"], Size: f.kib("installed-size"), State: "not-installed"}
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
