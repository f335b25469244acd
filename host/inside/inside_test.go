package inside

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
	"diorthos/core/system"
)

const rootAt = 34 << 20

// smallDisk makes a disk with an EFI system partition and a system whose only program is ours.
func smallDisk(t *testing.T) string {
	t.Helper()
	tree, disk := t.TempDir(), filepath.Join(t.TempDir(), "disk.img")
	for _, folder := range []string{
		"bin", "dev", "proc", "sys", "run", "tmp", "etc", "var", "home", "usr/sbin", "boot/efi",
	} {
		if err := os.MkdirAll(filepath.Join(tree, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range map[string]string{"etc/keep": "as it was", "home/letter": "a user's", "etc/gone": "x"} {
		if err := os.WriteFile(filepath.Join(tree, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []string{
		"CGO_ENABLED=0 go build -o " + tree + "/bin/tool ./testdata/tool",
		"truncate -s 96M " + disk,
		"sgdisk -n1:2048:+33M -t1:EF00 -n2:69632:0 " + disk,
		"mkfs.vfat --offset 2048 " + disk + " 33792",
		"mke2fs -q -t ext4 -d " + tree + " -E offset=35651584 " + disk + " 60M",
		"mmd -i " + disk + "@@1M ::/EFI",
	} {
		if out, err := exec.CommandContext(t.Context(), "sh", "-c", c).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", c, err, out)
		}
	}
	return disk
}

// A system is entered on a draft of its disk: its own program runs in it, without a network and
// without other processes, and what it changed is in the draft alone, on the root volume and on
// the FAT one. Nothing stays mounted.
func TestASystemIsEnteredOnADraft(t *testing.T) {
	if os.Geteuid() != 0 {
		if _, err := Enter(t.Context(), nil, nil, system.Mount{Volume: 1}, nil); !errors.Is(err, ErrNotHere) {
			t.Errorf("without root: %v", err)
		}
		return
	}
	path := smallDisk(t)
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	disk, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = disk.Close() }()
	draft := block.NewDraft(disk)
	s, err := Enter(t.Context(), draft, nil, system.Mount{Volume: 2}, []system.Mount{{Volume: 1, Path: "boot/efi"}})
	if err != nil {
		t.Fatal(err)
	}
	run := func(c system.Command) system.Output {
		t.Helper()
		out, err := s.Run(t.Context(), c)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	if out := run(system.Command{Args: []string{"/bin/tool", "look"}}); out.Text != "interfaces 1, processes 1, "+
		"policy true, mode true\n" {
		t.Errorf("what the program finds around it: %q", out.Text)
	}
	out := run(system.Command{Args: []string{
		"/bin/tool", "write", "/etc/new", "a", "write", "/etc/keep", "other", "remove", "/etc/gone", "mkdir",
		"/boot/efi/EFI/debian",
		"write", "/boot/efi/EFI/debian/grub.cfg", "search", "say", "done",
	}})
	if out.Status != 0 || out.Text != "done\n" {
		t.Errorf("the program: %+v", out)
	}
	if out := run(system.Command{Args: []string{"/bin/tool", "write", "/nowhere/x", "a"}}); out.Status != 3 {
		t.Errorf("one that fails: %+v", out)
	}
	if out := run(system.Command{Args: []string{"/bin/tool", "sleep"}, Limit: 300 * time.Millisecond}); out.Status != -1 {
		t.Errorf("one that takes too long: %+v", out)
	}
	changed, err := s.Changed()
	if want := []system.Change{
		{Path: "boot/efi/EFI/debian/grub.cfg", How: system.FileAdded}, {Path: "etc/gone", How: system.FileRemoved},
		{Path: "etc/keep", How: system.FileChanged}, {Path: "etc/new", How: system.FileAdded},
	}; err != nil || !reflect.DeepEqual(changed, want) {
		t.Errorf("changed: %v, %v", changed, err)
	}
	if err := s.Leave(); err != nil {
		t.Fatal(err)
	}
	if after, err := os.ReadFile(path); err != nil || string(after) != string(before) {
		t.Fatal("the disk itself was changed")
	}
	if mounts, _ := os.ReadFile("/proc/self/mounts"); strings.Contains(string(mounts), "/root/boot/efi") {
		t.Errorf("left behind: %s", mounts)
	}
	writes, err := draft.Writes()
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range writes {
		if _, err := disk.WriteAt(w.Data, w.Off); err != nil {
			t.Fatal(err)
		}
	}
	look := func(c string) string {
		t.Helper()
		out, err := exec.CommandContext(t.Context(), "sh", "-c", c).CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v: %s", c, err, out)
		}
		return string(out)
	}
	look("dd if=" + path + " of=" + path + ".root bs=1M skip=34 status=none && e2fsck -fn " + path + ".root")
	look("dd if=" + path + " of=" + path + ".esp bs=1M skip=1 count=33 status=none && fsck.fat -n " + path + ".esp")
	if text := look("debugfs -R 'cat /etc/keep' " + path + ".root 2>/dev/null"); text != "other" {
		t.Errorf("etc/keep: %q", text)
	}
	if text := look("debugfs -R 'cat /home/letter' " + path + ".root 2>/dev/null"); text != "a user's" {
		t.Errorf("home/letter: %q", text)
	}
	if text := look("debugfs -R 'ls /usr/sbin' " + path + ".root 2>/dev/null"); strings.Contains(text, "policy-rc.d") {
		t.Errorf("what was lent stayed there: %s", text)
	}
	if text := look("mtype -i " + path + "@@1M ::/EFI/debian/grub.cfg"); text != "search" {
		t.Errorf("on the EFI system partition: %q", text)
	}
}

// What cannot be mounted is said, and nothing stays behind.
func TestWhatCannotBeEnteredIsSaid(t *testing.T) {
	if os.Geteuid() != 0 {
		return // said above
	}
	path := smallDisk(t)
	disk, err := block.OpenImage(path, 512, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = disk.Close() }()
	damaged := block.NewDraft(disk)
	if _, err := damaged.WriteAt(make([]byte, 8192), rootAt); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		dev  block.Device
		part int
		want string
	}{
		"a damaged volume": {damaged, 2, "not a file system"}, "no such partition": {block.NewDraft(disk), 7, "partition 7"},
	} {
		if _, err := Enter(context.Background(), c.dev, nil, system.Mount{Volume: c.part}, nil); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// ofDrafts are the mounts of drafts: a folder of the user's that bears the name of this program is none.
var ofDrafts = regexp.MustCompile(` - (?:tmpfs diorthos|fuse\S* (?:draft|diorthos)) `)

// The first thread of the process is no session's: what it sees is what /proc/self tells of all the others, so that
// a mount of today would be looked for among those of a draft.
func TestNoSessionTakesTheFirstThread(t *testing.T) {
	var wait sync.WaitGroup
	for range 16 {
		wait.Go(func() {
			for range 32 {
				s := newSession(nil)
				var thread int
				if err := s.do(func() error { thread = unix.Gettid(); return nil }); err != nil || thread == unix.Getpid() {
					t.Errorf("a session works on the first thread: %v", err)
				}
				close(s.work)
				<-s.ended
			}
		})
	}
	wait.Wait()
}

// A program that is started with a draft sees it as a file; nobody else does, so that nothing is left mounted even
// when all is killed, and two at a time do not meet. What it writes is in its draft.
func TestAProgramAloneSeesItsDraft(t *testing.T) {
	shared := func() bool {
		left, err := os.ReadFile("/proc/self/mountinfo")
		if err != nil {
			t.Error(err)
		}
		return ofDrafts.Match(left)
	}
	before := shared()
	var wait sync.WaitGroup
	for _, letter := range []string{"a", "b"} {
		path := filepath.Join(t.TempDir(), "disk.img")
		if err := os.WriteFile(path, make([]byte, 1<<20), 0o600); err != nil {
			t.Fatal(err)
		}
		image, err := block.OpenImage(path, 512, true)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = image.Close() }()
		draft := block.NewDraft(image)
		wait.Go(func() {
			var out bytes.Buffer
			err := Start(t.Context(), draft, nil, &out, func(disk string) []string {
				if shared() && !before {
					t.Error("the draft is mounted for everybody")
				}
				return []string{
					"sh",
					"-ec",
					"printf " + letter + " | dd of=" + disk + " bs=1 seek=700000 conv=notrunc status=none; sleep 0.3; " +
						"cat " + disk + " | tr -d '\\0'",
				}
			})
			if err != nil || out.String() != letter {
				t.Errorf("%s: it saw %q, %v", letter, out.String(), err)
			}
			got := make([]byte, 1)
			if _, err := draft.ReadAt(got, 700000); err != nil || string(got) != letter {
				t.Errorf("%s: the draft holds %q, %v", letter, got, err)
			}
		})
	}
	wait.Wait()
}
