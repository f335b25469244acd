package debian_test

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"io"
	"io/fs"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/bag"
	"diorthos/core/efivar"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/platform/debian"
	standin "diorthos/standin/debian"
)

// storeWith is a store of a firmware that was started once, with entries that lead to programs, in an order.
func storeWith(t *testing.T, order []string, entries map[string]efivar.Target) []byte {
	t.Helper()
	f, err := os.Open("../../core/efivar/testdata/ovmf-after-a-start.fd.gz")
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
	s, err := efivar.Open(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	for id, to := range entries {
		if err := s.SetEntry(id, to); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.SetOrder(order); err != nil {
		t.Fatal(err)
	}
	return s.Bytes()
}

// The machine starts by the first entry whose loader is there and can run; where none is, by the path without an entry;
// and where the loader on the disk is led to by nothing, that is what is broken.
func TestTheWayIsFollowedThatTheFirmwareTakes(t *testing.T) {
	const uuid = "087d985b-06cf-4d11-99a0-fe015d3f42ee"
	esp, other := layout.MustParseGUID(
		"0c921feb-119f-4abf-99c7-8854c89ced36",
	), layout.MustParseGUID(
		"9c921feb-119f-4abf-99c7-8854c89ced36",
	)
	loader := &fstest.MapFile{
		Data: standin.Program("search.fs_uuid " + uuid + " root hd0,gpt2\nset prefix=($root)'/boot/grub'\n"),
	}
	menu := fstest.MapFS{
		"boot/vmlinuz-6": {Data: standin.Kernel(0)}, "boot/initrd.img-6": {Data: standin.EarlyImage([]byte("image"))},
		"boot/grub/grub.cfg": {Data: []byte("menuentry 'x' {\n\tlinux /boot/vmlinuz-6 ro\n\tinitrd /boot/initrd.img-6\n}\n")},
	}
	own := efivar.Target{Title: "debian", Number: 1, GUID: esp, Path: "EFI/debian/grubx64.efi"}
	gone, foreign, tester := own, own, own
	gone.Path, foreign.GUID, tester.Path = "EFI/old/grubx64.efi", other, "EFI/tools/memtest.efi"
	tool := append(standin.Program("")[:0x400], "a program that is none of the known loaders"...)
	binary.LittleEndian.PutUint32(tool[0x80+24+0xf0+16:], 8)
	entries := map[string]efivar.Target{"0005": own, "0006": gone, "0007": foreign, "0008": tester}
	for name, c := range map[string]struct {
		order []string
		esp   fstest.MapFS
		taken string
		fault string
		ways  []string
	}{
		"the first": {
			[]string{"0005"}, fstest.MapFS{"EFI/debian/grubx64.efi": loader}, "0005", "",
			[]string{"debian: firmware table loader boot store volume kernel", "fallback path: loader broken"},
		},
		"those that lead nowhere are passed over": {
			[]string{"0007", "0006", "0009", "0005"}, fstest.MapFS{"EFI/debian/grubx64.efi": loader}, "0005", "",
			[]string{
				"debian: not on this disk", "debian: loader broken", "Boot0009: there is no such entry", "debian: firmware table",
				"fallback path: loader broken",
			},
		},
		"without an entry": {
			[]string{"0007"}, fstest.MapFS{"EFI/BOOT/BOOTX64.EFI": loader}, "-", "",
			[]string{"debian: not on this disk", "fallback path: firmware table"},
		},
		"another program comes first": {
			[]string{"0008", "0005"}, fstest.MapFS{"EFI/debian/grubx64.efi": loader, "EFI/tools/memtest.efi": {Data: tool}}, "0008", "",
			[]string{"debian: firmware table loader boot store", "debian: firmware table", "fallback path: loader broken"},
		},
		"nothing leads to the loader": {
			[]string{"0007", "0001"}, fstest.MapFS{"EFI/debian/grubx64.efi": loader}, "", "boot-entries-missing",
			[]string{"debian: not on this disk", "UEFI QEMU DVD-ROM", "fallback path: loader broken"},
		},
		"the entry names another file": {
			[]string{"0006"}, fstest.MapFS{"EFI/debian/grubx64.efi": loader}, "", "boot-entries-stale",
			[]string{"debian: loader broken", "fallback path: loader broken"},
		},
		"there is no loader at all": {
			[]string{"0005"}, fstest.MapFS{"EFI/debian/readme": {Data: []byte("x")}}, "", "loader-missing",
			[]string{"debian: loader broken", "fallback path: loader broken"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			facts := &bag.Facts{}
			debian.Adapter{}.Survey(withVolumes(system.Ground{
				Table: read(t, 8<<20, []layout.Entry{
					{Type: layout.TypeESP, ID: esp, Span: layout.Span{First: 2048, Last: 4095}},
					{
						Type: layout.TypeLinuxRoot, ID: layout.MustParseGUID("1c921feb-119f-4abf-99c7-8854c89ced36"),
						Span: layout.Span{First: 4096, Last: 8191},
					},
				}),
				Contents: map[int]layout.Content{1: {Kind: "fat32", UUID: "4711-0815"}, 2: {Kind: "ext4", UUID: uuid}},
				System:   2, Firmware: storeWith(t, c.order, entries),
				Volume: func(n int) fs.FS { return map[int]fs.FS{1: c.esp, 2: menu}[n] },
			}), facts)
			fault, taken := "", ""
			if b := facts.State.Chain.Broken(); b != nil {
				fault = string(b.Fault)
			}
			if len(facts.State.Ways) != len(c.ways) {
				t.Fatalf("%d ways: %+v", len(facts.State.Ways), facts.State.Ways)
			}
			for i, w := range facts.State.Ways {
				if w.Taken {
					taken = max(w.Entry, "-")
				}
				text := w.Title + ": " + w.Note
				if b := w.Chain.Broken(); b != nil {
					text += string(b.Kind) + " broken"
				} else {
					kinds := map[string]bool{}
					for _, l := range w.Chain {
						kinds[string(l.Kind)] = true
					}
					for _, k := range []string{"firmware", "table", "loader", "boot store", "volume", "kernel"} {
						if kinds[k] {
							text += k + " "
						}
					}
				}
				for _, part := range strings.SplitN(c.ways[i], ": ", 2) {
					if !strings.Contains(text, part) {
						t.Errorf("way %d is %q, want %q", i+1, text, c.ways[i])
					}
				}
			}
			if fault != c.fault || taken != c.taken {
				t.Errorf("%q by %q, want %q by %q: %+v", fault, taken, c.fault, c.taken, facts.State.Chain)
			}
		})
	}
}
