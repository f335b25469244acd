package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"diorthos/core/bag"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
)

// A disk whose system is gone is given up; what people have on it is copied out without a mount: whose it is, links and
// odd names too, each file with the sum that sha256sum finds. What cannot be read is named, and the rest is there.
func TestFilesOfPeopleAreCopiedOffADiskWithoutASystem(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := t.TempDir()
	from, disk := filepath.Join(folder, "from"), filepath.Join(folder, "disk.img")
	if err := os.MkdirAll(filepath.Join(from, "home/anna"), 0o755); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(from, "home/anna/letter.txt"), []byte("to whom it may concern"))
	put(t, filepath.Join(from, "home/anna/with\nline \\ and ü.txt"), []byte("odd"))
	put(t, filepath.Join(from, "home/anna/large.bin"), bytes.Repeat([]byte("0123456789abcdef"), 300_000))
	if err := os.Symlink("/srv/plans", filepath.Join(from, "home/anna/plans")); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(filepath.Join(from, "home/anna/letter.txt"), 70_001, 1000); err != nil && os.Getuid() == 0 {
		t.Fatal(err)
	}
	volume := filepath.Join(folder, "volume.img")
	tool(t, "truncate", "-s", "40M", volume)
	tool(t, "mke2fs", "-q", "-t", "ext4", "-d", from, volume)
	tool(t, "truncate", "-s", "96M", disk)
	tool(
		t,
		"sgdisk",
		"-n",
		"1:2048:+40M",
		"-c",
		"1:HOME",
		"-n",
		"2:0:+8M",
		"-c",
		"2:SEA",
		"-n",
		"3:0:+20M",
		"-c",
		"3:SAFE",
		disk,
	)
	tool(t, "dd", "if="+volume, "of="+disk, "bs=1M", "seek=1", "conv=notrunc")
	to := filepath.Join(folder, "kept.tar.gz")
	wants(t, s.must(0, "upkeep", "backup", disk, "--to", to), "3 files", "every file has its sum")
	out := filepath.Join(folder, "out")
	if err := os.Mkdir(out, 0o755); err != nil {
		t.Fatal(err)
	}
	tool(t, "tar", "-C", out, "-xf", to)
	check := exec.Command("sha256sum", "--strict", "-c", "SHA256SUMS")
	check.Dir = out
	if said, err := check.CombinedOutput(); err != nil || strings.Count(string(said), ": OK") != 3 {
		t.Errorf("sha256sum: %v\n%s", err, said)
	}
	tool(t, "diff", "-r", "--no-dereference", filepath.Join(from, "home"), filepath.Join(out, "volume-1/home"))
	if os.Getuid() == 0 {
		wants(t, tool(t, "tar", "--numeric-owner", "-tvf", to), "70001/1000")
	}
	if r := s.run("upkeep", "backup", disk, "--to", to); r.status != 2 || !strings.Contains(r.errout, "is there already") {
		t.Errorf("over one that is there: %+v", r)
	}

	// A file system that is not read here, one that is encrypted, and a file whose blocks lead nowhere.
	safe, key := filepath.Join(folder, "safe.img"), filepath.Join(folder, "key")
	put(t, key, []byte("a passphrase"))
	tool(t, "truncate", "-s", "20M", safe)
	tool(t, "cryptsetup", "luksFormat", "--batch-mode", "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", safe, key)
	tool(t, "dd", "if="+safe, "of="+disk, "bs=1M", "seek=49", "conv=notrunc")
	put(t, filepath.Join(folder, "xfs"), append([]byte("XFSB\x00\x00\x10\x00"), make([]byte, 504)...))
	tool(t, "dd", "if="+filepath.Join(folder, "xfs"), "of="+disk, "bs=1M", "seek=41", "conv=notrunc")
	tool(t, "debugfs", "-w", "-R", "sif /home/anna/large.bin block[5] 0x7fffffff", volume)
	tool(t, "dd", "if="+volume, "of="+disk, "bs=1M", "seek=1", "conv=notrunc")
	rest := filepath.Join(folder, "rest.tar.zst")
	said := s.must(1, "upkeep", "backup", disk, "--to", rest)
	wants(t, said, "2 files", "volume 2 (SEA): xfs is not read here", "volume 3 (SAFE)", "--key-file", "large.bin")
	wants(t, tool(t, "tar", "--zstd", "-tf", rest), "letter.txt")

	// No room for it: nothing half is left under its name.
	small := filepath.Join(folder, "small")
	if err := os.Mkdir(small, 0o755); err != nil {
		t.Fatal(err)
	}
	limited := exec.Command("sh", "-c", "ulimit -f 8; exec \"$0\" \"$@\"", binary, "upkeep", "backup", disk, "--to",
		filepath.Join(small, "x.tar.gz"))
	put(t, filepath.Join(from, "home/anna/noise.bin"), unpackable(1<<20))
	tool(t, "mke2fs", "-q", "-F", "-t", "ext4", "-d", from, volume)
	tool(t, "dd", "if="+volume, "of="+disk, "bs=1M", "seek=1", "conv=notrunc")
	if r := finish(t, limited); r.status == 0 || r.status == 1 {
		t.Errorf("without room: %+v", r)
	}
	if left, _ := os.ReadDir(small); len(left) != 0 {
		t.Errorf("left without room: %v", left)
	}
}

// unpackable is what no packing makes smaller.
func unpackable(n int) []byte {
	b, x := make([]byte, n), uint64(88172645463325252)
	for i := range b {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		b[i] = byte(x >> 32)
	}
	return b
}

// Before a rung disrupts or destroys, the climb says where the files of people are backed up, or that they are not.
func TestAClimbNamesTheBackupBeforeItDisrupts(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := t.TempDir()
	machine, to := filepath.Join(folder, "kiosk"), filepath.Join(folder, "kiosk.tar.zst")
	s.must(0, "standin", "job", "16", machine)
	var rungs []ladder.Rung
	if err := json.Unmarshal([]byte(s.run("ladder", "--image", machine, "--json").out), &rungs); err != nil {
		t.Fatal(err)
	}
	at := slices.IndexFunc(
		rungs,
		func(r ladder.Rung) bool { return r.Invasive == knowledge.Disrupts && r.By == "diorthos" },
	)
	if at < 0 {
		t.Fatalf("no rung disrupts: %+v", rungs)
	}
	disrupts := func() string {
		r := s.answering("n\n", "climb", "--image", machine, "--only", fmt.Sprint(rungs[at].Number))
		if !strings.Contains(r.out+r.errout, "It restarts something") {
			t.Fatalf("nothing disrupts: %+v", r)
		}
		return r.out + r.errout
	}
	wants(t, disrupts(), "no backup of people's files is known here")
	var report struct{ Files int }
	if err := json.Unmarshal([]byte(s.must(0, "upkeep", "backup", machine, "--to", to, "--json")), &report); err != nil {
		t.Fatal(err)
	}
	if report.Files == 0 {
		t.Error("nothing was taken")
	}
	wants(t, disrupts(), "files of people are backed up", to)
}
