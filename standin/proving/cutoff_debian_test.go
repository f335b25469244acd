package proving

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"diorthos/core/action"
	"diorthos/core/ladder"
	"diorthos/host"
	"diorthos/platform"
	standin "diorthos/standin/debian"
	"diorthos/standin/fleet"
)

// TestEveryDebianActionCutOffAtEveryWrite does the same with what is done to Debian machines
// alone: the names that a start goes by, GRUB's code and core image, a partition's type.
func TestEveryDebianActionCutOffAtEveryWrite(t *testing.T) {
	for _, c := range []struct {
		disk    string
		actions []action.ID
	}{
		{biosDisk(t), []action.ID{"boot.code", "boot.root", "boot.mounts"}},
		{retypedDisk(t), []action.ID{"layout.type-esp"}},
		{damagedGroupDisk(t), []action.ID{"volume.mend-group"}},
	} {
		m := &host.Machine{
			Path: c.disk, Name: "cut", SectorSize: 512, Adapters: platform.All(), Now: func() time.Time { return Now },
		}
		facts, err := m.Measure(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		m.Facts = facts
		for _, id := range c.actions {
			rung := ladder.Rung{Number: 1, Remedy: string(id), Action: id, Target: action.TargetOf(id, facts)}
			n := cutOff(t, m, rung)
			if n < 1 { // each changes one place; the torn write is cut off too
				t.Errorf("%s was cut off %d times", id, n)
			}
			t.Logf("%s: cut off %d times", id, n)
		}
	}
}

func tool(t *testing.T, name string, args ...string) {
	t.Helper()
	c := exec.CommandContext(t.Context(), name, args...)
	c.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", name, err, out)
	}
}

// biosDisk is that of a machine on which everything is wrong: no code in sector 0, a root
// volume and a mount by names that no volume has.
func biosDisk(t *testing.T) string {
	t.Helper()
	const lost = "00000000-1111-4222-8333-444444444444"
	dir := t.TempDir()
	image := filepath.Join(dir, "core.img")
	tool(t, "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "-o", image, "biosdisk", "part_msdos", "ext2")
	core, err := os.ReadFile(image)
	if err != nil {
		t.Fatal(err)
	}
	code, err := os.ReadFile("/usr/lib/grub/i386-pc/boot.img")
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{
		"etc/os-release":      []byte("ID=debian\n"),
		"var/lib/dpkg/status": []byte("Package: base\n"),
		"etc/fstab":           []byte("UUID=" + lost + " /srv ext4 defaults 0 2\n"),
		"boot/grub/grub.cfg": []byte("# " + strings.Repeat("-", 5000) +
			"\nmenuentry x {\n linux /boot/kernel root=UUID=" + lost +
			"\n}\nmenuentry y {\n linux /boot/kernel root=UUID=" + lost + "\n}\n"),
		"boot/grub/i386-pc/boot.img": code, "boot/grub/i386-pc/core.img": core,
		"boot/kernel": standin.Kernel(9000),
	} {
		path := filepath.Join(dir, "tree", name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	disk := filepath.Join(dir, "disk.img")
	tool(t, "truncate", "-s", "24M", disk)
	tool(t, "sh", "-c", fmt.Sprintf("printf 'label: dos\n2048,32768,83,*\n' | sfdisk -q %s", disk))
	tool(t, "mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-d", filepath.Join(dir, "tree"),
		"-E", "offset=1048576", disk, "16m")
	return disk
}

// damagedGroupDisk is one whose volume group has lost the header of its metadata.
func damagedGroupDisk(t *testing.T) string {
	t.Helper()
	packed, err := os.ReadFile("../../core/volumes/testdata/linear.img.zst")
	if err != nil {
		t.Fatal(err)
	}
	z, err := zstd.NewReader(bytes.NewReader(packed))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	raw, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	clear(raw[4096:4200])
	disk := filepath.Join(t.TempDir(), "disk.img")
	if err := os.WriteFile(disk, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	return disk
}

// retypedDisk is that of a machine whose loader lies on a partition of another type.
func retypedDisk(t *testing.T) string {
	t.Helper()
	disk := filepath.Join(t.TempDir(), "disk.img")
	if err := (fleet.Machine{Name: "kestrel-office-6"}).Make(t.Context(), disk); err != nil {
		t.Fatal(err)
	}
	tool(t, "sgdisk", "-t", "1:8300", disk)
	return disk
}
