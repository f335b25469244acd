package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
)

// ErrFull means that a volume has no room for what is to be written.
var ErrFull = errors.New("fat: no room on the volume")

// An Editor changes the files of a volume. It reads as an [fs.FS] what has
// been written so far. Each call leaves a volume that is whole; to have all of
// several calls or none, give it a [block.Draft] and journal that.
type Editor struct {
	*Volume
	dev   Device
	now   time.Time
	hint  uint32         // where the search for a free cluster begins
	free  uint32         // clusters
	dirty map[int64]bool // sectors of the table that changed
}

// Edit opens a volume for changes. now is what the files that are written bear
// as their time; its zone is that of the machine.
func Edit(dev Device, now time.Time) (*Editor, error) {
	v, err := Open(dev)
	if err != nil {
		return nil, err
	}
	if v.FromBackup != nil {
		return nil, fmt.Errorf("fat: the first boot sector is damaged, mend the volume first: %w", v.FromBackup)
	}
	e := &Editor{Volume: v, dev: dev, now: now, hint: 2, dirty: map[int64]bool{}}
	for c := uint32(2); v.valid(c); c++ {
		if v.entry(c) == 0 {
			e.free++
		}
	}
	return e, nil
}

// Free is how many bytes are free.
func (e *Editor) Free() int64 { return int64(e.free) * e.Cluster }

// WriteFile writes a file whole, in place of one that is there. Its folder
// must exist.
func (e *Editor) WriteFile(name string, data []byte) error {
	if len(data) > maxFile {
		return fail("write", name, ErrTooLarge)
	}
	have, err := e.find("write", name)
	if err == nil && (have.Folder || have.ReadOnly) {
		return fail("write", name, fs.ErrPermission)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	need := (int64(len(data)) + e.Cluster - 1) / e.Cluster
	if need > int64(e.free) {
		return fail("write", name, ErrFull)
	}
	e.label("%s", name)
	clusters, err := e.put(data)
	if err != nil {
		return fail("write", name, err)
	}
	first := uint32(0)
	if len(clusters) > 0 {
		first = clusters[0]
	}
	if have != nil {
		e.release(have.Cluster)
		e.label("folder entry of %s", name)
		if err := e.point(have, first, int64(len(data)), true); err != nil {
			return fail("write", name, err)
		}
		return e.flush()
	}
	if err := e.enter("write", name, 0x20, first, int64(len(data))); err != nil {
		e.release(first)
		return errors.Join(err, e.flush())
	}
	return e.flush()
}

// Mkdir makes a folder and those above it that are not there yet.
func (e *Editor) Mkdir(name string) error {
	if name == "." {
		return nil
	}
	have, err := e.find("mkdir", name)
	switch {
	case err == nil && have.Folder:
		return nil
	case err == nil:
		return fail("mkdir", name, fs.ErrExist)
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := e.Mkdir(path.Dir(name)); err != nil {
		return err
	}
	parent, err := e.find("mkdir", path.Dir(name))
	if err != nil {
		return err
	}
	list, err := e.take(1)
	if err != nil {
		return fail("mkdir", name, err)
	}
	above := parent.Cluster
	if above == e.Root {
		above = 0
	}
	e.label("folder %s", name)
	raw := make([]byte, e.Cluster)
	copy(raw, shortEntry(padded(".", 11), attrFolder, list[0], 0, e.now))
	copy(raw[entrySize:], shortEntry(padded("..", 11), attrFolder, above, 0, e.now))
	if _, err := e.dev.WriteAt(raw, e.clusterAt(list[0])); err != nil {
		return fail("mkdir", name, err)
	}
	if err := e.enter("mkdir", name, attrFolder, list[0], 0); err != nil {
		e.release(list[0])
		return errors.Join(err, e.flush())
	}
	return e.flush()
}

// Rename gives a file or folder another name or another folder. Nothing may
// have that name yet.
func (e *Editor) Rename(old, name string) error {
	have, err := e.find("rename", old)
	if err != nil {
		return err
	}
	if _, err := e.find("rename", name); err == nil {
		return fail("rename", name, fs.ErrExist)
	}
	if have.Folder && strings.HasPrefix(strings.ToLower(name)+"/", strings.ToLower(old)+"/") {
		return fail("rename", name, fs.ErrInvalid)
	}
	raw := make([]byte, entrySize)
	if _, err := e.dev.ReadAt(raw, have.at); err != nil {
		return fail("rename", old, err)
	}
	if err := e.enter("rename", name, raw[11], have.Cluster, have.Size); err != nil {
		return errors.Join(err, e.flush())
	}
	made, err := e.find("rename", name)
	if err != nil {
		return err
	}
	as := make([]byte, entrySize) // the times stay those of the file
	if _, err := e.dev.ReadAt(as, made.at); err != nil {
		return fail("rename", name, err)
	}
	copy(as[13:20], raw[13:20])
	copy(as[22:26], raw[22:26])
	if _, err := e.dev.WriteAt(as, made.at); err != nil {
		return fail("rename", name, err)
	}
	e.label("folder entry of %s", old)
	if err := e.strike(have); err != nil {
		return fail("rename", old, err)
	}
	if have.Folder {
		if err := e.reparent(have.Cluster, path.Dir(name)); err != nil {
			return fail("rename", name, err)
		}
	}
	return e.flush()
}

// reparent writes where the folder above a folder is.
func (e *Editor) reparent(cluster uint32, above string) error {
	parent, err := e.find("rename", above)
	if err != nil {
		return err
	}
	up := parent.Cluster
	if up == e.Root {
		up = 0
	}
	var b [entrySize]byte
	at := e.clusterAt(cluster) + entrySize
	if _, err := e.dev.ReadAt(b[:], at); err != nil {
		return err
	}
	binary.LittleEndian.PutUint16(b[20:], uint16(up>>16))
	binary.LittleEndian.PutUint16(b[26:], uint16(up))
	_, err = e.dev.WriteAt(b[:], at)
	return err
}

// Remove takes a file, or a folder that is empty, off the volume.
func (e *Editor) Remove(name string) error {
	have, err := e.find("remove", name)
	if err != nil {
		return err
	}
	if have.Folder {
		list, err := e.folder(have.Cluster)
		if err != nil || len(list) > 0 || name == "." {
			return fail("remove", name, errors.Join(errors.New("the folder is not empty"), err))
		}
	}
	e.label("folder entry of %s", name)
	if err := e.strike(have); err != nil {
		return fail("remove", name, err)
	}
	e.release(have.Cluster)
	return e.flush()
}

// SetReadOnly sets or clears the attribute by which a file or folder is not to
// be written.
func (e *Editor) SetReadOnly(name string, on bool) error {
	have, err := e.find("chmod", name)
	if err != nil {
		return err
	}
	e.label("folder entry of %s", name)
	var b [1]byte
	if _, err := e.dev.ReadAt(b[:], have.at+11); err != nil {
		return fail("chmod", name, err)
	}
	b[0] &^= attrReadOnly
	if on {
		b[0] |= attrReadOnly
	}
	_, err = e.dev.WriteAt(b[:], have.at+11)
	return err
}

func fail(op, name string, err error) error { return &fs.PathError{Op: op, Path: name, Err: err} }

// label tells a draft, in a technician's words, what the next writes are.
func (e *Editor) label(format string, a ...any) {
	if d, ok := e.dev.(interface{ For(string) }); ok {
		d.For(fmt.Sprintf(format, a...))
	}
}

// put writes data into free clusters and chains them.
func (e *Editor) put(data []byte) ([]uint32, error) {
	list, err := e.take((int64(len(data)) + e.Cluster - 1) / e.Cluster)
	if err != nil {
		return nil, err
	}
	for i := 0; i < len(list); {
		run := 1 // clusters in a row go in one write
		for i+run < len(list) && list[i+run] == list[i]+uint32(run) {
			run++
		}
		raw := make([]byte, int64(run)*e.Cluster)
		copy(raw, data[int64(i)*e.Cluster:])
		if _, err := e.dev.WriteAt(raw, e.clusterAt(list[i])); err != nil {
			return nil, err
		}
		i += run
	}
	return list, nil
}

// take chains n free clusters.
func (e *Editor) take(n int64) ([]uint32, error) {
	if n > int64(e.free) {
		return nil, ErrFull
	}
	list := make([]uint32, 0, n)
	for c := e.hint; int64(len(list)) < n; c++ {
		if !e.valid(c) {
			c = 2
		}
		if e.entry(c) == 0 {
			list = append(list, c)
			e.set(c, e.mask()) // so that it is not found again
			e.hint = c + 1
		}
	}
	for i := range list[:max(len(list)-1, 0)] {
		e.set(list[i], list[i+1])
	}
	e.free -= uint32(n)
	return list, nil
}

// release frees a chain.
func (e *Editor) release(first uint32) {
	list, _ := e.chain(first, int64(e.Clusters))
	for _, c := range list {
		e.set(c, 0)
		e.hint = min(e.hint, c)
	}
	e.free += uint32(len(list))
}

func (e *Editor) set(c, value uint32) {
	putTableEntry(e.table, e.Bits, c, value)
	at := int64(c) * int64(e.Bits) / 8
	e.dirty[at/e.Sector] = true
	e.dirty[(at+1)/e.Sector] = true // an entry of 12 bits may lie across two
}

// flush writes what changed of the table into every copy, and the free count.
func (e *Editor) flush() error {
	e.label("table of clusters")
	for s := range e.dirty {
		if s >= e.TableSize {
			continue
		}
		for i := range e.Tables {
			if _, err := e.dev.WriteAt(e.table[s*e.Sector:(s+1)*e.Sector], e.tableAt(i)+s*e.Sector); err != nil {
				return fmt.Errorf("fat: write table %d: %w", i+1, err)
			}
		}
	}
	clear(e.dirty)
	if e.Info == 0 {
		return nil
	}
	e.label("count of free clusters")
	var b [8]byte
	binary.LittleEndian.PutUint32(b[:], e.free)
	binary.LittleEndian.PutUint32(b[4:], min(e.hint, e.Clusters+1))
	_, err := e.dev.WriteAt(b[:], e.Info*e.Sector+488)
	return err
}

// point gives an entry another chain and size.
func (e *Editor) point(have *Entry, cluster uint32, size int64, touched bool) error {
	var b [entrySize]byte
	if _, err := e.dev.ReadAt(b[:], have.at); err != nil {
		return err
	}
	as := shortEntry(b[:11], b[11], cluster, size, e.now)
	copy(b[20:22], as[20:])
	copy(b[26:], as[26:])
	if touched {
		copy(b[18:20], as[18:])
		copy(b[22:26], as[22:])
	}
	_, err := e.dev.WriteAt(b[:], have.at)
	return err
}

// strike marks an entry and those of its long name as deleted.
func (e *Editor) strike(have *Entry) error {
	for _, at := range append(slices.Clone(have.longAt), have.at) {
		if _, err := e.dev.WriteAt([]byte{deleted}, at); err != nil {
			return err
		}
	}
	return nil
}

// enter adds a name to its folder, which grows if it has to.
func (e *Editor) enter(op, name string, attr byte, cluster uint32, size int64) error {
	parent, err := e.find(op, path.Dir(name))
	if err != nil {
		return err
	}
	if !parent.Folder || parent.ReadOnly || !fs.ValidPath(name) || strings.ContainsAny(path.Base(name), `"*:<>?\|`) {
		return fail(op, name, map[bool]error{true: fs.ErrPermission, false: fs.ErrInvalid}[parent.ReadOnly])
	}
	list, err := e.folder(parent.Cluster)
	if err != nil {
		return fail(op, name, err)
	}
	used := map[string]bool{}
	for _, in := range list {
		base, ext, _ := strings.Cut(in.Short, ".")
		if len(base) <= 8 && len(ext) <= 3 {
			used[string(append(padded(base, 8), padded(ext, 3)...))] = true
		}
	}
	raw := nameEntries(path.Base(name), used, attr, cluster, size, e.now)
	at, err := e.slots(parent.Cluster, len(raw)/entrySize)
	if err != nil {
		return fail(op, name, err)
	}
	e.label("folder entry of %s", name)
	for i, off := range at {
		if _, err := e.dev.WriteAt(raw[i*entrySize:(i+1)*entrySize], off); err != nil {
			return fail(op, name, err)
		}
	}
	return nil
}

// slots finds n entries in a row that are free, in a folder by its first
// cluster.
func (e *Editor) slots(cluster uint32, n int) ([]int64, error) {
	raw, at, err := e.folderBytes(cluster)
	if err != nil {
		return nil, err
	}
	run := 0
	ended := false
	for i := range at {
		first := raw[i*entrySize]
		if ended = ended || first == 0; ended || first == deleted {
			if run++; run == n {
				return at[i-n+1 : i+1], nil
			}
			continue
		}
		run = 0
	}
	if cluster == 0 && e.Bits != 32 {
		return nil, fmt.Errorf("the root folder is full: %w", ErrFull)
	}
	if len(at)+n > maxFolder {
		return nil, fmt.Errorf("the folder has %d entries: %w", len(at), ErrFull)
	}
	if cluster == 0 {
		cluster = e.Root
	}
	chain, _ := e.chain(cluster, maxFolder)
	more, err := e.take(1)
	if err != nil {
		return nil, err
	}
	if _, err := e.dev.WriteAt(make([]byte, e.Cluster), e.clusterAt(more[0])); err != nil {
		return nil, err
	}
	e.set(chain[len(chain)-1], more[0])
	return e.slots(cluster, n)
}
