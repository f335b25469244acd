package debian_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/platform/debian"
	standin "diorthos/standin/debian"
)

const (
	rootUUID = "087d985b-06cf-4d11-99a0-fe015d3f42ee"
	homeUUID = "187d985b-06cf-4d11-99a0-fe015d3f42ee"
	lostUUID = "00000000-1111-4222-8333-444444444444"
)

// TestTheChainIsFollowedToWhatStartUpMounts breaks one link behind the loader after the other.
func TestTheChainIsFollowedToWhatStartUpMounts(t *testing.T) {
	const size = 8 << 20
	table := read(t, size, []layout.Entry{
		{
			Type: layout.TypeESP,
			ID:   layout.MustParseGUID("0c921feb-119f-4abf-99c7-8854c89ced36"),
			Span: layout.Span{First: 2048, Last: 4095},
		},
		{
			Type: layout.TypeLinux,
			ID:   layout.MustParseGUID("1c921feb-119f-4abf-99c7-8854c89ced36"),
			Span: layout.Span{First: 4096, Last: 8191},
		},
		{
			Type: layout.TypeLinux,
			ID:   layout.MustParseGUID("3c921feb-119f-4abf-99c7-8854c89ced36"),
			Span: layout.Span{First: 8192, Last: 12287},
		},
	})
	script := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text), Mode: 0o755} }
	menu := func(kernel, arguments string) *fstest.MapFile {
		return &fstest.MapFile{Data: []byte(fmt.Sprintf(
			"set default=0\nmenuentry x {\n linux /boot/%s %s\n initrd /boot/early\n}\n", kernel, arguments,
		))}
	}
	mounts := func(text string) *fstest.MapFile {
		return &fstest.MapFile{Data: []byte("UUID=" + rootUUID + " / ext4 defaults 0 1\n" + text)}
	}
	early := standin.EarlyImage(bytes.Repeat([]byte("x"), 5000))
	for name, c := range map[string]struct {
		with  map[string]*fstest.MapFile // nil takes away
		fault string
		saw   string
	}{
		"whole": {nil, "", "none of which stops"},
		"a kernel that is cut off": {map[string]*fstest.MapFile{
			"boot/kernel": {Data: standin.Kernel(9000)[:4000]},
		}, "kernel-altered", "cut off: 4000 bytes"},
		"a kernel that is a page of text": {map[string]*fstest.MapFile{
			"boot/kernel": {Data: bytes.Repeat([]byte("not found\n"), 200)},
		}, "kernel-altered", "no kernel"},
		"an early-boot image that is cut off": {map[string]*fstest.MapFile{
			"boot/early": {Data: early[:3000]},
		}, "early-image-missing", "cut off"},
		"an early-boot image of something else": {map[string]*fstest.MapFile{
			"boot/early": {Data: []byte("<html>sign in</html>")},
		}, "early-image-missing", "neither an archive"},
		"microcode before a packed one that is cut off": {map[string]*fstest.MapFile{
			"boot/early": {Data: append(slices.Clone(early), 0x28, 0xb5, 0x2f, 0xfd, 0x20, 0x10, 0x81, 0x00, 0x00, 1, 2)},
		}, "early-image-missing", "cut off"},
		"a root that is gone": {
			map[string]*fstest.MapFile{"boot/grub/grub.cfg": menu("kernel", "root=UUID="+lostUUID)},
			"root-volume-missing", "no volume",
		},
		"a root by its partition": {
			map[string]*fstest.MapFile{
				"boot/grub/grub.cfg": menu("kernel", "root=PARTUUID=1C921FEB-119f-4abf-99c7-8854c89ced36 ro"),
			},
			"", "",
		},
		"a root by its device": {
			map[string]*fstest.MapFile{"boot/grub/grub.cfg": menu("kernel", "root=/dev/nvme0n1p2")},
			"", "",
		},
		"a root on another device": {
			map[string]*fstest.MapFile{"boot/grub/grub.cfg": menu("kernel", "root=/dev/sda7")},
			"root-volume-missing", "",
		},
		"a root in a volume group": {
			map[string]*fstest.MapFile{"boot/grub/grub.cfg": menu("kernel", "root=/dev/mapper/harbour-root")},
			"", "not followed",
		},
		"no first program": {map[string]*fstest.MapFile{"sbin/init": nil}, "init-missing", "not there"},
		"one that cannot be run": {
			map[string]*fstest.MapFile{"sbin/init": {Data: []byte("#!/bin/sh\n"), Mode: 0o644}},
			"init-missing", "cannot be run",
		},
		"one without its shell": {map[string]*fstest.MapFile{"bin/sh": nil}, "init-missing", "run by /bin/sh"},
		"one that is neither": {
			map[string]*fstest.MapFile{"sbin/init": script("garbage")},
			"init-missing", "neither a script nor a program",
		},
		"another one that is named": {
			map[string]*fstest.MapFile{
				"sbin/init": nil, "opt/up": script("#!/bin/sh\n"),
				"boot/grub/grub.cfg": menu("kernel", "root=UUID="+rootUUID+" init=/opt/up"),
			},
			"", "",
		},
		"a volume that is gone": {
			map[string]*fstest.MapFile{"etc/fstab": mounts("UUID=" + lostUUID + " /srv ext4 defaults 0 2\n")},
			"mount-missing", "/srv",
		},
		"a volume of another kind": {
			map[string]*fstest.MapFile{"etc/fstab": mounts("UUID=" + homeUUID + " /home xfs defaults 0 2\n")},
			"mount-missing", "holds ext4, and not xfs",
		},
		"one that may be missing": {
			map[string]*fstest.MapFile{"etc/fstab": mounts("UUID=" + lostUUID + " /srv ext4 defaults,nofail 0 2\n")},
			"", "",
		},
		"one that was on another disk": {
			map[string]*fstest.MapFile{"etc/fstab": {Data: []byte(
				"# / was on /dev/sda2 during installation\nUUID=" + rootUUID + " / ext4 defaults 0 1\n" +
					"# /srv was on /dev/sdb1 during installation\nUUID=" + lostUUID + " /srv ext4 defaults 0 2\n",
			)}},
			"", "",
		},
		"swap that is gone": {
			map[string]*fstest.MapFile{"etc/fstab": mounts("UUID=" + lostUUID + " none swap sw 0 0\n")},
			"", "",
		},
		"a share, a comment, a bind": {
			map[string]*fstest.MapFile{
				"etc/fstab": mounts("nas:/x /x nfs defaults 0 0\n#UUID=" + lostUUID + " /y ext4 defaults 0 2\n" +
					"/srv/a /srv/b none bind 0 0\n"),
			},
			"", "",
		},
	} {
		esp := fstest.MapFS{
			"EFI/debian/grubx64.efi": {Data: standin.Program("")},
			"EFI/debian/grub.cfg":    {Data: []byte("search.fs_uuid " + rootUUID + " root\n")},
		}
		root := fstest.MapFS{
			"boot/kernel": {Data: standin.Kernel(9000)}, "boot/early": {Data: early},
			"boot/grub/grub.cfg": menu("kernel", "root=UUID="+rootUUID+" ro quiet"),
			"sbin/init":          script("#!/bin/sh\nexec /bin/sh\n"), "bin/sh": script("x"),
			"etc/fstab": mounts("UUID=" + homeUUID + " /home ext4 defaults 0 2\nUUID=77AA-0001 /boot/efi vfat umask=0077 0 1\n"),
		}
		maps.Copy(root, c.with)
		maps.DeleteFunc(root, func(_ string, f *fstest.MapFile) bool { return f == nil })
		facts := &bag.Facts{}
		debian.Adapter{}.Survey(withVolumes(system.Ground{
			Disk: &memory{data: make([]byte, size)}, Table: table, System: 2,
			Contents: map[int]layout.Content{
				1: {Kind: "fat32", UUID: "77AA-0001"}, 2: {Kind: "ext4", UUID: rootUUID}, 3: {Kind: "ext4", UUID: homeUUID},
			},
			Volume: func(n int) fs.FS { return map[int]fs.FS{1: esp, 2: root, 3: fstest.MapFS{}}[n] },
		}), facts)
		last := facts.State.Chain[len(facts.State.Chain)-1]
		if string(last.Fault) != c.fault || !strings.Contains(last.What+": "+last.Saw, c.saw) {
			t.Errorf("%s: %+v, want %q and %q", name, last, c.fault, c.saw)
		}
	}
}

// TestNamesAreMendedInPlace mends menu and mounts on a volume that mke2fs made; e2fsck is
// the witness that the volume is whole.
func TestNamesAreMendedInPlace(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	fstab := "# of the machine\nUUID=" + lostUUID + " / ext4 errors=remount-ro 0 1\n" +
		"UUID=" + strings.Replace(lostUUID, "0000", "0001", 1) + " /home ext4 defaults 0 2\n" +
		"UUID=" + strings.Replace(lostUUID, "0000", "0002", 1) + " /data xfs defaults 0 2\n"
	for name, text := range map[string]string{
		"etc/os-release": "ID=debian\n", "etc/fstab": fstab, "var/lib/dpkg/status": "Package: base\n",
		"boot/grub/grub.cfg": "menuentry x {\n search --fs-uuid --set=root " + lostUUID +
			"\n linux /boot/kernel root=UUID=" + lostUUID + " ro\n}\n",
		"boot/kernel": string(standin.Kernel(9000)), "sbin/init": "#!/bin/sh\n", "bin/sh": "x",
	} {
		path := filepath.Join(tree, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	disk := filepath.Join(dir, "disk.img")
	run := func(name string, args ...string) {
		c := exec.CommandContext(t.Context(), name, args...)
		c.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", name, err, out)
		}
	}
	run("truncate", "-s", "40M", disk)
	run("sh", "-c", "printf 'label: dos\n2048,32768,83,*\n34816,32768,83\n' | sfdisk -q "+disk)
	run("mke2fs", "-q", "-F", "-t", "ext4", "-U", rootUUID, "-d", tree, "-E", "offset=1048576", disk, "16m")
	run("mke2fs", "-q", "-F", "-t", "ext4", "-U", homeUUID, "-E", "offset=17825792", disk, "16m")
	dev, err := block.OpenImage(disk, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	open := func() system.References {
		s, err := debian.Adapter{}.Open(dev, 1, system.Options{Now: time.Now()})
		if err != nil {
			t.Fatal(err)
		}
		return s.(system.References)
	}
	if open().BootPiece("root") == nil || open().BootPiece("mounts") == nil {
		t.Fatal("nothing is wrong with a machine whose names are all gone")
	}
	if did, err := open().MendRoot(); err != nil || len(did) != 1 || !strings.Contains(did[0], "in 2 places") {
		t.Errorf("root: %q, %v", did, err)
	}
	did, err := open().MendMounts()
	if err != nil || len(did) != 3 || !strings.Contains(did[1], homeUUID) ||
		!strings.Contains(did[2], "is a comment now") {
		t.Errorf("mounts: %q, %v", did, err)
	}
	for _, kind := range []string{"root", "mounts"} {
		if err := open().BootPiece(kind); err != nil {
			t.Errorf("%s afterwards: %v", kind, err)
		}
	}
	if again, err := open().MendMounts(); err != nil || len(again) != 0 {
		t.Errorf("once more: %q, %v", again, err)
	}
	if err := dev.Sync(); err != nil {
		t.Fatal(err)
	}
	run("dd", "if="+disk, "of="+filepath.Join(dir, "volume"), "bs=1M", "skip=1", "count=16", "status=none")
	run("e2fsck", "-fn", filepath.Join(dir, "volume"))
}

// TestAMachineIsFollowedTheWayItStarts chooses by what the machine says, else by the disk.
func TestAMachineIsFollowedTheWayItStarts(t *testing.T) {
	gpt := read(t, 8<<20, []layout.Entry{{
		Type: layout.TypeLinux, ID: layout.MustParseGUID("1c921feb-119f-4abf-99c7-8854c89ced36"),
		Span: layout.Span{First: 4096, Last: 8191},
	}})
	mbr := func(kind byte) *layout.Table {
		raw := make([]byte, 8<<20)
		copy(raw[446:], []byte{0x80, 0, 0, 0, kind, 0, 0, 0, 0, 8, 0, 0, 0, 16, 0, 0})
		raw[510], raw[511] = 0x55, 0xaa
		table, err := layout.Read(&memory{data: raw})
		if err != nil {
			t.Fatal(err)
		}
		return table
	}
	code := make([]byte, 8<<20)
	copy(code[0x180:], "GRUB \x00Geom\x00")
	for name, c := range map[string]struct {
		table *layout.Table
		disk  []byte
		mode  firmware.Mode
		fault string // of the last link; "none" for no chain
	}{
		"a GPT without a loader's partition":  {gpt, nil, "", "esp-missing"},
		"the same with GRUB's code":           {gpt, code, "", "core-image-damaged"},
		"the same, and the machine says BIOS": {gpt, nil, firmware.BIOS, "boot-code-damaged"},
		"an MBR":                              {mbr(0x83), nil, "", "boot-code-damaged"},
		"an MBR, and the machine says UEFI":   {mbr(0x83), nil, firmware.UEFI, "esp-missing"},
		"an MBR with a loader's partition":    {mbr(0xef), nil, "", "none"},
	} {
		facts := &bag.Facts{}
		if c.mode != "" {
			facts.Firmware = &bag.Firmware{Mode: c.mode}
		}
		if c.disk == nil {
			c.disk = make([]byte, 8<<20)
		}
		c.disk[510], c.disk[511] = 0x55, 0xaa
		debian.Adapter{}.Survey(withVolumes(system.Ground{
			Disk: &memory{data: c.disk}, Table: c.table, System: 1, Contents: map[int]layout.Content{},
			Volume: func(int) fs.FS { return nil },
		}), facts)
		got := "none"
		if len(facts.State.Chain) > 0 {
			got = string(facts.State.Chain[len(facts.State.Chain)-1].Fault)
		}
		if got != c.fault {
			t.Errorf("%s: %s, want %s", name, got, c.fault)
		}
	}
}

// withVolumes adds the partitions of a table to the ground: what lies on them is in its contents.
func withVolumes(g system.Ground) system.Ground {
	g.Volumes = volumes.Open(&memory{data: make([]byte, g.Table.Size)}, g.Table, nil)
	for _, v := range g.Volumes.All() {
		v.Content = g.Contents[v.Number]
	}
	return g
}
