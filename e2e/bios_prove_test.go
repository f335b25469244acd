//go:build prove

package e2e

import (
	"bytes"
	little "encoding/binary"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const (
	biosRoot = "3f1c7a52-8a0b-4d52-9f5e-2b6f0c9d1e44"
	nowhere  = "0d1f77aa-1111-4222-8333-444444444444"
	volumeAt = 1 << 20
)

// onVolume runs commands of debugfs on the machine's volume.
func onVolume(t *testing.T, disk, commands string) {
	t.Helper()
	c := exec.CommandContext(t.Context(), "debugfs", "-w", "-f", "-", disk+"?offset=1048576")
	c.Stdin = strings.NewReader(commands)
	if out, err := c.CombinedOutput(); err != nil || bytes.Contains(out, []byte("not found")) {
		t.Fatalf("debugfs: %v: %s", err, out)
	}
}

// rewrite changes a file on the machine's volume.
func rewrite(t *testing.T, disk, name string, change func(string) string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "file")
	onVolume(t, disk, "dump "+name+" "+file+"\n")
	put(t, file, []byte(change(string(read(t, file)))))
	onVolume(t, disk, "rm "+name+"\nwrite "+file+" "+name+"\n")
}

// A genuine Debian machine that starts by the older firmware is mended from what it has, and
// starts in QEMU again; nothing but what was wrong is written, and the undo is exact.
func TestProveThatABIOSMachineStartsAgain(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), "../standin/debian/bios.sh").Output()
	if err != nil {
		t.Fatal(err)
	}
	base := strings.TrimSpace(string(out))
	fresh := func(t *testing.T) string {
		disk := filepath.Join(t.TempDir(), "disk.img")
		witness(t, "cp", "--sparse=always", base, disk)
		return disk
	}
	whole := fresh(t)
	startsBy(t, whole, "virtio", "bios", "quay-4 login:")
	if chain := (&stage{t: t, url: "http://127.0.0.1:1"}).run("boot", "show", fresh(t)); chain.status != 0 ||
		strings.Contains(chain.out, "▲") {
		t.Fatalf("a machine that starts: %s", chain.out)
	}
	zeros := func(disk string, from, to int64) {
		f, err := os.OpenFile(disk, os.O_WRONLY, 0)
		if err == nil {
			_, err = f.WriteAt(make([]byte, to-from), from)
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	copied := func(from, to string) { witness(t, "cp", "--sparse=always", from, to) }
	for name, c := range map[string]struct {
		harm    func(t *testing.T, disk string)
		says    string
		sectors int // of the volume that may be written
	}{
		"no code in sector 0":         {func(_ *testing.T, d string) { zeros(d, 0, 440) }, "no code", 0},
		"a core image without a head": {func(_ *testing.T, d string) { zeros(d, 512, 1024) }, "not GRUB's core image", 0},
		"a core image with a hole":    {func(_ *testing.T, d string) { zeros(d, 6000, 20000) }, "differs from its copy", 0},
		"neither code nor core": {
			func(_ *testing.T, d string) { zeros(d, 0, 440); zeros(d, 512, 64<<10) },
			"no code", 0,
		},
		"sector 0 is not signed": {func(_ *testing.T, d string) { zeros(d, 510, 512) }, "the two bytes", 0},
		"the menu names a root volume that is gone": {func(t *testing.T, d string) {
			rewrite(t, d, "/boot/grub/grub.cfg", func(s string) string {
				return strings.ReplaceAll(s, "root=UUID="+biosRoot, "root=UUID="+nowhere)
			})
		}, "no volume of this disk has that name", 8},
		"a volume of fstab is gone": {func(t *testing.T, d string) {
			rewrite(t, d, "/etc/fstab", func(s string) string {
				return s + "UUID=" + nowhere + " /srv/charts ext4 defaults 0 2\n"
			})
		}, "/srv/charts", 1},
		"two at once": {func(t *testing.T, d string) {
			zeros(d, 0, 440)
			rewrite(t, d, "/boot/grub/grub.cfg", func(s string) string {
				return strings.ReplaceAll(s, "root=UUID="+biosRoot, "root=UUID="+nowhere)
			})
		}, "no code", 8},
	} {
		t.Run(name, func(t *testing.T) {
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			disk := fresh(t)
			c.harm(t, disk)
			broken, mended := disk+".broken", disk+".mended"
			copied(disk, broken)
			wants(t, strings.Join(strings.Fields(s.must(1, "boot", "show", disk)), " "), c.says)
			for range 3 { // one rung can show what else is broken
				r := s.run("diagnose", "--image", disk)
				if r.status == 0 || strings.Contains(r.out, "Mended, and not started since") {
					break
				}
				s.must(0, "climb", "--image", disk)
			}
			copied(disk, mended)
			if n := differing(t, broken, mended); n > c.sectors {
				t.Errorf("%d sectors of the volume were written, want %d at the most", n, c.sectors)
			}
			startsBy(t, disk, "virtio", "bios", "quay-4 login:")
			copied(mended, disk)
			journals, err := filepath.Glob(filepath.Join(filepath.Dir(disk), "*.journal"))
			if err != nil || len(journals) == 0 {
				t.Fatal(journals, err)
			}
			for i := len(journals) - 1; i >= 0; i-- {
				s.must(0, "undo", journals[i])
			}
			witness(t, "cmp", disk, broken)
		})
	}
}

// differing counts the sectors of the machine's volume in which two disks differ.
func differing(t *testing.T, a, b string) (n int) {
	t.Helper()
	one, err := os.Open(a)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = one.Close() }()
	other, err := os.Open(b)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Close() }()
	x, y := make([]byte, 1<<20), make([]byte, 1<<20)
	for at := int64(volumeAt); ; at += int64(len(x)) {
		got, err := one.ReadAt(x, at)
		if _, err := other.ReadAt(y, at); err != nil && !errors.Is(err, io.EOF) {
			t.Fatal(err)
		}
		if !bytes.Equal(x[:got], y[:got]) {
			for s := 0; s < got; s += 512 {
				if !bytes.Equal(x[s:min(s+512, got)], y[s:min(s+512, got)]) {
					n++
				}
			}
		}
		if errors.Is(err, io.EOF) {
			return n
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// A machine on which code of no loader's starts the active partition, and GRUB lies in that one's boot sector with its
// core image in a file: what of that is broken is told, mended by one rung or the next, and the machine starts again.
func TestProveThatAMachineStartsFromABootSector(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), "../standin/debian/bios.sh", "sector").Output()
	if err != nil {
		t.Fatal(err)
	}
	base := strings.TrimSpace(string(out))
	const volume = 2048 * 512
	write := func(t *testing.T, disk string, at int64, b []byte) {
		f, err := os.OpenFile(disk, os.O_WRONLY, 0)
		if err == nil {
			_, err = f.WriteAt(b, at)
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	coreAt := func(t *testing.T, disk string) int64 {
		return int64(little.LittleEndian.Uint64(read(t, disk)[volume+0x5c:])) * 512
	}
	for name, c := range map[string]struct {
		harm func(t *testing.T, disk string)
		says string // what is said of the broken link; nothing of a machine that starts
	}{
		"whole":                    {func(*testing.T, string) {}, ""},
		"its boot sector is empty": {func(t *testing.T, d string) { write(t, d, volume, make([]byte, 512)) }, "it holds no code"},
		"no code in sector 0":      {func(t *testing.T, d string) { write(t, d, 0, make([]byte, 440)) }, "it holds no code"},
		"a hole in the core image, which is its own copy": {
			func(t *testing.T, d string) { write(t, d, coreAt(t, d)+20*512, make([]byte, 4096)) }, "cannot be unpacked",
		},
		"nothing is active": {func(t *testing.T, d string) { write(t, d, 446, []byte{0}) }, "0 partitions are active"},
		"nothing is active, and its boot sector is empty": {func(t *testing.T, d string) {
			write(t, d, 446, []byte{0})
			write(t, d, volume, make([]byte, 512))
		}, "0 partitions are active"},
	} {
		t.Run(name, func(t *testing.T) {
			s := &stage{t: t, url: "http://127.0.0.1:1"}
			disk := filepath.Join(t.TempDir(), "disk.img")
			witness(t, "cp", "--sparse=always", base, disk)
			c.harm(t, disk)
			if c.says == "" {
				s.must(0, "boot", "show", disk)
			} else {
				wants(t, strings.Join(strings.Fields(s.must(1, "boot", "show", disk)), " "), c.says)
			}
			for range 3 {
				r := s.run("diagnose", "--image", disk)
				if r.status == 0 || strings.Contains(r.out, "Mended, and not started since") {
					break
				}
				s.run("climb", "--image", disk) // a rung whose proof fails is taken back, and the next docket passes it over
			}
			r := s.run("rehearse", disk)
			if r.status != 0 || !strings.Contains(r.out, "quay-4 login:") {
				t.Errorf("it does not start: %+v", r)
			}
		})
	}
}
