package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// An image made for discs, with a file that UEFI would start.
func discImage(t *testing.T) string {
	t.Helper()
	tree := t.TempDir()
	for name, text := range map[string]string{
		".disk/info":           "Debian GNU/Linux 13.1.0 \"Trixie\" - Official amd64 NETINST\n",
		"EFI/BOOT/BOOTX64.EFI": "MZ the loader",
		"pool/skerrow berth planner with a long name.deb": strings.Repeat("p", 90_000),
	} {
		path := filepath.Join(tree, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	image := filepath.Join(t.TempDir(), "netinst.iso")
	if out, err := exec.Command(
		"xorriso", "-as", "mkisofs", "-quiet", "-R", "-V", "NETINST", "-o", image, tree,
	).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return image
}

func TestAnInstallMediumIsJudgedAndWritten(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	image := discImage(t)
	raw, err := os.ReadFile(image)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(raw)
	sums := filepath.Join(t.TempDir(), "SHA256SUMS")
	if err := os.WriteFile(sums, []byte(hex.EncodeToString(sum[:])+"  netinst.iso\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	wants(
		t, s.must(0, "media", "inspect", "--sums", sums, image), "Debian GNU/Linux 13.1.0", "amd64",
		"files on FAT, uefi: EFI/BOOT", "checksum   right",
	)
	if err := os.WriteFile(sums, []byte(strings.Repeat("0", 64)+" *netinst.iso\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	wants(t, s.must(1, "media", "inspect", "--sums", sums, image), "differs")
	wants(t, s.must(0, "media", "fit", "--firmware", "uefi", image), "fit", "files on FAT")
	wants(t, s.must(1, "media", "fit", "--firmware", "bios", image), "unfit", "start the machine by UEFI")

	stick := filepath.Join(t.TempDir(), "stick.img")
	if err := os.WriteFile(stick, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(stick, 80<<20); err != nil {
		t.Fatal(err)
	}
	wants(
		t, s.must(0, "media", "write", "--dry-run", "--to", stick, "--firmware", "uefi", image),
		"GPT with one FAT32 partition",
	)
	wants(
		t, s.must(0, "media", "write", "--to", stick, "--firmware", "uefi", image), "what was read back is what was written",
	)
	for name, args := range map[string][]string{
		"sgdisk": {"--verify", stick},
		"mtype":  {"-i", stick + "@@1M", "::EFI/BOOT/BOOTX64.EFI"},
	} {
		if out, err := exec.Command(name, args...).CombinedOutput(); err != nil ||
			name == "mtype" && string(out) != "MZ the loader" {
			t.Errorf("%s: %v: %s", name, err, out)
		}
	}
	before := filepath.Join(t.TempDir(), "before.img")
	if out, err := exec.Command("cp", "--sparse=always", stick, before).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	again := []string{"media", "write", "--to", stick, "--firmware", "uefi", image}
	wants(t, s.run(again...).errout, "give --confirm stick.img")
	journal := filepath.Join(t.TempDir(), "stick.journal")
	wants(
		t, s.must(0, append(again, "--confirm", "stick.img", "--journal", journal)...), "Data will be lost", "partition 1",
		"diorthos undo",
	)
	if same(t, stick, before) {
		t.Error("the stick, with new GUIDs, is the one from before")
	}
	wants(t, s.must(0, "undo", journal), "every byte is as it was")
	if !same(t, stick, before) {
		t.Error("what was on the stick did not come back")
	}
	wants(t, s.must(0, append(again, "--confirm", "stick.img", "--no-undo", "--json")...), `"way": "files on FAT"`)
	wants(t, s.must(0, "media", "inspect", stick), "uefi: EFI/BOOT")
}

// A journal that finds no room stops a change before anything is written. The
// file size that a process may write is bounded, as a full disk bounds it.
func TestAFullDiskUnderTheJournalChangesNothing(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	dir := t.TempDir()
	disk, before := filepath.Join(dir, "disk.img"), filepath.Join(dir, "before.img")
	for _, line := range [][]string{
		{"truncate", "-s", "64M", disk}, {"sgdisk", "-n1:2048:+16M", "-t1:8300", disk},
		{"dd", "if=/dev/urandom", "of=" + disk, "bs=512", "seek=1", "count=33", "conv=notrunc"}, {"cp", disk, before},
	} {
		if out, err := exec.Command(line[0], line[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", line, err, out)
		}
	}
	small := exec.Command(
		"bash", "-c", `ulimit -f 8; exec "$0" "$@"`, binary, "layout", "mend", disk, "--journal", filepath.Join(dir, "j"),
	)
	if r := finish(t, small); r.status != 2 ||
		!strings.Contains(r.errout, "nothing was changed: give the journal a place") {
		t.Errorf("%+v", r)
	}
	if !same(t, disk, before) {
		t.Error("the disk was written to without a journal")
	}
	wants(t, s.must(0, "undo", filepath.Join(dir, "j")), "nothing to take back")
	wants(t, s.must(0, "layout", "mend", disk, "--journal", filepath.Join(dir, "j2")), "done and proven")
}

// Tables are changed through a journal; what would be lost is said before.
func TestTablesAreChangedThroughAJournal(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	dir := t.TempDir()
	disk := filepath.Join(dir, "old.img")
	if err := os.WriteFile(disk, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(disk, 600<<20); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("sfdisk", "--quiet", disk)
	cmd.Stdin = strings.NewReader("label: dos\n2048,204800,83,*\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if out, err := exec.Command(
		"mke2fs", "-q", "-F", "-t", "ext4", "-d", "../knowledge", "-E", "offset=1048576", disk, "100m",
	).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	before := filepath.Join(dir, "before.img")
	if out, err := exec.Command("cp", "--sparse=always", disk, before).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	wants(t, s.must(1, "layout", "check", "--firmware", "uefi", disk), "style-against-firmware", "affects firmware (UEFI)")
	wants(
		t, s.must(0, "layout", "restyle", "--to", "gpt", "--firmware", "uefi", disk), "EFI system, 260.0 MiB",
		"done and proven",
	)
	if out, err := exec.Command("sgdisk", "--verify", disk).CombinedOutput(); err != nil ||
		!strings.Contains(string(out), "No problems found") {
		t.Errorf("%v: %s", err, out)
	}
	if out, err := exec.Command(
		"cmp", "--ignore-initial=1048576", "--bytes=104857600", disk, before,
	).CombinedOutput(); err != nil {
		t.Errorf("the partition changed: %v: %s", err, out)
	}
	if out, err := exec.Command("e2fsck", "-fn", disk+"?offset=1048576").CombinedOutput(); err != nil {
		t.Errorf("e2fsck: %v: %s", err, out)
	}
	journals, err := filepath.Glob(filepath.Join(dir, "*.journal"))
	if err != nil || len(journals) != 1 {
		t.Fatal(journals, err)
	}
	s.must(0, "undo", journals[0])
	if !same(t, disk, before) {
		t.Error("the undo did not bring every byte back")
	}
	plan := filepath.Join(dir, "plan.yaml")
	if err := os.WriteFile(plan, []byte("partitions:\n"+
		"  - {name: ESP, type: EFI system, min: 64 MiB, format: fat32}\n"+
		"  - {name: system, type: Linux data, min: 100 MiB, share: 1}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	wants(t, s.run("layout", "carve", plan, disk).errout, "give --confirm old.img")
	if !same(t, disk, before) {
		t.Error("a refused plan changed the disk")
	}
	wants(t, s.must(0, "layout", "carve", "--confirm", "old.img", plan, disk), "before", "after", "done and proven")
	wants(t, s.must(0, "layout", "rescue", before), "ext4", "Linux data")
	wants(t, s.must(0, "layout", "rescue", disk), "fat32", "EFI system")
	wants(t, s.must(0, "layout", "restyle", "--to", "gpt", disk), "nothing to do", "gpt already")
	wants(t, s.must(0, "layout", "mend", disk), "nothing to mend")
	wants(t, s.run("layout", "restyle", "--to", "mbr", "--wipe", disk).errout, "give --confirm old.img")
}

// A disc is copied to an image that has every byte of what it was burned from, and nothing of what a drive shows behind
// it; one that ends early, and what is none, leave no image.
func TestADiscIsCopiedToAnImage(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	folder := t.TempDir()
	plain := discImage(t)
	hybrid := filepath.Join(folder, "hybrid.iso") // with a GPT, and a partition behind the disc's own files
	esp := filepath.Join(folder, "esp.img")
	tool(t, "mkfs.fat", "-C", esp, "1440")
	tree := filepath.Join(folder, "tree")
	if err := os.MkdirAll(tree, 0o755); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(tree, "readme"), []byte("to be installed"))
	tool(t, "xorriso", "-as", "mkisofs", "-quiet", "-R", "-V", "HYBRID", "-partition_offset", "16",
		"-append_partition", "2", "0xef", esp, "-appended_part_as_gpt", "-o", hybrid, tree)
	for _, burned := range []string{plain, hybrid} {
		disc, to := burned+".disc", filepath.Join(folder, filepath.Base(burned)+".copy")
		tool(t, "cp", burned, disc)
		tool(t, "truncate", "-s", "+614400", disc) // as drives do
		wants(t, s.must(0, "media", "copy", disc, "--to", to), "read twice and the same", "sha256 ")
		if !same(t, burned, to) {
			t.Errorf("%s is not what was burned", to)
		}
	}
	if r := s.run("media", "copy", plain, "--to", filepath.Join(folder, "hybrid.iso")); r.status != 2 ||
		!strings.Contains(r.errout, "is there already") {
		t.Errorf("over one that is there: %+v", r)
	}
	tool(t, "truncate", "-s", "-65536", plain)
	for disc, want := range map[string]string{plain: "cut off", filepath.Join(tree, "readme"): "not an install image"} {
		to := filepath.Join(folder, "none.iso")
		if r := s.run("media", "copy", disc, "--to", to); r.status != 2 || !strings.Contains(r.errout, want) {
			t.Errorf("%s: %+v", disc, r)
		}
		if left, _ := filepath.Glob(to + "*"); len(left) > 0 {
			t.Errorf("left: %v", left)
		}
	}
}
