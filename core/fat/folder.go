package fat

import (
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"
	"unicode/utf16"

	"diorthos/core/readfs"
)

// Attributes of an entry.
const (
	attrReadOnly = 0x01
	attrFolder   = 0x10
	attrLong     = 0x0f
	deleted      = 0xe5
)

// maxFolder bounds the entries of one folder: 65,536 by the specification.
const maxFolder = 65536

// An Entry is a file or folder.
type Entry struct {
	Name     string // the long one, if there is one
	Short    string
	Folder   bool
	ReadOnly bool
	Size     int64 // bytes
	Cluster  uint32
	Changed  time.Time // in the machine's local time, of which no zone is noted

	at       int64   // where its 32 bytes lie on the volume
	longAt   []int64 // and those of its long name
	orphaned bool    // long-name entries before it belong to nothing
}

// folder lists the entries of a folder by its first cluster; 0 is the root.
func (v *Volume) folder(cluster uint32) ([]Entry, error) {
	raw, at, err := v.folderBytes(cluster)
	if err != nil {
		return nil, err
	}
	return scanFolder(raw, at, v.Bits), nil
}

// folderBytes are a folder's entries with the place on the volume of each.
func (v *Volume) folderBytes(cluster uint32) (raw []byte, at []int64, err error) {
	if cluster == 0 && v.Bits != 32 {
		raw = make([]byte, v.RootEntries*entrySize)
		if _, err := v.dev.ReadAt(raw, v.rootAt()); err != nil {
			return nil, nil, fmt.Errorf("fat: read the root folder: %w", err)
		}
		for i := range v.RootEntries {
			at = append(at, v.rootAt()+i*entrySize)
		}
		return raw, at, nil
	}
	if cluster == 0 {
		cluster = v.Root
	}
	list, _ := v.chain(cluster, maxFolder*entrySize/v.Cluster+1)
	for _, c := range list {
		part := make([]byte, v.Cluster)
		if _, err := v.dev.ReadAt(part, v.clusterAt(c)); err != nil && err != io.EOF {
			return nil, nil, fmt.Errorf("fat: read cluster %d: %w", c, err)
		}
		raw = append(raw, part...)
		for i := int64(0); i < v.Cluster; i += entrySize {
			at = append(at, v.clusterAt(c)+i)
		}
	}
	return raw, at, nil
}

func scanFolder(raw []byte, at []int64, bits int) []Entry {
	le := binary.LittleEndian
	var list []Entry
	var long []byte // the entries of a long name, as they were met
	var longAt []int64
	for i := range at {
		b := raw[i*entrySize : (i+1)*entrySize]
		switch {
		case b[0] == 0:
			return list
		case b[0] == deleted:
			long, longAt = nil, nil
			continue
		case b[11]&0x3f == attrLong:
			if b[0]&0x40 != 0 {
				long, longAt = nil, nil
			}
			long, longAt = append(long, b...), append(longAt, at[i])
			continue
		case b[11]&attrVolumeLabel != 0:
			long, longAt = nil, nil
			continue
		}
		e := Entry{
			Short:    shortName(b[:11], true),
			Folder:   b[11]&attrFolder != 0,
			ReadOnly: b[11]&attrReadOnly != 0,
			Size:     int64(le.Uint32(b[28:])),
			Cluster:  uint32(le.Uint16(b[26:])),
			Changed:  stamp(le.Uint16(b[24:]), le.Uint16(b[22:])),
			at:       at[i],
		}
		if bits == 32 {
			e.Cluster |= uint32(le.Uint16(b[20:])) << 16
		}
		e.Name = lowered(e.Short, b[12])
		if len(long) > 0 {
			if name, ok := longName(long, checksum(b[:11])); ok {
				e.Name, e.longAt = name, longAt
			} else {
				e.orphaned, e.longAt = true, longAt
			}
		}
		long, longAt = nil, nil
		if e.Short != "." && e.Short != ".." {
			list = append(list, e)
		}
	}
	return list
}

// shortName reads the eleven bytes of a name.
func shortName(b []byte, dotted bool) string {
	raw := []byte(string(b))
	if raw[0] == 0x05 {
		raw[0] = deleted
	}
	if !dotted {
		return strings.TrimRight(latin(raw), " \x00")
	}
	name, ext := strings.TrimRight(latin(raw[:8]), " "), strings.TrimRight(latin(raw[8:11]), " ")
	if ext != "" {
		name += "." + ext
	}
	return name
}

// lowered gives a short name the case that two flags remember.
func lowered(short string, flags byte) string {
	name, ext, dotted := strings.Cut(short, ".")
	if flags&0x08 != 0 {
		name = strings.ToLower(name)
	}
	if flags&0x10 != 0 {
		ext = strings.ToLower(ext)
	}
	if dotted {
		return name + "." + ext
	}
	return name
}

func latin(b []byte) string {
	runes := make([]rune, len(b))
	for i, c := range b {
		runes[i] = rune(c)
	}
	return string(runes)
}

// checksum ties a long name to its short one.
func checksum(short []byte) byte {
	sum := byte(0)
	for _, c := range short {
		sum = sum>>1 | sum<<7
		sum += c
	}
	return sum
}

// longPieces are where the letters of a long name lie in an entry.
var longPieces = [][2]int{{1, 11}, {14, 26}, {28, 32}}

// longName puts a long name together. The last part comes first.
func longName(raw []byte, sum byte) (string, bool) {
	n := len(raw) / entrySize
	var units []uint16
	for i := n - 1; i >= 0; i-- {
		b := raw[i*entrySize:]
		if int(b[0]&0x3f) != n-i || b[13] != sum {
			return "", false
		}
		for _, piece := range longPieces {
			for k := piece[0]; k < piece[1]; k += 2 {
				units = append(units, binary.LittleEndian.Uint16(b[k:]))
			}
		}
	}
	if raw[0]&0x40 == 0 {
		return "", false
	}
	for i, u := range units {
		if u == 0 {
			units = units[:i]
			break
		}
	}
	name := string(utf16.Decode(units))
	return name, name != "" && !strings.ContainsAny(name, "/\x00")
}

func stamp(date, clock uint16) time.Time {
	if date == 0 {
		return time.Time{}
	}
	return time.Date(
		1980+int(date>>9),
		time.Month(date>>5&15), int(date&31), int(clock>>11), int(clock>>5&63), int(clock&31)*2, 0, time.UTC,
	)
}

// Open opens a file or folder by its path, without regard to case, as
// [fs.FS] wants it.
func (v *Volume) Open(name string) (fs.File, error) {
	e, err := v.find("open", name)
	if err != nil {
		return nil, err
	}
	if e.Folder {
		return readfs.OpenFolder(info{*e}, func() ([]fs.FileInfo, error) {
			list, err := v.folder(e.Cluster)
			infos := make([]fs.FileInfo, len(list))
			for i, in := range list {
				infos[i] = info{in}
			}
			return infos, err
		}), nil
	}
	clusters, fault := v.chain(e.Cluster, (e.Size+v.Cluster-1)/v.Cluster)
	if int64(len(clusters))*v.Cluster < e.Size {
		return nil, &fs.PathError{
			Op:   "open",
			Path: name,
			Err:  fmt.Errorf("its chain of clusters %s after %d bytes of %d", fault, int64(len(clusters))*v.Cluster, e.Size),
		}
	}
	return readfs.OpenFile(info{*e}, io.NewSectionReader(&chained{v, clusters}, 0, e.Size)), nil
}

func (v *Volume) find(op, name string) (*Entry, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	e := &Entry{Name: ".", Folder: true}
	if name == "." {
		return e, nil
	}
	seen := map[uint32]bool{0: true, v.Root: true}
	for _, part := range strings.Split(name, "/") {
		if !e.Folder {
			return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
		}
		list, err := v.folder(e.Cluster)
		if err != nil {
			return nil, &fs.PathError{Op: op, Path: name, Err: err}
		}
		var next *Entry
		for i := range list {
			if strings.EqualFold(list[i].Name, part) || strings.EqualFold(list[i].Short, part) {
				next = &list[i]
				break
			}
		}
		if next == nil {
			return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
		}
		if next.Folder && seen[next.Cluster] {
			return nil, &fs.PathError{
				Op:   op,
				Path: name,
				Err:  fmt.Errorf("the folder lies inside itself: cluster %d", next.Cluster),
			}
		}
		seen[next.Cluster] = next.Folder
		e = next
	}
	return e, nil
}

// chained reads clusters as if they lay one after the other.
type chained struct {
	v    *Volume
	list []uint32
}

func (c *chained) ReadAt(p []byte, off int64) (n int, err error) {
	for n < len(p) {
		i := (off + int64(n)) / c.v.Cluster
		if i >= int64(len(c.list)) {
			return n, io.EOF
		}
		within := (off + int64(n)) % c.v.Cluster
		m := min(int64(len(p)-n), c.v.Cluster-within)
		got, err := c.v.dev.ReadAt(p[n:n+int(m)], c.v.clusterAt(c.list[i])+within)
		n += got
		if int64(got) < m {
			return n, err
		}
	}
	return n, nil
}

type info struct{ e Entry }

func (i info) Name() string       { return i.e.Name }
func (i info) Size() int64        { return i.e.Size }
func (i info) ModTime() time.Time { return i.e.Changed }
func (i info) IsDir() bool        { return i.e.Folder }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	mode := fs.FileMode(0o644)
	if i.e.Folder {
		mode = fs.ModeDir | 0o755
	}
	if i.e.ReadOnly {
		mode &^= 0o222
	}
	return mode
}
