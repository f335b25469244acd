package climb_test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/diagnosis"
	"diorthos/core/firmware"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/reading"
	"diorthos/core/system"
	shipped "diorthos/knowledge"
	"diorthos/platform/debian"
)

// tool runs a tool that is not ours.
func tool(t *testing.T, stdin string, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
	return string(out)
}

// debianDisk is an MBR disk with a Debian on its one ext4 partition.
func debianDisk(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	path, tree := filepath.Join(folder, "disk.img"), filepath.Join(folder, "tree")
	for name, text := range map[string]string{
		"etc/os-release":      "ID=debian\nPRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nVERSION_ID=\"12\"\n",
		"var/lib/dpkg/status": "",
		"etc/hostname":        "fulmar-office-2\n",
		"home/plan.txt":       "berth 2\n",
	} {
		at := filepath.Join(tree, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	tool(t, "", "truncate", "-s", "900M", path)
	tool(t, "label: dos\nstart=4096, size=400000, type=83, bootable\n", "sfdisk", "-q", path)
	tool(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-d", tree, "-E", "offset=2097152", path, "200000k")
	return path
}

// take diagnoses the disk and takes one rung of its ladder.
func take(t *testing.T, path string, mode firmware.Mode, cause, remedy string) {
	t.Helper()
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	adapters := []system.Adapter{debian.Adapter{}}
	dev, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	disk, _, err := system.Describe(dev, "disk0", path, adapters, system.Needs{Firmware: mode})
	if err != nil {
		t.Fatal(err)
	}
	facts := &bag.Facts{Disks: []bag.Disk{*disk}, Firmware: &bag.Firmware{Mode: mode}}
	why, _, err := diagnosis.Rank(&reading.Timeline{}, facts, k)
	if err != nil || len(why) == 0 || why[0].Cause != cause {
		t.Fatalf("why: %+v %v", why, err)
	}
	for _, rung := range ladder.Build(why, facts, &reading.Timeline{}, k) {
		if rung.Remedy != remedy {
			continue
		}
		journal := filepath.Join(t.TempDir(), "journal")
		run, err := climb.Take(t.Context(), rung, dev, climb.Options{
			Now: time.Now, Path: path, Environment: action.Environment{Adapters: adapters, Facts: facts},
			Journal: func(h block.Head, _ int64) (*block.Journal, string, error) {
				j, err := block.CreateJournal(journal, h)
				return j, journal, err
			},
		})
		if err != nil || run.Outcome != climb.Proven {
			t.Fatalf("%+v %v", run, err)
		}
		return
	}
	t.Fatalf("no rung %s", remedy)
}

// TestRestyleIsARung: an MBR disk in a machine that starts by UEFI becomes a
// GPT disk. sgdisk, fsck.fat and e2fsck find nothing wrong, and debugfs reads
// the user's file.
func TestRestyleIsARung(t *testing.T) {
	path := debianDisk(t)
	take(t, path, "uefi", "style-against-firmware", "change-the-table-style")
	if out := tool(t, "", "sgdisk", "-v", path); !strings.Contains(out, "No problems found") {
		t.Error(out)
	}
	printed := tool(t, "", "sfdisk", "-d", path)
	if !strings.Contains(printed, "label: gpt") || !strings.Contains(strings.ToLower(printed), "c12a7328") ||
		!strings.Contains(printed, "start=        4096") {
		t.Error(printed)
	}
	tool(t, "", "e2fsck", "-fn", path+"?offset=2097152")
	if out := tool(
		t, "", "debugfs", "-R", "cat /home/plan.txt", path+"?offset=2097152",
	); !strings.Contains(out, "berth 2") {
		t.Error(out)
	}
}

// TestALostSuperblockIsARung: e2fsck, which refuses the damaged volume, finds
// nothing wrong with it afterwards.
func TestALostSuperblockIsARung(t *testing.T) {
	path := debianDisk(t)
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err == nil {
		_, err = f.WriteAt(make([]byte, 4096), 2097152)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	take(t, path, "bios", "file-system-start-damaged", "mend-the-file-systems")
	tool(t, "", "e2fsck", "-fn", path+"?offset=2097152")
}
