package debian

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/klauspost/compress/zstd"

	"diorthos/core/boot"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/platform/grub"
)

// archive is one in the new ASCII form with empty files of these names.
func archive(names ...string) []byte {
	var b bytes.Buffer
	for _, name := range append(slices.Clone(names), "TRAILER!!!") {
		fmt.Fprintf(&b, "070701%s%08x%s", bytes.Repeat([]byte("00000000"), 11), len(name)+1, "00000000")
		b.WriteString(name)
		for ok := true; ok; ok = b.Len()%4 != 0 {
			b.WriteByte(0)
		}
	}
	return b.Bytes()
}

// An early-boot image that lacks what puts the root's volumes together is a broken link, however it is packed;
// one that cannot be looked into is not called so.
func TestAnEarlyImageHoldsWhatTheRootLiesOn(t *testing.T) {
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	if _, err := z.Write(archive("usr/sbin/lvm")); err != nil || z.Close() != nil {
		t.Fatal(err)
	}
	enc, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	microcode := append(archive("kernel/x86/microcode/GenuineIntel.bin"), make([]byte, 512)...)
	images := map[string][]byte{
		"plain": archive("init", "sbin/lvm"), "without": archive("init", "bin/sh"), "gzip": zipped.Bytes(),
		"zstd behind microcode": enc.EncodeAll(
			archive("init", "sbin/cryptsetup", "sbin/lvm"), microcode,
		),
		"damaged": []byte("070701 and no more"),
	}
	files := fstest.MapFS{}
	for name, raw := range images {
		files[name] = &fstest.MapFile{Data: raw}
	}
	for _, c := range []struct {
		image  string
		number int
		known  bool
		broken bool
	}{
		{"plain", 1, true, false}, {"without", 1, true, true}, {"gzip", 1, true, false},
		{"zstd behind microcode", 1, true, false}, {"zstd behind microcode", 2, true, false}, {"plain", 2, true, true},
		{"damaged", 1, false, false}, {"plain", 3, false, false},
	} {
		g := system.Ground{Volumes: volumes.Of(
			&volumes.Volume{Number: 3, Kind: volumes.Partition, Name: "partition 3"},
			&volumes.Volume{Number: 4, Kind: volumes.Opened, Name: "opened", Within: []int{3}},
			&volumes.Volume{Number: 1, Kind: volumes.Logical, Name: "quay-vg/root", Within: []int{3}},
			&volumes.Volume{Number: 2, Kind: volumes.Logical, Name: "quay-vg/closed", Within: []int{4}},
		)}
		start := &grub.Start{Early: []grub.File{{Volume: &grub.Volume{Files: files}, Path: c.image}}}
		l, known := layersLink(g, start, c.number)
		if known != c.known || (l.Fault == boot.EarlyImageMissing) != c.broken {
			t.Errorf("%s for volume %d: known %v, %+v", c.image, c.number, known, l)
		}
	}
}

// Whatever bytes lie where an early-boot image, or a kernel that carries one, ought to lie: they are told
// apart or refused.
func FuzzNamesIn(f *testing.F) {
	enc, err := zstd.NewWriter(nil)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(archive("init", "sbin/lvm"))
	f.Add(enc.EncodeAll(archive("init"), append(archive("kernel"), make([]byte, 512)...)))
	f.Add(unified(map[string]string{".cmdline": "root=UUID=1", ".initrd": string(archive("init"))}))
	f.Fuzz(func(t *testing.T, raw []byte) {
		volume := &grub.Volume{Files: fstest.MapFS{"EFI/Linux/a.efi": {Data: raw}}}
		_ = namesIn(grub.File{Volume: volume, Path: "EFI/Linux/a.efi"}, func(string) {})
		for _, e := range entriesOn(volume) {
			if e.sections != nil {
				_ = namesIn(grub.File{Volume: &grub.Volume{Files: e.sections}, Path: carriedEarly}, func(string) {})
			}
		}
	})
}
