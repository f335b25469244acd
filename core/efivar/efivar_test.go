package efivar

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"slices"
	"testing"
	"testing/fstest"
)

// afterAStart is a store as OVMF left it when it had started a machine for the first time.
func afterAStart(t testing.TB) []byte {
	t.Helper()
	f, err := os.Open("testdata/ovmf-after-a-start.fd.gz")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func open(t testing.TB, raw []byte) *Store {
	t.Helper()
	s, err := Open(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func told(s *Store) (list []string) {
	entries, order := s.Boot()
	for _, e := range entries {
		list = append(list, fmt.Sprintf("%s %q %s %t %s %s", e.ID, e.Title, e.Kind, e.Active, e.Partition, e.Path))
	}
	return append(list, fmt.Sprintf("%v %s", order, s.Next()))
}

var target = Target{
	Title: "debian", Number: 2, First: 2048, Length: 4096, Path: "EFI/debian/grubx64.efi",
	GUID: [16]byte{0x1f, 0x92, 0x1b, 0x0c, 0x9f, 0x11, 0xbf, 0x4a, 0x99, 0xc7, 0x88, 0x54, 0xc8, 0x9c, 0xed, 0x36},
}

var ownEntries = []string{
	`0000 "UiApp" firmware false  `, `0001 "UEFI QEMU DVD-ROM QM00005 " device true  `,
	`0002 "UEFI Misc Device" device true  `, `0003 "EFI Internal Shell" firmware true  `,
}

const ownTarget = `"debian" file true 0C1B921F-119F-4ABF-99C7-8854C89CED36 EFI/debian/grubx64.efi`

func TestReadsAndWritesWhatFirmwareKeeps(t *testing.T) {
	raw := afterAStart(t)
	s := open(t, raw)
	if got, want := told(s), append(slices.Clone(ownEntries), "[0000 0001 0002 0003] "); !slices.Equal(got, want) {
		t.Fatalf("%q", got)
	}
	mark := s.Mark()
	if err := s.SetEntry("0007", target); err != nil {
		t.Fatal(err)
	}
	if err := s.SetOrder([]string{"0007", "0001"}); err != nil {
		t.Fatal(err)
	}
	again := open(t, s.Bytes())
	want := append(slices.Clone(ownEntries), "0007 "+ownTarget, "[0007 0001] ")
	if got := told(again); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if again.Mark() != mark || mark == "" {
		t.Errorf("the mark is %q, and was %q", again.Mark(), mark)
	}
	changed := 0
	for i := range raw {
		if raw[i] != again.Bytes()[i] {
			changed++
		}
	}
	if changed == 0 || changed > 600 {
		t.Errorf("%d bytes changed", changed)
	}
}

// A store that is full of what was deleted is written together, and loses nothing; one that is full refuses.
func TestAFullStoreIsWrittenTogether(t *testing.T) {
	s := open(t, afterAStart(t))
	vars := len(s.vars)
	for i := range 6000 {
		next := target
		next.First = uint64(i)
		if err := s.SetEntry("0007", next); err != nil {
			t.Fatalf("after %d: %v", i, err)
		}
	}
	again := open(t, s.Bytes())
	if len(again.vars) != vars+1 || again.Mark() != s.Mark() {
		t.Errorf("%d variables, of %d", len(again.vars), vars+1)
	}
	var err error
	n := 0
	for ; err == nil && n < 1<<16; n++ {
		err = s.SetEntry(fmt.Sprintf("%04X", 0x1000+n), target)
	}
	if err == nil || len(open(t, s.Bytes()).vars) != vars+n {
		t.Errorf("a full store: %d entries, %v", n, err)
	}
}

func TestReadsVariablesOneByOne(t *testing.T) {
	files := fstest.MapFS{
		"BootOrder-" + Global: {Data: []byte{7, 0, 0, 0, 2, 0, 0, 0}}, "BootNext-" + Global: {Data: []byte{7, 0, 0, 0, 9, 0}},
		"Boot0002-" + Global:                            {Data: append([]byte{7, 0, 0, 0}, target.option()...)},
		"Boot0004-" + Global:                            {Data: []byte{7, 0, 0, 0, 1, 0, 0, 0, 200, 0, 'x', 0, 0, 0}},
		"Boot0005-00000000-93ca-11d2-aa0d-00e098032b8c": {Data: []byte{7, 0, 0, 0}},
	}
	s, err := FromFiles(files)
	if err != nil {
		t.Fatal(err)
	}
	want := []string{
		"0002 " + ownTarget, `0004 "uefi: Boot0004: device paths: want 0 bytes at the most, got 200" unknown false  `, "[0002 0000] 0009",
	}
	if got := told(s); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	before, _ := FromFiles(files)
	if err := s.SetOrder([]string{"0002"}); err != nil {
		t.Fatal(err)
	}
	changed := s.Changed(before)
	if len(changed) != 1 || !bytes.Equal(changed["BootOrder-"+Global], []byte{7, 0, 0, 0, 2, 0}) {
		t.Errorf("%q", changed)
	}
	if err := s.SetOrder([]string{"none"}); err == nil {
		t.Error("an order of what is no number was taken")
	}
	packed, err := Pack(before)
	if err != nil {
		t.Fatal(err)
	}
	if got := told(open(t, packed)); !slices.Equal(got, want) {
		t.Errorf("packed: %q", got)
	}
}

func TestRefusesWhatIsNoStore(t *testing.T) {
	raw := afterAStart(t)
	for what, change := range map[string]func([]byte) []byte{
		"nothing":            func([]byte) []byte { return nil },
		"zeros":              func(b []byte) []byte { return make([]byte, len(b)) },
		"cut off":            func(b []byte) []byte { return b[:len(b)/2] },
		"another store":      func(b []byte) []byte { b[72] ^= 1; return b },
		"not formatted":      func(b []byte) []byte { b[72+storeFormat] = 0xff; return b },
		"a name of no bytes": func(b []byte) []byte { b[72+storeHead+stamped.nameSize+3] = 0x7f; return b },
	} {
		if s, err := Open(bytes.NewReader(change(bytes.Clone(raw)))); err == nil {
			t.Errorf("%s: %q", what, told(s))
		}
	}
}

func FuzzOpen(f *testing.F) {
	whole := afterAStart(f)
	f.Add([]byte{0xff, 0xff, 0xff, 0x7f}, 72+storeHead+36)
	f.Add(target.option(), 400)
	f.Fuzz(func(_ *testing.T, change []byte, at int) {
		if at < 0 || at >= len(whole) {
			return
		}
		raw := bytes.Clone(whole)
		copy(raw[at:], change)
		s, err := Open(bytes.NewReader(raw))
		if err != nil {
			return
		}
		s.Boot()
		_ = s.SetEntry("0009", target)
		_ = s.SetOrder([]string{"0009"})
		_, _ = parseEntry("0001", change)
	})
}
