package debian_test

import (
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/bag"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/platform/debian"
	standin "diorthos/standin/debian"
)

// TestTheChainOfGRUBEndsAtItsFirstBrokenLink takes one piece after the other
// away from a machine that starts.
func TestTheChainOfGRUBEndsAtItsFirstBrokenLink(t *testing.T) {
	esp := layout.Entry{
		Type: layout.TypeESP,
		ID:   layout.MustParseGUID("0c921feb-119f-4abf-99c7-8854c89ced36"),
		Span: layout.Span{First: 2048, Last: 4095},
	}
	sys := layout.Entry{
		Type: layout.TypeLinuxRoot,
		ID:   layout.MustParseGUID("1c921feb-119f-4abf-99c7-8854c89ced36"),
		Span: layout.Span{First: 4096, Last: 8191},
	}
	const size = 8 << 20
	table := read(t, size, []layout.Entry{esp, sys})
	const uuid = "087d985b-06cf-4d11-99a0-fe015d3f42ee"
	for _, c := range []struct{ gone, fault string }{
		{"", ""}, {"EFI/debian/grubx64.efi", "loader-missing"}, {"EFI/debian/grub.cfg", "boot-store-damaged"},
		{
			"boot/vmlinuz-6.1.0-50-cloud-amd64", "kernel-missing",
		}, {"boot/initrd.img-6.1.0-50-cloud-amd64", "early-image-missing"}, {"volume", "boot-store-other-volume"},
		{"zeros: boot/vmlinuz-6.1.0-50-cloud-amd64", "kernel-altered"},
		{"zeros: boot/initrd.img-6.1.0-50-cloud-amd64", "early-image-missing"},
	} {
		boots := fstest.MapFS{
			"EFI/debian/grubx64.efi": {Data: standin.Program("")},
			"EFI/debian/grub.cfg":    {Data: []byte("search.fs_uuid " + uuid + " root hd0,gpt2\n")},
		}
		holds := fstest.MapFS{
			"boot/vmlinuz-6.1.0-50-cloud-amd64":    {Data: standin.Kernel(0)},
			"boot/initrd.img-6.1.0-50-cloud-amd64": {Data: standin.EarlyImage([]byte("image"))},
			"boot/vmlinuz-6.1.0-56-cloud-amd64":    {},
			"boot/grub/grub.cfg": {Data: []byte(
				"menuentry 'x' {\n" +
					"\tlinux /boot/vmlinuz-6.1.0-50-cloud-amd64 ro\n" +
					"\tinitrd /boot/initrd.img-6.1.0-50-cloud-amd64\n" +
					"}\n",
			)},
		}
		delete(boots, c.gone)
		delete(holds, c.gone)
		if name, ok := strings.CutPrefix(c.gone, "zeros: "); ok {
			holds[name] = &fstest.MapFile{Data: make([]byte, 4096*strings.Count(name, "vmlinuz"))}
		}
		contents := map[int]layout.Content{1: {Kind: "fat32"}, 2: {Kind: "ext4", UUID: uuid}}
		if c.gone == "volume" {
			contents[2] = layout.Content{Kind: "ext4", UUID: "another"}
		}
		facts := &bag.Facts{}
		debian.Adapter{}.Survey(withVolumes(system.Ground{
			Table:    table,
			Contents: contents,
			System:   2,
			Volume:   func(n int) fs.FS { return map[int]fs.FS{1: boots, 2: holds}[n] },
		}), facts)
		got := ""
		if b := facts.State.Chain.Broken(); b != nil {
			got = string(b.Fault)
		}
		if got != c.fault {
			t.Errorf("without %q the chain says %q, want %q: %+v", c.gone, got, c.fault, facts.State.Chain)
		}
	}
}

func read(t *testing.T, size int64, entries []layout.Entry) *layout.Table {
	t.Helper()
	disk := &memory{data: make([]byte, size)}
	writes, err := layout.Create(size, 512, layout.Plan{
		DiskGUID:   layout.MustParseGUID("2c921feb-119f-4abf-99c7-8854c89ced36"),
		Partitions: entries,
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range writes {
		copy(disk.data[w.Off:], w.Data)
	}
	table, err := layout.Read(disk)
	if err != nil {
		t.Fatal(err)
	}
	return table
}

type memory struct{ data []byte }

func (m *memory) ReadAt(p []byte, off int64) (int, error) { return copy(p, m.data[off:]), nil }
func (m *memory) Size() int64                             { return int64(len(m.data)) }
func (m *memory) SectorSize() int                         { return 512 }
