package fat

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"path"

	"diorthos/core/block"
)

// A Finding is one thing that is wrong with a volume.
type Finding struct {
	ID   string `json:"id"`
	Path string `json:"path,omitempty"`
	Text string `json:"text"`
	Do   string `json:"do"` // what Repair does about it
}

// A Report is what Check found, with the writes that put it right. Nothing is
// thrown away: what belongs to nothing becomes a file.
type Report struct {
	Findings []Finding
	Files    int
	Folders  int
	Free     uint32 // clusters
	Writes   []block.Write
}

// maxDepth bounds how deep folders may lie.
const maxDepth = 64

// Check looks at the whole volume and plans its repair.
func Check(dev io.ReaderAt) (*Report, error) {
	over := block.NewDraftOver(dev)
	over.For("repair of the FAT file system")
	v, err := Open(over)
	if err != nil {
		return nil, err
	}
	c := &checker{v: v, over: over, owner: make([]uint32, v.Clusters+2), names: []string{""}, report: &Report{}}
	if err := c.clean(); err != nil {
		return nil, err
	}
	if err := c.boot(); err != nil {
		return nil, err
	}
	if err := c.tables(); err != nil {
		return nil, err
	}
	if err := c.root(); err != nil {
		return nil, err
	}
	if err := c.lost(); err != nil {
		return nil, err
	}
	if err := c.finish(); err != nil {
		return nil, err
	}
	if c.report.Writes, err = over.Writes(); err != nil {
		return nil, err
	}
	return c.report, nil
}

type checker struct {
	v       *Volume
	over    *block.Draft
	owner   []uint32 // by cluster, the number of the path that has it; 0 for nobody
	names   []string
	report  *Report
	before  []byte // the table as it was found
	renamed int    // files whose names were senseless
}

func (c *checker) find(id, path, do, format string, a ...any) {
	c.report.Findings = append(c.report.Findings, Finding{ID: id, Path: path, Text: fmt.Sprintf(format, a...), Do: do})
}

// clean notes in the boot sector that the volume was put away, which a system
// takes back as long as it uses it. tables does the same for the table's mark.
func (c *checker) clean() error {
	at := map[bool]int64{true: 0x41, false: 0x25}[c.v.Bits == 32]
	var state [1]byte
	if _, err := c.over.ReadAt(state[:], at); err != nil {
		return err
	}
	if state[0]&1 == 0 || c.v.FromBackup != nil {
		return nil
	}
	c.find(
		"volume-in-use", "", "note that it is not", "the boot sector says that the volume is in use: it was not put away",
	)
	return c.poke(at, state[0]&^1)
}

// boot compares the two boot sectors of the 32-bit kind.
func (c *checker) boot() error {
	v := c.v
	if v.Bits != 32 || v.Backup == 0 {
		return nil
	}
	first, second := make([]byte, v.Sector), make([]byte, v.Sector)
	if _, err := c.over.ReadAt(first, 0); err != nil {
		return err
	}
	if _, err := c.over.ReadAt(second, v.Backup*v.Sector); err != nil {
		return err
	}
	switch {
	case v.FromBackup != nil:
		c.find(
			"boot-sector-damaged", "", "write it anew from the second one", "the first boot sector is damaged: %v",
			v.FromBackup,
		)
		_, err := c.over.WriteAt(second, 0)
		return err
	case !bytes.Equal(first, second):
		if _, err := parseBoot(second, v.Backup); err != nil || !bytes.Equal(first[bpbSector:90], second[bpbSector:90]) {
			c.find(
				"boot-sectors-differ", "", "write the second anew from the first", "the backup boot sector is not like the first",
			)
			_, err := c.over.WriteAt(first, v.Backup*v.Sector)
			return err
		}
	}
	return nil
}

// tables compares the copies of the table, and takes the one that makes more
// sense.
func (c *checker) tables() error {
	v := c.v
	var all [][]byte
	for i := range v.Tables {
		raw, err := v.readTable(i)
		if err != nil {
			return err
		}
		all = append(all, raw)
	}
	chosen, best, mixed := v.bestTable(all)
	for i, raw := range all {
		if i != best && !bytes.Equal(raw, all[best]) {
			do := fmt.Sprintf("take copy %d for all", best+1)
			if mixed > 0 {
				do = fmt.Sprintf("take copy %d for all, and %d sectors of the other", best+1, mixed)
			}
			c.find("tables-differ", "", do, "copy %d of the table is not like copy %d", i+1, best+1)
			break
		}
	}
	v.table = chosen
	c.before = bytes.Clone(v.table)
	want := uint32(v.Media) | 0xffffff00
	if got := getEntry(v.table, v.Bits, 0); got != want&v.mask() {
		c.find(
			"table-begins-wrong", "", "write the first entry anew", "the table begins with 0x%x, want 0x%x", got, want&v.mask(),
		)
		putTableEntry(v.table, v.Bits, 0, want&v.mask())
	}
	if put := v.putAway(); getEntry(v.table, v.Bits, 1)&put != put {
		c.find("volume-in-use", "", "note that it is not", "the table says that the volume is in use: it was not put away")
		putTableEntry(v.table, v.Bits, 1, getEntry(v.table, v.Bits, 1)|put)
	}
	return nil
}

// putAway is the bit of the second entry that is set when no system uses the
// volume; the smallest kind has none.
func (v *Volume) putAway() uint32 {
	return map[int]uint32{16: 0x8000, 32: 0x08000000}[v.Bits]
}

// root walks all folders.
func (c *checker) root() error {
	if c.v.Bits == 32 {
		me := c.name("/")
		if fixed := c.claim(c.v.Root, -1, me, "/"); !fixed {
			return &FormatError{
				In:   "fat",
				What: "root folder",
				Want: "a chain of clusters",
				Got:  fmt.Sprintf("cluster %d", c.v.Root),
			}
		}
	}
	return c.walk(0, "/", 0)
}

func (c *checker) name(p string) uint32 {
	c.names = append(c.names, p)
	return uint32(len(c.names) - 1)
}

func (c *checker) walk(cluster uint32, at string, depth int) error {
	if depth > maxDepth {
		c.find("too-deep", at, "leave it", "folders lie deeper than %d", maxDepth)
		return nil
	}
	raw, places, err := c.v.folderBytes(cluster)
	if err != nil {
		return err
	}
	if changed, err := c.sense(raw, places, at); err != nil {
		return err
	} else if changed {
		if raw, places, err = c.v.folderBytes(cluster); err != nil {
			return err
		}
	}
	for _, e := range scanFolder(raw, places, c.v.Bits) {
		if err := c.entry(e, path.Join(at, e.Name), depth, cluster); err != nil {
			return err
		}
	}
	return nil
}

func (c *checker) entry(e Entry, p string, depth int, in uint32) error {
	if e.orphaned {
		c.find(
			"long-name-orphaned", p, "free the long name's entries", "a long name belongs to no file; the file is called %s",
			e.Short,
		)
		for _, at := range e.longAt {
			if err := c.poke(at, deleted); err != nil {
				return err
			}
		}
	}
	me := c.name(p)
	if e.Folder {
		c.report.Folders++
		if !c.v.valid(e.Cluster) || !c.claim(e.Cluster, -1, me, p) {
			c.find("folder-lost", p, "make it an empty file", "the folder begins nowhere: cluster %d", e.Cluster)
			return c.emptied(e)
		}
		isFolder, err := c.dots(e.Cluster, in, p)
		if err != nil {
			return err
		}
		if !isFolder {
			size := c.held(e.Cluster, me) * c.v.Cluster
			c.find("folder-is-none", p, "make it a file of that content", "it is called a folder and does not begin as one")
			if err := c.poke(e.at+11, 0x20); err != nil {
				return err
			}
			return c.resize(e, size)
		}
		return c.walk(e.Cluster, p, depth+1)
	}
	c.report.Files++
	need := (e.Size + c.v.Cluster - 1) / c.v.Cluster
	if e.Cluster == 0 || !c.v.valid(e.Cluster) {
		if e.Size > 0 || e.Cluster != 0 {
			c.find(
				"file-begins-nowhere", p, "make it an empty file", "it has %d bytes and begins at cluster %d", e.Size, e.Cluster,
			)
			return c.emptied(e)
		}
		return nil
	}
	if e.Size == 0 {
		c.find("empty-file-has-clusters", p, "take them away from it", "it has no bytes and begins at cluster %d", e.Cluster)
		return c.emptied(e)
	}
	if owner := c.owner[e.Cluster]; owner != 0 {
		return c.shared(e, need, me, p)
	}
	c.claim(e.Cluster, need, me, p)
	have := c.held(e.Cluster, me)
	if have < need {
		c.find(
			"size-too-large", p, "cut its size to what is there", "it has %d bytes and clusters for %d", e.Size,
			have*c.v.Cluster,
		)
		return c.resize(e, have*c.v.Cluster)
	}
	return nil
}

// claim gives the chain from first on to a path. It ends the chain where it
// goes wrong, or where it is longer than need clusters (-1: any length), and
// copies clusters that another path has. It reports whether the path has any.
func (c *checker) claim(first uint32, need int64, me uint32, p string) bool {
	v := c.v
	previous, at := uint32(0), first
	for n := int64(0); ; n++ {
		switch {
		case !v.valid(at):
			if previous == 0 {
				return false
			}
			c.find("chain-broken", p, "end it there", "its chain of clusters leaves the volume after cluster %d", previous)
			putTableEntry(v.table, v.Bits, previous, v.mask())
			return true
		case c.owner[at] == me:
			c.find("chain-loops", p, "end it there", "its chain of clusters comes back to cluster %d", at)
			putTableEntry(v.table, v.Bits, previous, v.mask())
			return true
		case c.owner[at] != 0 && previous == 0:
			return false
		case c.owner[at] != 0:
			c.find(
				"chains-crossed", p, "give it a copy of the shared clusters",
				"from cluster %d on it shares its clusters with %s", at, c.names[c.owner[at]],
			)
			copied := c.copyChain(at, need-n, me)
			if copied == 0 {
				copied = v.mask()
			}
			putTableEntry(v.table, v.Bits, previous, copied)
			return true
		}
		c.owner[at] = me
		next := v.entry(at)
		if need >= 0 && n+1 >= need {
			if need > 0 && next < v.end() {
				c.find("chain-too-long", p, "free the rest", "it has more clusters than its size needs")
				putTableEntry(v.table, v.Bits, at, v.mask())
			}
			return true
		}
		if next >= v.end() {
			return true
		}
		if next == 0 || next == v.bad() {
			c.find("chain-broken", p, "end it there", "its chain of clusters runs into a free or bad cluster after %d", at)
			putTableEntry(v.table, v.Bits, at, v.mask())
			return true
		}
		previous, at = at, next
	}
}

// shared is a file that begins with a cluster of another: it gets a copy, or
// is emptied when there is no room for one.
func (c *checker) shared(e Entry, need int64, me uint32, p string) error {
	c.find(
		"chains-crossed", p, "give it a copy of the shared clusters", "it begins at cluster %d, which belongs to %s",
		e.Cluster, c.names[c.owner[e.Cluster]],
	)
	first := c.copyChain(e.Cluster, need, me)
	if first == 0 {
		return c.emptied(e)
	}
	if have := c.held(first, me); have < need {
		if err := c.resize(e, have*c.v.Cluster); err != nil {
			return err
		}
	}
	if c.v.Bits == 32 {
		if err := c.poke(e.at+20, byte(first>>16), byte(first>>24)); err != nil {
			return err
		}
	}
	return c.poke(e.at+26, byte(first), byte(first>>8))
}

// copyChain copies clusters to free ones and returns the first; 0 when there
// is no room.
func (c *checker) copyChain(at uint32, need int64, me uint32) uint32 {
	v := c.v
	first, previous := uint32(0), uint32(0)
	buf := make([]byte, v.Cluster)
	list, _ := v.chain(at, max(need, 0))
	for _, from := range list {
		to := c.free()
		if to == 0 {
			return first
		}
		if _, err := c.over.ReadAt(buf, v.clusterAt(from)); err != nil {
			return first
		}
		_, _ = c.over.WriteAt(buf, v.clusterAt(to)) // in memory
		c.owner[to] = me
		putTableEntry(v.table, v.Bits, to, v.mask())
		if previous != 0 {
			putTableEntry(v.table, v.Bits, previous, to)
		} else {
			first = to
		}
		previous = to
	}
	return first
}

func (c *checker) free() uint32 {
	for i := uint32(2); i < c.v.Clusters+2; i++ {
		if c.owner[i] == 0 && c.v.entry(i) == 0 {
			return i
		}
	}
	return 0
}

func (c *checker) held(first, me uint32) (n int64) {
	for at := first; c.v.valid(at) && c.owner[at] == me && n <= int64(c.v.Clusters); at = c.v.entry(at) {
		n++
	}
	return n
}

func (c *checker) poke(at int64, b ...byte) error {
	_, err := c.over.WriteAt(b, at)
	return err
}

func (c *checker) resize(e Entry, size int64) error {
	b := make([]byte, 4)
	binary.LittleEndian.PutUint32(b, uint32(size))
	return c.poke(e.at+28, b...)
}

// emptied makes an entry a file without data.
func (c *checker) emptied(e Entry) error {
	if err := c.poke(e.at+11, 0x20); err != nil {
		return err
	}
	if err := c.poke(e.at+20, 0, 0); err != nil {
		return err
	}
	return c.poke(e.at+26, 0, 0, 0, 0, 0, 0)
}

// lost makes files of chains that belong to nothing.
func (c *checker) lost() error {
	v := c.v
	pointed := make([]bool, v.Clusters+2)
	for i := uint32(2); i < v.Clusters+2; i++ {
		if e := v.entry(i); c.owner[i] == 0 && v.valid(e) && e != i {
			pointed[e] = true
		}
	}
	chains, clusters := 0, 0
	for pass := range 2 { // first the heads of chains, then what only loops
		for i := uint32(2); i < v.Clusters+2; i++ {
			e := v.entry(i)
			if c.owner[i] != 0 || e == 0 || e == v.bad() || pass == 0 && pointed[i] {
				continue
			}
			me := c.name(fmt.Sprintf("lost chain at cluster %d", i))
			quiet := len(c.report.Findings)
			c.claim(i, -1, me, c.names[me])
			c.report.Findings = c.report.Findings[:quiet]
			n := c.held(i, me)
			chains, clusters = chains+1, clusters+int(n)
			if err := c.keep(chains, i, n*v.Cluster); err != nil {
				return err
			}
		}
	}
	if chains > 0 {
		c.find(
			"chains-lost", "", "make each a file LOSTnnnn.DAT in the root folder",
			"%d chains of %d clusters belong to no file", chains, clusters,
		)
	}
	return nil
}

// keep makes a lost chain a file in the root folder. When that is full, the
// chain stays as it is.
func (c *checker) keep(n int, first uint32, size int64) error {
	raw, at, err := c.v.folderBytes(0)
	if err != nil {
		return err
	}
	for i := range at {
		if b := raw[i*entrySize]; b != 0 && b != deleted {
			continue
		}
		e := make([]byte, entrySize)
		copy(e, fmt.Sprintf("LOST%04dDAT", n%10000))
		e[11] = 0x20
		le := binary.LittleEndian
		le.PutUint16(e[20:], uint16(first>>16))
		le.PutUint16(e[26:], uint16(first))
		le.PutUint32(e[28:], uint32(min(size, 1<<32-1)))
		if c.v.Bits != 32 {
			le.PutUint16(e[20:], 0)
		}
		if err := c.poke(at[i], e...); err != nil {
			return err
		}
		if raw[i*entrySize] == 0 && i+1 < len(at) { // the end of the folder moves on
			return c.poke(at[i+1], 0)
		}
		return nil
	}
	return nil
}

// finish writes the tables where they changed, and the free counts.
func (c *checker) finish() error {
	v := c.v
	for i := range v.Tables {
		raw, err := v.readTable(i)
		if err != nil {
			return err
		}
		for s := int64(0); s < v.TableSize; s++ {
			now := v.table[s*v.Sector : (s+1)*v.Sector]
			if !bytes.Equal(raw[s*v.Sector:(s+1)*v.Sector], now) {
				if _, err := c.over.WriteAt(now, v.tableAt(i)+s*v.Sector); err != nil {
					return err
				}
			}
		}
	}
	for i := uint32(2); i < v.Clusters+2; i++ {
		if v.entry(i) == 0 {
			c.report.Free++
		}
	}
	if v.Bits != 32 || v.Info == 0 {
		return nil
	}
	info := make([]byte, v.Sector)
	if _, err := c.over.ReadAt(info, v.Info*v.Sector); err != nil {
		return err
	}
	le := binary.LittleEndian
	if le.Uint32(info) != infoLead || le.Uint32(info[484:]) != infoStruct || le.Uint32(info[508:]) != infoTrail {
		c.find("free-counts-damaged", "", "write them anew", "the sector of the free counts is damaged")
		_, err := c.over.WriteAt(infoBlock(int64(c.report.Free)), v.Info*v.Sector)
		return err
	}
	if got := le.Uint32(info[488:]); got != c.report.Free && got != 0xffffffff {
		c.find("free-count-wrong", "", "write it anew", "it counts %d free clusters, there are %d", got, c.report.Free)
		le.PutUint32(info[488:], c.report.Free)
		_, err := c.over.WriteAt(info, v.Info*v.Sector)
		return err
	}
	return nil
}
