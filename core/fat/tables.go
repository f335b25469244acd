package fat

import "bytes"

// mostMixed bounds how many sectors in which two copies of the table differ are
// tried one by one.
const mostMixed = 64

// bestTable is the table by which most of the volume can be read: one of the
// copies, with sectors of another where that helps. It also returns which copy it
// begins with, and how many sectors are another's.
//
// What a table says of itself is not enough to choose by: a sector of zeros is
// sound, and cuts every file that it tells of.
func (v *Volume) bestTable(all [][]byte) (table []byte, best, mixed int) {
	was := v.table
	defer func() { v.table = was }()
	if !differ(all) {
		return bytes.Clone(all[0]), 0, 0
	}
	least := v.unread(all[0])
	for i, raw := range all[1:] {
		if n := v.unread(raw); n < least {
			best, least = i+1, n
		}
	}
	table = bytes.Clone(all[best])
	tried := 0
	for i, other := range all {
		for at := int64(0); i != best && at+v.Sector <= int64(len(table)); at += v.Sector {
			mine := table[at : at+v.Sector]
			theirs := other[at : at+v.Sector]
			if least == 0 || tried == mostMixed || bytes.Equal(mine, theirs) {
				continue
			}
			tried++
			kept := bytes.Clone(mine)
			copy(mine, theirs)
			if n := v.unread(table); n < least {
				least = n
				mixed++
			} else {
				copy(mine, kept)
			}
		}
	}
	return table, best, mixed
}

func differ(all [][]byte) bool {
	for _, raw := range all[1:] {
		if !bytes.Equal(raw, all[0]) {
			return true
		}
	}
	return false
}

// unread weighs what of the volume cannot be read by a table: clusters of files
// that are missing, folders that cannot be entered, clusters that two files have,
// and clusters in use that nothing leads to.
func (v *Volume) unread(table []byte) int64 {
	v.table = table
	w := &walker{v: v, owned: make([]bool, v.Clusters+2)}
	root := uint32(0)
	if v.Bits == 32 {
		root = v.Root
		if list, fault := v.chain(root, int64(v.Clusters)); fault != "" || len(list) == 0 {
			w.bad += folderWeight
		} else {
			w.own(list)
		}
	}
	w.folder(root, 0)
	for c := uint32(2); v.valid(c); c++ {
		e := v.entry(c)
		if e != 0 && e != v.bad() && !w.owned[c] {
			w.bad++
		}
		if e != 0 && !v.valid(e) && e < v.bad() || e == c {
			w.bad++ // no sound table holds it
		}
	}
	if getEntry(table, v.Bits, 0)&0xff != uint32(v.Media) {
		w.bad++
	}
	return w.bad
}

// folderWeight is what a folder that cannot be entered weighs, in clusters: what is
// in it is not known.
const folderWeight = 1000

// A walker goes through all files by one table.
type walker struct {
	v     *Volume
	owned []bool
	bad   int64
}

func (w *walker) own(list []uint32) {
	for _, c := range list {
		if w.owned[c] {
			w.bad++
		}
		w.owned[c] = true
	}
}

func (w *walker) folder(cluster uint32, depth int) {
	list, err := w.v.folder(cluster)
	if err != nil || depth > maxDepth {
		w.bad += folderWeight
		return
	}
	for _, e := range list {
		need := (e.Size + w.v.Cluster - 1) / w.v.Cluster
		if e.Folder {
			need = int64(w.v.Clusters)
		}
		if need == 0 {
			continue
		}
		if !w.v.valid(e.Cluster) || w.owned[e.Cluster] {
			w.bad += max(need, folderWeight)
			continue
		}
		chain, fault := w.v.chain(e.Cluster, need)
		w.own(chain)
		switch {
		case e.Folder && fault != "":
			w.bad += folderWeight
		case !e.Folder:
			w.bad += need - int64(len(chain))
		}
		if e.Folder {
			w.folder(e.Cluster, depth+1)
		}
	}
}
