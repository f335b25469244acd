package debian

import (
	"encoding/binary"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/platform/grub"
)

// The order of entries is the Boot Loader Specification's: a sort key before none, keys in order, then the
// newest version; what has no tries left comes last; a pattern of loader.conf goes before all.
func TestTheEntryIsChosenAsTheSpecificationSays(t *testing.T) {
	e := func(id, key, version string, bad bool) entry {
		return entry{id: id, sortKey: key, version: version, bad: bad}
	}
	older, newer := e("deb-6.1.0-9.conf", "debian", "6.1.0-9", false), e("deb-6.1.0-50.conf", "debian", "6.1.0-50", false)
	plain, tried := e("zeta.conf", "", "9", false), e("deb-7.0.conf", "debian", "7.0", true)
	other := e("corsair.conf", "corsair", "1", false)
	for name, c := range map[string]struct {
		list    []entry
		pattern string
		want    string
	}{
		"the newest by its version, not by its letters": {[]entry{older, newer}, "", newer.id},
		"a key before none":                             {[]entry{plain, older}, "", older.id},
		"keys in their order":                           {[]entry{newer, other}, "", other.id},
		"one whose tries are used up comes last":        {[]entry{tried, older}, "", older.id},
		"that one, if there is no other":                {[]entry{tried}, "", tried.id},
		"a name":                                        {[]entry{newer, older}, "deb-6.1.0-9.conf", older.id},
		"a pattern":                                     {[]entry{newer, older, plain}, "zeta*", plain.id},
		"a pattern that nothing fits":                   {[]entry{older, newer}, "gone-*", newer.id},
		"none at all":                                   {nil, "", ""},
	} {
		for range 2 { // whatever the order in which they are found
			got, ok := chosen(c.list, c.pattern)
			if got.id != c.want || ok != (c.want != "") {
				t.Errorf("%s: %q, want %q", name, got.id, c.want)
			}
			for i, j := 0, len(c.list)-1; i < j; i, j = i+1, j-1 {
				c.list[i], c.list[j] = c.list[j], c.list[i]
			}
		}
	}
}

// Counters of boot assessment are no part of a name.
func TestTheCountersOfAnEntryAreRead(t *testing.T) {
	for name, want := range map[string]struct {
		id  string
		bad bool
	}{
		"deb-6.1.conf": {"deb-6.1.conf", false}, "deb-6.1+3.conf": {"deb-6.1.conf", false},
		"deb-6.1+0-3.conf": {"deb-6.1.conf", true},
		"deb-6.1+2-1.conf": {"deb-6.1.conf", false}, "a+b.conf": {"a+b.conf", false}, "a+.conf": {"a+.conf", false},
	} {
		if id, bad := assessed(name, ".conf"); id != want.id || bad != want.bad {
			t.Errorf("%s: %q, used up %v", name, id, bad)
		}
	}
}

// unified is an EFI program that carries these sections.
func unified(parts map[string]string) []byte {
	le := binary.LittleEndian
	b := make([]byte, 0x400)
	copy(b, "MZ")
	le.PutUint32(b[0x3c:], 0x80)
	copy(b[0x80:], "PE\x00\x00")
	le.PutUint16(b[0x84:], 0x8664)
	le.PutUint16(b[0x86:], uint16(len(parts)))
	le.PutUint16(b[0x94:], 0xf0)
	le.PutUint16(b[0x98:], 0x20b)
	le.PutUint32(b[0x98+108:], 16) // data directories, all empty
	at := 0x98 + 0xf0
	for _, name := range []string{".osrel", ".cmdline", ".linux", ".initrd"} {
		text, ok := parts[name]
		if !ok {
			continue
		}
		copy(b[at:at+8], name)
		le.PutUint32(b[at+8:], uint32(len(text)))
		le.PutUint32(b[at+16:], uint32(len(text)))
		le.PutUint32(b[at+20:], uint32(len(b)))
		b, at = append(b, text...), at+40
	}
	return b
}

// A kernel that carries all is read from its sections; one that is cut off is known by them.
func TestAKernelThatCarriesAllIsReadFromItsSections(t *testing.T) {
	early := "\x28\xb5\x2f\xfd the early-boot image"
	raw := unified(map[string]string{
		".osrel": "ID=debian\nVERSION_ID=\"12\"\nPRETTY_NAME=\"Debian GNU/Linux 12\"\n", ".cmdline": "root=UUID=1 ro\n\x00",
		".linux": "a kernel", ".initrd": early,
	})
	files := fstest.MapFS{"EFI/Linux/debian-6.1+2.efi": {Data: raw}, "EFI/Linux/short.efi": {Data: raw[:len(raw)-9]}}
	list := entriesOn(&grub.Volume{Files: files})
	if len(list) != 2 {
		t.Fatalf("%d entries", len(list))
	}
	e := list[0]
	if e.id != "debian-6.1.efi" || e.options != "root=UUID=1 ro" || e.sortKey != "debian" || e.version != "12" ||
		e.title != "Debian GNU/Linux 12" {
		t.Errorf("%+v", e)
	}
	if got, err := fs.ReadFile(e.sections, carriedEarly); err != nil || string(got) != early {
		t.Errorf("it carries %q, %v", got, err)
	}
	if why := programCut(files, "EFI/Linux/debian-6.1+2.efi"); why != "" {
		t.Errorf("a whole one: %s", why)
	}
	if why := programCut(files, "EFI/Linux/short.efi"); !strings.Contains(why, "cut off") {
		t.Errorf("one that is cut off: %q", why)
	}
}

// Without an early-boot image the kernel finds only what it knows by itself.
func TestWhatTheKernelFindsByItself(t *testing.T) {
	for root, want := range map[string]bool{
		"": true, "/dev/sda2": true, "PARTUUID=1-2": true, "802": true, "UUID=1": false, "LABEL=x": false,
		"/dev/mapper/a-b": false, "/dev/a/b": false, "/dev/md0": false, "/dev/disk/by-uuid/1": false,
	} {
		if kernelFinds(root) != want {
			t.Errorf("root=%s: %v", root, !want)
		}
	}
}
