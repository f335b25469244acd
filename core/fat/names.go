package fat

import (
	"bytes"
	"fmt"
	"time"
)

// attrReserved are bits of an entry's attributes that have to be zero.
const attrReserved = 0xc0

// plainName reports whether the eleven bytes of a short name are ones that the
// specification allows (section "Short file names"): nothing below a space, no
// lower case, none of a few signs, no space in front.
func plainName(b []byte) bool {
	for i, c := range b[:11] {
		switch {
		case i == 0 && (c == ' ' || c == 0):
			return false
		case c < 0x20 && !(i == 0 && c == 0x05), c >= 'a' && c <= 'z', c == 0x7f:
			return false
		case bytes.IndexByte([]byte(`"*+,./:;<=>?[\]|`), c) >= 0:
			return false
		}
	}
	return true
}

// sense looks at the entries of a folder one by one, before they are taken for
// files and folders: an entry that says two things at once is struck, a name
// that nothing can say is changed. It reports whether it changed any.
func (c *checker) sense(raw []byte, at []int64, p string) (changed bool, err error) {
	var long []int64
	for i := range at {
		b := raw[i*entrySize : (i+1)*entrySize]
		switch {
		case b[0] == 0:
			orphans, err := c.orphans(long, p)
			if err != nil {
				return changed, err
			}
			return changed || orphans, c.afterEnd(raw[i*entrySize:], at[i:], p)
		case b[0] == deleted:
			orphans, err := c.orphans(long, p)
			if err != nil {
				return changed, err
			}
			changed, long = changed || orphans, nil
			continue
		case b[11]&attrReserved != 0:
			c.find("entry-senseless", p, "clear them", "the entry at byte %d has bits set that are reserved", at[i])
			b[11] &^= attrReserved
			changed = true
			if err := c.poke(at[i]+11, b[11]); err != nil {
				return changed, err
			}
		}
		if b[11] == attrLong {
			if b[0]&0x40 != 0 { // a name begins; what came before was never ended
				orphans, err := c.orphans(long, p)
				if err != nil {
					return changed, err
				}
				changed, long = changed || orphans, nil
			}
			long = append(long, at[i])
			if b[26] != 0 || b[27] != 0 {
				c.find("entry-senseless", p, "clear it", "the long name's entry at byte %d names a cluster", at[i])
				changed = true
				if err := c.poke(at[i]+26, 0, 0); err != nil {
					return changed, err
				}
			}
			continue
		}
		if spare, err := c.spare(b, at[i], p, len(long) > 0); err != nil {
			return changed, err
		} else if spare {
			changed = true
		}
		switch {
		case b[11]&attrVolumeLabel != 0 && (b[11]&attrFolder != 0 || p != "/" || !plainName(b)):
			c.find("entry-senseless", p, "strike it", "the entry at byte %d says that it is a label, and cannot be one", at[i])
			long, changed = append(long, at[i]), true
			for _, off := range long {
				if err := c.poke(off, deleted); err != nil {
					return changed, err
				}
			}
		case b[11]&attrVolumeLabel == 0 && !isDot(b) && !plainName(b):
			c.renamed++
			name := fmt.Sprintf("FOUND%03dNAM", c.renamed%1000)
			c.find(
				"name-senseless", p, "call it "+shortName([]byte(name), true),
				"the entry at byte %d has a name that no file can have", at[i],
			)
			changed = true
			for _, off := range long { // a long name belongs to a short one by its sum
				if err := c.poke(off, deleted); err != nil {
					return changed, err
				}
			}
			if err := c.poke(at[i], append([]byte(name), b[11], 0)...); err != nil {
				return changed, err
			}
		}
		long = nil
	}
	return changed, nil
}

// noShortName is a bit of an entry's byte 12 by which Linux marks one that has a
// long name alone.
const noShortName = 0x20

// spare clears fields of an entry that have to be empty for what it is.
func (c *checker) spare(b []byte, at int64, p string, long bool) (changed bool, err error) {
	empty := func(text string, off int64, bytes ...byte) {
		if err == nil {
			c.find("entry-senseless", p, "clear it", text, at)
			changed, err = true, c.poke(at+off, bytes...)
		}
	}
	if b[12]&noShortName != 0 && !long {
		empty("the entry at byte %d says that it has a long name alone, and has none", 12, b[12]&^noShortName)
	}
	switch {
	case b[11]&(attrVolumeLabel|attrFolder) == attrVolumeLabel && !zero(b[26:32]):
		empty("the label at byte %d has a content", 26, 0, 0, 0, 0, 0, 0)
	case b[11]&attrFolder != 0 && !zero(b[28:32]):
		empty("the folder's entry at byte %d has a size, which no folder has", 28, 0, 0, 0, 0)
	}
	if b[11]&(attrVolumeLabel|attrFolder) == attrVolumeLabel && c.v.Bits == 32 && !zero(b[20:22]) {
		empty("the label at byte %d has a content", 20, 0, 0)
	}
	return changed, err
}

func zero(b []byte) bool { return len(bytes.Trim(b, "\x00")) == 0 }

// orphans strikes entries of a long name behind which no file stands.
func (c *checker) orphans(long []int64, p string) (bool, error) {
	if len(long) == 0 {
		return false, nil
	}
	c.find("long-name-orphaned", p, "free the long name's entries", "a long name at byte %d belongs to no file", long[0])
	for _, off := range long {
		if err := c.poke(off, deleted); err != nil {
			return true, err
		}
	}
	return true, nil
}

// afterEnd clears what stands behind the end of a folder. By the specification
// nothing reads it; some programs do.
func (c *checker) afterEnd(raw []byte, at []int64, p string) error {
	found := false
	for i := range at {
		if b := raw[i*entrySize : (i+1)*entrySize]; b[0] == 0 || b[0] == deleted {
			continue
		}
		if !found {
			c.find("entries-after-end", p, "clear them", "behind the end of the folder, at byte %d, stands something", at[i])
		}
		found = true
		if err := c.poke(at[i], make([]byte, entrySize)...); err != nil {
			return err
		}
	}
	return nil
}

func isDot(b []byte) bool {
	return bytes.Equal(b[:11], []byte(".          ")) || bytes.Equal(b[:11], []byte("..         "))
}

// dots looks at the two entries with which a folder begins. When both are
// wrong it is no folder, and false is returned; one alone is written anew.
func (c *checker) dots(cluster, parent uint32, p string) (isFolder bool, err error) {
	var b [2 * entrySize]byte
	if _, err := c.over.ReadAt(b[:], c.v.clusterAt(cluster)); err != nil {
		return false, err
	}
	own, above := b[:entrySize], b[entrySize:]
	first := bytes.Equal(own[:11], []byte(".          ")) && own[11]&attrFolder != 0
	second := bytes.Equal(above[:11], []byte("..         ")) && above[11]&attrFolder != 0
	if !first && !second {
		return false, nil
	}
	if parent == c.v.Root {
		parent = 0
	}
	for i, w := range []struct {
		have []byte
		ok   bool
		name string
		to   uint32
	}{{own, first, ".", cluster}, {above, second, "..", parent}} {
		to := uint32(w.have[26]) | uint32(w.have[27])<<8
		if c.v.Bits == 32 {
			to |= uint32(w.have[20])<<16 | uint32(w.have[21])<<24
		}
		if w.ok && to == w.to {
			continue
		}
		c.find("dot-entry-wrong", p, "write it anew", "its entry %q does not lead to cluster %d", w.name, w.to)
		if err := c.poke(
			c.v.clusterAt(cluster)+int64(i*entrySize), shortEntry(padded(w.name, 11), attrFolder, w.to, 0, time.Time{})...,
		); err != nil {
			return true, err
		}
	}
	return true, nil
}
