package debian

import (
	"archive/tar"
	"crypto/md5" //nolint:gosec // the sums that dpkg keeps
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"

	"diorthos/core/bag"
)

// A debFile is a package file (deb(5)): an ar archive of two packed tar archives.
type debFile struct {
	name    string
	in      io.ReadCloser
	at      io.ReaderAt
	size    int64
	members map[string]member // by the name without what it is packed with
}

// A member of the ar archive.
type member struct {
	name      string
	off, size int64
}

const arHeader = 60

// openDeb opens a package file. Its members have to lie within it.
func openDeb(name string, f fs.File) (*debFile, error) {
	at, ok := f.(io.ReaderAt)
	info, err := f.Stat()
	if err != nil || !ok {
		return nil, errors.Join(err, f.Close())
	}
	d := &debFile{name: name, in: f, at: at, size: info.Size(), members: map[string]member{}}
	if err := d.index(info.Size()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return d, nil
}

func (d *debFile) index(size int64) error {
	head := make([]byte, 8)
	if _, err := d.at.ReadAt(head, 0); err != nil || string(head) != "!<arch>\n" {
		return fmt.Errorf("%w: it begins with %q", ErrNotAPackage, head)
	}
	for off := int64(len(head)); off < size; {
		h := make([]byte, arHeader)
		if _, err := d.at.ReadAt(h, off); err != nil {
			return fmt.Errorf("%w: cut off at byte %d", ErrNotAPackage, off)
		}
		n, err := strconv.ParseInt(strings.TrimSpace(string(h[48:58])), 10, 64)
		if err != nil || n < 0 || string(h[58:]) != "`\n" {
			return fmt.Errorf("%w: damaged member header at byte %d", ErrNotAPackage, off)
		}
		name := strings.TrimRight(strings.TrimSpace(string(h[:16])), "/")
		if off+arHeader+n > size {
			return fmt.Errorf("%w: member %s is cut off: it ends at byte %d, and the file has %d",
				ErrNotAPackage, name, off+arHeader+n, size)
		}
		plain, _, _ := strings.Cut(name, ".tar")
		d.members[plain] = member{name, off + arHeader, n}
		off += arHeader + n + n%2
	}
	if _, ok := d.members["data"]; !ok {
		return fmt.Errorf("%w: it has no data member", ErrNotAPackage)
	}
	return nil
}

// Close closes the file.
func (d *debFile) Close() error { return d.in.Close() }

// each goes through the files of a member.
func (d *debFile) each(name string, f func(h *tar.Header, r io.Reader) (more bool, err error)) error {
	m, ok := d.members[name]
	if !ok {
		return fmt.Errorf("%s: %w: it has no %s member", d.name, ErrNotAPackage, name)
	}
	plain, err := unpacked(m.name, io.NewSectionReader(d.at, m.off, m.size))
	if err != nil {
		return fmt.Errorf("%s: %w: %w", d.name, ErrNotAPackage, err)
	}
	for files := tar.NewReader(plain); ; {
		h, err := files.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w: %w", d.name, ErrNotAPackage, err)
		}
		if more, err := f(h, files); err != nil || !more {
			return err
		}
	}
}

// paths are the names that the package owns, as dpkg lists them.
func (d *debFile) paths() (list []string, err error) {
	return list, d.each("data", func(h *tar.Header, _ io.Reader) (bool, error) {
		name := "/" + strings.Trim(strings.TrimPrefix(h.Name, "."), "/")
		if name == "/" {
			name = "/."
		}
		list = append(list, name)
		return true, nil
	})
}

// maxScript bounds a file of the control member, in bytes.
const maxScript = 8 << 20

// control reads one file of the control member.
func (d *debFile) control(name string) (raw []byte, err error) {
	err = d.each("control", func(h *tar.Header, r io.Reader) (bool, error) {
		if path.Clean(h.Name) != name {
			return true, nil
		}
		raw, err = io.ReadAll(io.LimitReader(r, maxScript))
		return false, err
	})
	if err == nil && raw == nil {
		err = fmt.Errorf("%s: %s: %w", d.name, name, fs.ErrNotExist)
	}
	return raw, err
}

// cachedName is what apt calls a package file that it fetched.
func cachedName(p bag.Package) string {
	return fmt.Sprintf("%s/%s_%s_%s.deb", cacheFolder, p.Name, strings.ReplaceAll(p.Version, ":", "%3a"), p.Architecture)
}

// copyTo copies all of it.
func (d *debFile) copyTo(to io.Writer) error {
	_, err := io.Copy(to, io.NewSectionReader(d.at, 0, d.size))
	return err
}

// openCached opens the package file of what is installed, where it is still in apt's cache.
func openCached(files *os.Root, p bag.Package) (*debFile, error) {
	name := cachedName(p)
	f, err := files.Open(name)
	if err != nil {
		return nil, err
	}
	return openDeb(name, f)
}

// wholePackage says why a package file is not whole: only its frame is looked at.
func wholePackage(root fs.FS, name string) error {
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	d, err := openDeb(name, f)
	if err != nil {
		return err
	}
	return d.Close()
}

// entry is what dpkg's database says of the package when it is installed, if its files are those
// that lie on the system: the control file, its state, and the checksums of configuration files.
func (d *debFile) entry(files *os.Root) ([]byte, error) {
	control, err := d.control("control")
	if err != nil {
		return nil, err
	}
	list, _ := d.control("conffiles") // most packages have none
	owned := map[string]bool{}
	for _, line := range strings.Fields(string(list)) {
		owned[strings.TrimPrefix(line, "/")] = true
	}
	var sums []string
	err = d.each("data", func(h *tar.Header, r io.Reader) (bool, error) {
		name := nameIn(h)
		if h.Typeflag != tar.TypeReg {
			return true, nil
		}
		hash := md5.New() //nolint:gosec // the sums that dpkg keeps
		if _, err := io.Copy(hash, r); err != nil {
			return false, err
		}
		sum := hex.EncodeToString(hash.Sum(nil))
		if owned[name] {
			sums = append(sums, " /"+name+" "+sum)
			return true, nil
		}
		info, err := files.Stat(name)
		if err != nil && leftOut(name) {
			return true, nil
		}
		if err != nil || info.Size() != h.Size {
			return false, fmt.Errorf("%s: %s is not the one that lies here", d.name, name)
		}
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	lines := strings.Split(strings.TrimSpace(string(control)), "\n")
	out := []string{lines[0], "Status: install ok installed"}
	out = append(out, lines[1:]...)
	if len(sums) > 0 {
		out = append(append(out, "Conffiles:"), sums...)
	}
	return []byte(strings.Join(out, "\n")), nil
}
