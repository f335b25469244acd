package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// biosDisk makes a disk as a BIOS machine has it: an MBR made by sfdisk, an ext4 file
// system, boot code in sector 0, and a loader's core image in the gap behind it.
func biosDisk(t *testing.T) (path string, raw []byte) {
	t.Helper()
	path = filepath.Join(t.TempDir(), "bios.img")
	put(t, path, make([]byte, 64<<20))
	runTool(t, "label: dos\nstart=2048, size=100000, type=83, bootable\n", "sfdisk", "-q", path)
	runTool(t, "", "mke2fs", "-q", "-t", "ext4", "-L", "roota", "-E", "offset=1048576", path, "50000k")
	raw = read(t, path)
	for i := range 440 {
		raw[i] = byte(i*31 + 7)
	}
	for i := 512; i < 41*512; i++ {
		raw[i] = byte(i*17 + i/512)
	}
	put(t, path, raw)
	return path, raw
}

func runTool(t *testing.T, input string, name string, args ...string) string {
	t.Helper()
	c := exec.CommandContext(t.Context(), name, args...)
	c.Stdin = strings.NewReader(input)
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
	return string(out)
}

// What lies beside a table is not written over for the table's sake.
func TestMendingATableKeepsBootCodeAndCoreImage(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	for name, c := range map[string]struct {
		spoil   func(d []byte)
		command []string
		differs []int // where the mended disk may differ from the one that was whole, from and to
	}{
		"the signature": {func(d []byte) { clear(d[510:512]) }, []string{"layout", "mend"}, nil},
		"the table":     {func(d []byte) { clear(d[446:512]) }, []string{"layout", "rescue", "--write"}, []int{446, 510}},
	} {
		path, whole := biosDisk(t)
		broken := bytes.Clone(whole)
		c.spoil(broken)
		put(t, path, broken)
		wants(t, s.must(1, "layout", "check", path), "MBR")
		wants(t, s.must(0, append(c.command, path)...), "proven")
		mended := read(t, path)
		if len(c.differs) > 0 { // the same partition may be written in another way
			copy(mended[c.differs[0]:c.differs[1]], whole[c.differs[0]:])
		}
		if !bytes.Equal(mended, whole) {
			t.Errorf("%s: more was written than was lost", name)
		}
		if list := runTool(t, "", "sfdisk", "-d", path); !strings.Contains(
			list,
			"start=        2048, size=      100000, type=83",
		) {
			t.Errorf("%s: sfdisk reads\n%s", name, list)
		}
	}

	path, whole := biosDisk(t)
	r := s.run("layout", "restyle", "--to", "gpt", path)
	if r.status != 1 || !strings.Contains(r.out+r.errout, "core image") || !bytes.Equal(read(t, path), whole) {
		t.Errorf("a restyle over a core image: status %d, %s%s", r.status, r.out, r.errout)
	}
	if err := os.Truncate(path, 400<<20); err != nil { // room for what UEFI needs
		t.Fatal(err)
	}
	wants(t, s.must(0, "layout", "restyle", "--to", "gpt", "--firmware", "uefi", path), "no longer starts by BIOS")

	gpt := filepath.Join(t.TempDir(), "gpt.img")
	put(t, gpt, make([]byte, 64<<20))
	runTool(t, "", "sgdisk", "-n", "1:2048:100000", gpt)
	raw := read(t, gpt)
	for i := range 440 {
		raw[i] = byte(i*31 + 7)
	}
	whole = bytes.Clone(raw)
	clear(raw[510:512])
	put(t, gpt, raw)
	s.must(0, "layout", "mend", gpt)
	if !bytes.Equal(read(t, gpt), whole) {
		t.Error("sector 0 of a GPT disk lost more than it had lost")
	}
}

// A file system that is larger than its partition reaches to the end of the disk: a
// backup table is not written into it.
func TestABackupTableIsNotWrittenIntoAFileSystem(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	path := filepath.Join(t.TempDir(), "large.img")
	put(t, path, make([]byte, 64<<20))
	runTool(t, "", "sgdisk", "-n", "1:2048:120000", path)
	runTool(t, "", "mke2fs", "-q", "-t", "ext4", "-E", "offset=1048576", path, "64512k")
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteAt(bytes.Repeat([]byte{0xa7}, 33*512), 64<<20-33*512); err != nil { // a file's last blocks
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	before := read(t, path)
	r := s.run("layout", "mend", path)
	if r.status != 1 || !strings.Contains(r.out+r.errout, "would be written into it") {
		t.Errorf("status %d: %s%s", r.status, r.out, r.errout)
	}
	if !bytes.Equal(read(t, path), before) {
		t.Error("it was written all the same")
	}
}

// A disk for UEFI whose tables are all gone, sector 0 too, gets a GPT again: sgdisk finds the partitions where
// they were and nothing to mind, and the file systems are the same to the byte.
func TestATableForUEFIIsWrittenWhereNoneIsLeft(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	path := filepath.Join(t.TempDir(), "uefi.img")
	put(t, path, make([]byte, 128<<20))
	runTool(t, "", "sgdisk", "-n", "1:2048:+40M", "-t", "1:ef00", "-n", "2:0:+60M", "-t", "2:8300", path)
	runTool(t, "", "mkfs.fat", "-F", "32", "-n", "ESP", "--offset", "2048", path, "40960")
	runTool(t, "", "mmd", "-i", path+"@@1M", "::/EFI", "::/EFI/BOOT")
	runTool(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-L", "quay", "-E", "offset=42991616", path, "60M")
	want := runTool(t, "", "sgdisk", "-p", path)
	raw := read(t, path)
	size := len(raw)
	clear(raw[:34*512])
	clear(raw[size-33*512:])
	broken := bytes.Clone(raw)
	put(t, path, raw)
	wants(t, s.must(1, "layout", "check", path), "no partition table")
	wants(t, s.must(0, "layout", "rescue", "--write", path), "proven")
	wants(t, runTool(t, "", "sgdisk", "-v", path), "No problems found")
	got := runTool(t, "", "sgdisk", "-p", path)
	rows := func(text string) string { // number, first and last sector
		var list []string
		for line := range strings.Lines(text) {
			if w := strings.Fields(line); len(w) > 5 && (w[0] == "1" || w[0] == "2") {
				list = append(list, strings.Join(w[:3], " "))
			}
		}
		return strings.Join(list, "\n")
	}
	if rows(got) != rows(want) {
		t.Errorf("sgdisk finds\n%s\nwant\n%s", rows(got), rows(want))
	}
	after := read(t, path)
	if !bytes.Equal(after[34*512:size-33*512], broken[34*512:size-33*512]) {
		t.Error("something between the tables was written")
	}
	wants(t, got, "EF00")
	journals, err := filepath.Glob(filepath.Join(filepath.Dir(path), "*.journal"))
	if err != nil || len(journals) != 1 {
		t.Fatal(journals, err)
	}
	s.must(0, "undo", journals[0])
	if !bytes.Equal(read(t, path), broken) {
		t.Error("the undo is not exact")
	}
}
