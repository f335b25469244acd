package iso

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"diorthos/core/readfs"
)

// A Disc is an image that is read.
type Disc struct {
	Label string
	Size  int64 // bytes, by its own word
	Boot  []BootEntry
	Names string // rock ridge, joliet or plain

	dev    io.ReaderAt
	root   record
	joliet bool
	skip   int // bytes of system use before Rock Ridge's entries
}

// Open reads the descriptors of an image.
func Open(dev io.ReaderAt) (*Disc, error) {
	d := &Disc{dev: dev, Names: "plain"}
	var joliet *record
	for i := range int64(maxDescriptors) {
		at := (firstDescriptor + i) * sector
		b := make([]byte, sector)
		if _, err := dev.ReadAt(b, at); err != nil {
			return nil, fmt.Errorf("iso: read the descriptor at byte %d: %w", at, err)
		}
		if string(b[1:6]) != "CD001" {
			return nil, &FormatError{
				In:     "iso",
				What:   "volume descriptor",
				Offset: at,
				Want:   `"CD001"`,
				Got:    fmt.Sprintf("%q", b[1:6]),
			}
		}
		switch b[0] {
		case 0:
			if strings.HasPrefix(string(b[7:39]), "EL TORITO SPECIFICATION") {
				if err := d.catalogue(int64(binary.LittleEndian.Uint32(b[71:])) * sector); err != nil {
					return nil, err
				}
			}
		case 1:
			d.Label = strings.TrimRight(string(b[40:72]), " \x00")
			d.Size = int64(binary.LittleEndian.Uint32(b[80:])) * sector
			d.root, _ = parseRecord(b[156:190], false, 0)
		case 2:
			if e := string(b[88:91]); e == "%/@" || e == "%/C" || e == "%/E" {
				r, _ := parseRecord(b[156:190], true, 0)
				joliet = &r
			}
		case 255:
			return d, d.choose(joliet)
		}
	}
	return nil, &FormatError{
		In:     "iso",
		What:   "volume descriptors",
		Offset: firstDescriptor * sector,
		Want:   "an end",
		Got:    fmt.Sprintf("more than %d", maxDescriptors),
	}
}

func (d *Disc) catalogue(at int64) (err error) {
	b := make([]byte, sector)
	if _, err := d.dev.ReadAt(b, at); err != nil {
		return fmt.Errorf("iso: read the boot catalogue: %w", err)
	}
	d.Boot, err = parseCatalogue(b, at)
	return err
}

// choose takes Rock Ridge's names if there are any, else Joliet's.
func (d *Disc) choose(joliet *record) error {
	if !d.root.folder {
		return &FormatError{In: "iso", What: "root folder", Offset: firstDescriptor * sector, Want: "a folder", Got: "none"}
	}
	b := make([]byte, sector)
	if _, err := d.dev.ReadAt(b, d.root.at); err != nil {
		return fmt.Errorf("iso: read the root folder: %w", err)
	}
	if own := b[:min(int(b[0]), sector)]; len(own) >= recordHead+8 { // the root's own record announces Rock Ridge
		use := own[34:]
		if len(use) >= 7 && string(use[:2]) == "SP" && use[4] == 0xbe && use[5] == 0xef {
			d.skip, d.Names = int(use[6]), "rock ridge"
			return nil
		}
	}
	if joliet != nil {
		d.root, d.joliet, d.Names = *joliet, true, "joliet"
	}
	return nil
}

func (d *Disc) list(folder record) ([]record, error) {
	if folder.size > maxFolder {
		return nil, &FormatError{
			In:     "iso",
			What:   "folder " + folder.name,
			Offset: folder.at,
			Want:   fmt.Sprintf("at most %d bytes", maxFolder),
			Got:    fmt.Sprint(folder.size),
		}
	}
	raw := make([]byte, folder.size)
	if _, err := d.dev.ReadAt(raw, folder.at); err != nil {
		return nil, fmt.Errorf("iso: read a folder at byte %d: %w", folder.at, err)
	}
	var list []record
	for i := 0; i < len(raw); {
		end := min((i/sector+1)*sector, len(raw)) // records do not cross sectors
		r, n := parseRecord(raw[i:end], d.joliet, d.skip)
		if n == 0 {
			i = end
			continue
		}
		if r.name != "." && r.name != ".." && fs.ValidPath(r.name) && path.Base(r.name) == r.name {
			if m := len(list); m > 0 && list[m-1].name == r.name && !r.folder && list[m-1].at+list[m-1].size == r.at {
				list[m-1].size += r.size // a file in several extents
			} else {
				list = append(list, r)
			}
		}
		i += n
	}
	return list, nil
}

// maxLinks bounds how many symbolic links are followed.
const maxLinks = 16

// Open opens a file or folder by its path; links are followed within the disc.
// Without regard to case, since other systems wrote the names.
func (d *Disc) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	r, err := d.find(name, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	if name == "." {
		r.name = "."
	}
	if r.folder {
		return readfs.OpenFolder(info{r}, func() ([]fs.FileInfo, error) {
			list, err := d.list(r)
			infos := make([]fs.FileInfo, len(list))
			for i, in := range list {
				infos[i] = info{in}
			}
			return infos, err
		}), nil
	}
	return readfs.OpenFile(info{r}, io.NewSectionReader(d.dev, r.at, r.size)), nil
}

func (d *Disc) find(name string, links int) (record, error) {
	at := d.root
	parts := strings.Split(name, "/")
	if name == "." {
		parts = nil
	}
	for i, part := range parts {
		if !at.folder {
			return record{}, fs.ErrNotExist
		}
		list, err := d.list(at)
		if err != nil {
			return record{}, err
		}
		found := false
		for _, r := range list {
			if strings.EqualFold(r.name, part) {
				at, found = r, true
				break
			}
		}
		if !found {
			return record{}, fs.ErrNotExist
		}
		if at.link != "" {
			if links == maxLinks {
				return record{}, errors.New("too many links")
			}
			target := path.Join(append([]string{path.Dir(strings.Join(parts[:i+1], "/")), at.link}, parts[i+1:]...)...)
			if path.IsAbs(at.link) {
				target = path.Join(append([]string{strings.TrimPrefix(at.link, "/")}, parts[i+1:]...)...)
			}
			if !fs.ValidPath(target) {
				return record{}, fs.ErrNotExist // it leaves the disc
			}
			return d.find(target, links+1)
		}
	}
	return at, nil
}

type info struct{ r record }

func (i info) Name() string       { return i.r.name }
func (i info) Size() int64        { return i.r.size }
func (i info) ModTime() time.Time { return i.r.changed }
func (i info) IsDir() bool        { return i.r.folder }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	switch {
	case i.r.folder:
		return fs.ModeDir | 0o555
	case i.r.link != "":
		return fs.ModeSymlink | 0o444
	}
	return 0o444
}
