package host

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"diorthos/core/block"
)

// What is mounted of an image is known, and that a change reaches into it; what is not mounted is
// not in use.
func TestWhatIsMountedIsInUse(t *testing.T) {
	disk := filepath.Join(t.TempDir(), "disk.img")
	for _, c := range []string{
		"truncate -s 20M " + disk, "printf 'label: dos\n2048,,83\n' | sfdisk -q " + disk,
		"mke2fs -q -F -t ext4 -E offset=1048576 " + disk + " 18m",
	} {
		if out, err := exec.CommandContext(t.Context(), "sh", "-c", c).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", c, err, out)
		}
	}
	if list, err := InUse(disk); err != nil || len(list) != 0 {
		t.Errorf("of an image that nobody uses: %v, %v", list, err)
	}
	if os.Geteuid() != 0 {
		return // only root mounts
	}
	at := t.TempDir()
	run := func(args ...string) {
		t.Helper()
		if out, err := exec.CommandContext(t.Context(), args[0], args[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", args, err, out)
		}
	}
	run("mount", "-o", "loop,offset=1048576", disk, at)
	defer run("umount", at)
	list, err := InUse(disk)
	if err != nil || len(list) != 1 || list[0].Off != 1<<20 || list[0].Where != "mounted at "+at {
		t.Fatalf("of a mounted one: %+v, %v", list, err)
	}
	if !list[0].Meets([]block.Write{{Off: 2 << 20, Data: []byte{1}}}) || list[0].Meets([]block.Write{{Off: 512,
		Data: []byte{1}}}) {
		t.Errorf("what reaches into it: %+v", list[0])
	}
}
