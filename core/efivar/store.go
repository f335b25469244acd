package efivar

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// A source is bytes that may hold a variable store.
type source interface {
	io.ReaderAt
	Size() int64
}

// A Store is the variables about starting.
type Store struct {
	vars map[string][]byte // by name, of the UEFI Specification's own namespace
	flat *flat             // the store that they come from; nil for none
}

// A flat store is bytes: a firmware volume with one variable behind the other.
type flat struct {
	raw    []byte
	layout layout
	first  int // where the first variable begins
	end    int // behind the store
	free   int // where the next variable goes
	at     map[string]int
	others []string // names of the variables that are not about starting
	packed bool     // made by Pack: the same variables are the same bytes
}

// ErrNoStore means that a file holds no variable store.
var ErrNoStore = errors.New("no variable store of UEFI firmware")

// Open reads a variable store.
func Open(dev source) (*Store, error) {
	if dev.Size() > mostStore || dev.Size() < volumeHead+storeHead {
		return nil, ErrNoStore
	}
	raw := make([]byte, dev.Size())
	if n, err := dev.ReadAt(raw, 0); err != nil && (!errors.Is(err, io.EOF) || n < len(raw)) {
		return nil, err
	}
	if string(raw[volumeMark:volumeMark+4]) != "_FVH" {
		return nil, ErrNoStore
	}
	head := int(le.Uint16(raw[volumeHead:]))
	if head+storeHead > len(raw) || le.Uint64(raw[volumeLength:]) > uint64(len(raw)) {
		return nil, &FormatError{
			In: "uefi", What: "firmware volume", Want: fmt.Sprintf("%d bytes", le.Uint64(raw[volumeLength:])), Got: fmt.Sprint(len(raw)),
		}
	}
	store := raw[head:]
	f := &flat{raw: raw, first: head + storeHead, at: map[string]int{}, packed: bytes.HasPrefix(raw, []byte(packedMark))}
	switch [16]byte(store[:16]) {
	case stampedStore:
		f.layout = stamped
	case plainStore:
		f.layout = plain
	default:
		return nil, ErrNoStore
	}
	size := int(le.Uint32(store[storeSize:]))
	if size < storeHead || size > len(store) || store[storeFormat] != formatted || store[storeState] != healthy {
		return nil, &FormatError{
			In: "uefi", What: "variable store", Offset: int64(head), Want: "a healthy one of its size",
			Got: fmt.Sprintf("%d bytes, format %#x, state %#x", size, store[storeFormat], store[storeState]),
		}
	}
	f.end = head + size
	vars, err := f.read()
	if err != nil {
		return nil, err
	}
	return &Store{vars: vars, flat: f}, nil
}

func align(n int) int { return (n + 3) &^ 3 }

// read goes from variable to variable.
func (f *flat) read() (map[string][]byte, error) {
	vars := map[string][]byte{}
	sure := map[string]bool{} // not about to be replaced
	at := f.first
	for ; at+f.layout.head <= f.end && le.Uint16(f.raw[at:]) == startMark; at = align(at) {
		b := f.raw[at:f.end]
		name, data := int(le.Uint32(b[f.layout.nameSize:])), int(le.Uint32(b[f.layout.dataSize:]))
		if name < 0 || data < 0 || name > len(b) || data > len(b) || f.layout.head+name+data > len(b) {
			return nil, &FormatError{
				In: "uefi", What: "variable", Offset: int64(at), Want: fmt.Sprintf("%d bytes at the most", len(b)),
				Got: fmt.Sprintf("a name of %d and %d bytes", name, data),
			}
		}
		begin := f.layout.head
		text, _, _ := cutText(append(slices.Clone(b[begin:begin+name]), 0, 0))
		state := b[varState]
		if [16]byte(b[f.layout.guid:]) == globalBytes && (state == added || state == leaving) &&
			!(sure[text] && state == leaving) {
			vars[text] = slices.Clone(b[begin+name : begin+name+data])
			f.at[text], sure[text] = at, state == added
		}
		if !strings.HasPrefix(text, "Boot") && (state == added || state == leaving) {
			f.others = append(f.others, fmt.Sprintf("%x %s", b[f.layout.guid:f.layout.guid+16], text))
		}
		at += begin + name + data
	}
	slices.Sort(f.others)
	f.others = slices.Compact(f.others)
	f.free = at
	return vars, nil
}

// FromFiles takes the variables of a folder as efivarfs shows it.
func FromFiles(folder fs.FS) (*Store, error) {
	names, err := fs.Glob(folder, "Boot*-"+Global)
	if err != nil {
		return nil, err
	}
	s := &Store{vars: map[string][]byte{}}
	for _, name := range names {
		raw, err := fs.ReadFile(folder, name)
		if err != nil {
			return nil, err
		}
		if len(raw) < 4 {
			return nil, &FormatError{In: "uefi", What: name, Want: "4 bytes or more", Got: fmt.Sprint(len(raw))}
		}
		s.vars[strings.TrimSuffix(name, "-"+Global)] = raw[4:]
	}
	return s, nil
}

var entryName = regexp.MustCompile(`^Boot[0-9A-F]{4}$`)

// Boot is what can be started, by number, and the order in which it is tried. An entry that cannot be read is of kind
// unknown and says why as its title.
func (s *Store) Boot() (entries []Entry, order []string) {
	for name, raw := range s.vars {
		if !entryName.MatchString(name) {
			continue
		}
		id := strings.TrimPrefix(name, "Boot")
		e, err := parseEntry(id, raw)
		if err != nil {
			e = Entry{ID: id, Title: err.Error(), Kind: Unknown, raw: raw}
		}
		entries = append(entries, e)
	}
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.ID, b.ID) })
	return entries, idsOf(s.vars["BootOrder"])
}

// Next is the entry that is tried once, before the order; empty for none.
func (s *Store) Next() string {
	if ids := idsOf(s.vars["BootNext"]); len(ids) > 0 {
		return ids[0]
	}
	return ""
}

func idsOf(raw []byte) (ids []string) {
	for ; len(raw) >= 2; raw = raw[2:] {
		ids = append(ids, fmt.Sprintf("%04X", le.Uint16(raw)))
	}
	return ids
}

// SetOrder changes the order in which entries are tried.
func (s *Store) SetOrder(ids []string) error {
	var raw []byte
	for _, id := range ids {
		var n uint16
		if _, err := fmt.Sscanf(id, "%04X", &n); err != nil {
			return fmt.Errorf("boot entry %q: want four hexadecimal digits", id)
		}
		raw = le.AppendUint16(raw, n)
	}
	return s.set("BootOrder", raw)
}

// SetEntry makes an entry lead to a target.
func (s *Store) SetEntry(id string, t Target) error { return s.set("Boot"+id, t.option()) }

// set changes a variable. In a flat store the new one is written behind the others, and the old one is marked as
// deleted, as firmware does; where that finds no room, all that is deleted is left out first.
func (s *Store) set(name string, data []byte) error {
	if bytes.Equal(s.vars[name], data) {
		return nil
	}
	s.vars[name] = data
	switch {
	case s.flat == nil:
		return nil
	case s.flat.packed:
		raw, err := Pack(s)
		if err == nil {
			copy(s.flat.raw, raw)
		}
		return err
	}
	return s.flat.put(name, data)
}

func (f *flat) put(name string, data []byte) error {
	text := textOf(name)
	head := make([]byte, f.layout.head)
	le.PutUint16(head, startMark)
	head[varState] = added
	le.PutUint32(head[varFlags:], bootAttributes)
	le.PutUint32(head[f.layout.nameSize:], uint32(len(text)))
	le.PutUint32(head[f.layout.dataSize:], uint32(len(data)))
	copy(head[f.layout.guid:], globalBytes[:])
	whole := slices.Concat(head, text, data)
	if f.free+len(whole) > f.end {
		f.compact()
	}
	if f.free+len(whole) > f.end {
		return fmt.Errorf("the variable store is full: %d bytes are free, %d are needed", f.end-f.free, len(whole))
	}
	if old, ok := f.at[name]; ok {
		f.raw[old+varState] &= deletedBit
	}
	copy(f.raw[f.free:], whole)
	f.at[name] = f.free
	f.free = min(align(f.free+len(whole)), f.end)
	return nil
}

// compact leaves out what is deleted.
func (f *flat) compact() {
	kept := []byte{}
	moved := map[int]int{}
	for at := f.first; at < f.free; {
		b := f.raw[at:]
		length := f.layout.head + int(le.Uint32(b[f.layout.nameSize:])) + int(le.Uint32(b[f.layout.dataSize:]))
		if state := b[varState]; state == added || state == leaving {
			for len(kept)%4 != 0 {
				kept = append(kept, 0xff)
			}
			moved[at] = f.first + len(kept)
			kept = append(kept, b[:length]...)
		}
		at = align(at + length)
	}
	n := copy(f.raw[f.first:f.free], kept)
	for i := f.first + n; i < f.free; i++ {
		f.raw[i] = 0xff
	}
	for name, at := range f.at {
		f.at[name] = moved[at]
	}
	f.free = align(f.first + n)
}

// Mark tells one machine's store from another's: a digest of the names of all variables that are not about starting.
// They stay as the entries change.
func (s *Store) Mark() string {
	if s.flat == nil {
		return ""
	}
	sum := sha256.New()
	for _, name := range s.flat.others {
		_, _ = fmt.Fprintln(sum, name)
	}
	return fmt.Sprintf("%x", sum.Sum(nil)[:8])
}

// Bytes are the whole store, as it is to be written; nil for one that comes from files.
func (s *Store) Bytes() []byte {
	if s.flat == nil {
		return nil
	}
	return s.flat.raw
}

// Changed are the variables that differ from those of another store, as efivarfs takes them: attributes before the
// data. Those that are gone have none.
func (s *Store) Changed(from *Store) map[string][]byte {
	changed := map[string][]byte{}
	for name, data := range s.vars {
		if old, ok := from.vars[name]; !ok || !bytes.Equal(old, data) {
			changed[name+"-"+Global] = append([]byte{bootAttributes, 0, 0, 0}, data...)
		}
	}
	for name := range from.vars {
		if _, ok := s.vars[name]; !ok {
			changed[name+"-"+Global] = nil
		}
	}
	return changed
}

// A packed store is so large, and begins with a mark where others begin with zeros.
const (
	packedBytes = 64 << 10
	packedMark  = "efivar packed\x00"
)

// Pack makes a flat store of the variables of one that comes from files.
func Pack(s *Store) ([]byte, error) {
	const head = 72
	raw := bytes.Repeat([]byte{0xff}, packedBytes)
	clear(raw[:head+storeHead])
	copy(raw, packedMark)
	copy(raw[volumeMark:], "_FVH")
	le.PutUint64(raw[volumeLength:], packedBytes)
	le.PutUint16(raw[volumeHead:], head)
	copy(raw[head:], stampedStore[:])
	le.PutUint32(raw[head+storeSize:], packedBytes-head)
	raw[head+storeFormat], raw[head+storeState] = formatted, healthy
	f := &flat{
		raw:    raw,
		layout: stamped,
		first:  head + storeHead,
		free:   head + storeHead,
		end:    packedBytes,
		at:     map[string]int{},
	}
	for _, name := range slices.Sorted(maps.Keys(s.vars)) {
		if err := f.put(name, s.vars[name]); err != nil {
			return nil, err
		}
	}
	return raw, nil
}
