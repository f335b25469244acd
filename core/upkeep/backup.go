package upkeep

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
)

// A Volume is what a backup takes files from.
type Volume struct {
	Name   string // folder of its files in the backup
	FS     fs.FS
	Owners []Owner // of a system's volume: what comes back by itself is left out
	Skip   func(folder fs.DirEntry) bool
}

// A Backup is what was put into one.
type Backup struct {
	Files  int      `json:"files"`
	Bytes  int64    `json:"bytes"`
	Unread []string `json:"unread"` // what could not be read, with why
}

// sumsName is the last entry of a backup: a line for each file, as sha256sum(1) checks them.
const sumsName = "SHA256SUMS"

var (
	escapes   = strings.NewReplacer("\\", "\\\\", "\n", "\\n", "\r", "\\r")
	unescapes = strings.NewReplacer("\\\\", "\\", "\\n", "\n", "\\r", "\r")
)

// mostUnread bounds how many files are named that cannot be read.
const mostUnread = 1000

// WriteBackup writes the files of people on some volumes as a tar archive, with their sums at its end. A file that
// cannot be read is told, and keeps no other from being taken.
func WriteBackup(ctx context.Context, out io.Writer, list []Volume, took func(bytes int64)) (*Backup, error) {
	w := &backupWriter{tar: tar.NewWriter(out), took: took}
	w.Unread = []string{}
	for _, v := range list {
		if err := fs.WalkDir(v.FS, ".", func(name string, d fs.DirEntry, err error) error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if o := ownerOf(name, v.Owners); o != nil && o.System && !ownsBelow(name, v.Owners) {
				if d != nil && d.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
			if err != nil {
				return w.unread(path.Join(v.Name, name), err)
			}
			if name == "." || d.IsDir() && v.Skip != nil && v.Skip(d) {
				if name == "." {
					return nil
				}
				return fs.SkipDir
			}
			return w.take(v, name, d)
		}); err != nil {
			return nil, err
		}
	}
	if err := w.header(&tar.Header{
		Name: sumsName, Mode: 0o600, Size: int64(w.sums.Len()), ModTime: time.Unix(0, 0), Typeflag: tar.TypeReg,
	}); err != nil {
		return nil, err
	}
	if _, err := w.tar.Write(w.sums.Bytes()); err != nil {
		return nil, err
	}
	return &w.Backup, w.tar.Close()
}

// ownsBelow reports whether something below a folder is people's although the folder is the system's.
func ownsBelow(folder string, owners []Owner) bool {
	for _, o := range owners {
		if !o.System && len(o.Path) > len(folder) && o.Path[:len(folder)+1] == folder+"/" {
			return true
		}
	}
	return false
}

type backupWriter struct {
	Backup
	tar  *tar.Writer
	sums bytes.Buffer
	took func(int64)
}

func (w *backupWriter) unread(name string, why error) error {
	if len(w.Unread) == mostUnread {
		return errors.New("more than a thousand files cannot be read: copy the disk first, and back up the copy")
	}
	w.Unread = append(w.Unread, fmt.Sprintf("%s: %v", name, why))
	return nil
}

// header writes the head of an entry.
func (w *backupWriter) header(h *tar.Header) error {
	h.Format = tar.FormatPAX
	return w.tar.WriteHeader(h)
}

// take puts a file, a folder or a link into the backup. Others, such as sockets, hold nothing.
func (w *backupWriter) take(v Volume, name string, d fs.DirEntry) error {
	full := path.Join(v.Name, name)
	info, err := d.Info()
	if err != nil {
		return w.unread(full, err)
	}
	h := &tar.Header{Name: full, Mode: int64(info.Mode().Perm()), ModTime: info.ModTime(), Typeflag: tar.TypeReg}
	h.Uid, h.Gid = ownerIDs(info)
	switch {
	case d.IsDir():
		h.Name, h.Typeflag = full+"/", tar.TypeDir
		return w.header(h)
	case d.Type() == fs.ModeSymlink:
		if h.Linkname, err = fs.ReadLink(v.FS, name); err != nil {
			return w.unread(full, err)
		}
		h.Typeflag = tar.TypeSymlink
		return w.header(h)
	case !d.Type().IsRegular():
		return nil
	}
	return w.file(v, name, h)
}

// file copies one file. One that cannot be read is found so before its head is written where it is small; of a larger
// one the rest is filled up, it is told, and it has no sum.
func (w *backupWriter) file(v Volume, name string, h *tar.Header) error {
	f, err := v.FS.Open(name)
	if err != nil {
		return w.unread(h.Name, err)
	}
	defer func() { _ = f.Close() }() // it was only read
	info, err := f.Stat()
	if err != nil {
		return w.unread(h.Name, err)
	}
	h.Size = info.Size()
	head := make([]byte, min(h.Size, 1<<20))
	if n, err := io.ReadFull(f, head); err != nil && h.Size > 0 {
		return w.unread(h.Name, fmt.Errorf("%w behind %d bytes", err, n))
	}
	if err := w.header(h); err != nil {
		return err
	}
	sum := sha256.New()
	body := io.MultiReader(bytes.NewReader(head), f)
	n, err := io.Copy(io.MultiWriter(w.tar, sum), io.LimitReader(body, h.Size))
	if short := h.Size - n; short > 0 {
		if _, padding := io.CopyN(w.tar, zeros{}, short); padding != nil {
			return padding // the archive cannot be written
		}
		if err == nil {
			err = io.ErrUnexpectedEOF
		}
		return w.unread(h.Name, fmt.Errorf("%w: the last %d bytes are filled up", err, short))
	}
	if err != nil {
		return err
	}
	w.Files, w.Bytes = w.Files+1, w.Bytes+n
	mark, name := "", h.Name
	if strings.ContainsAny(name, "\\\n\r") { // as sha256sum(1) writes such names
		mark, name = "\\", escapes.Replace(name)
	}
	_, _ = fmt.Fprintf(&w.sums, "%s%s  %s\n", mark, hex.EncodeToString(sum.Sum(nil)), name)
	if w.took != nil {
		w.took(n)
	}
	return nil
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// CheckBackup reads a backup to its end and holds every file against its sum.
func CheckBackup(ctx context.Context, in io.Reader) (files int, err error) {
	archive, sums := tar.NewReader(in), map[string]string{}
	for {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return 0, fmt.Errorf("it ends without %s: it is cut off", sumsName)
		}
		if err != nil {
			return 0, err
		}
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		if h.Name == sumsName {
			raw, err := io.ReadAll(archive)
			if err != nil {
				return 0, err
			}
			return checkSums(raw, sums)
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		sum := sha256.New()
		if _, err := io.Copy(sum, archive); err != nil {
			return 0, err
		}
		sums[h.Name] = hex.EncodeToString(sum.Sum(nil))
	}
}

func checkSums(list []byte, have map[string]string) (files int, err error) {
	for line := range bytes.Lines(list) {
		sum, name, ok := strings.Cut(strings.TrimSuffix(string(line), "\n"), "  ")
		if plain, escaped := strings.CutPrefix(sum, "\\"); escaped {
			sum, name = plain, unescapes.Replace(name)
		}
		if !ok || have[name] != sum {
			return 0, fmt.Errorf("%q is not as it was read", name)
		}
		files++
	}
	return files, nil
}
