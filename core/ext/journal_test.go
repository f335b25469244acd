package ext_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/ext"
)

// mem is a volume in memory.
type mem []byte

func (m mem) ReadAt(p []byte, off int64) (int, error)  { return bytes.NewReader(m).ReadAt(p, off) }
func (m mem) WriteAt(p []byte, off int64) (int, error) { return copy(m[off:], p), nil }

func tool(t *testing.T, stdin string, command ...string) string {
	t.Helper()
	c := exec.CommandContext(t.Context(), command[0], command[1:]...)
	c.Stdin = strings.NewReader(stdin)
	out, err := c.CombinedOutput()
	if code, ok := err.(*exec.ExitError); err != nil && (!ok || code.ExitCode() > 1) { // e2fsck: 1 is "mended"
		t.Fatalf("%v: %v: %s", command, err, out)
	}
	return string(out)
}

// A volume that was not closed is read as e2fsck leaves it after it has replayed the journal, and is
// replayed to the same bytes: with every form of checksum, a transaction that was not finished, a block
// that holds the journal's own mark, and one whose changes were revoked.
func TestAJournalIsReplayedAsE2fsckDoes(t *testing.T) {
	for name, features := range map[string]string{
		"checksums, 64 bits": "metadata_csum,64bit", "checksums": "metadata_csum,^64bit", "plain": "^metadata_csum,^64bit",
	} {
		dir := t.TempDir()
		image, files := filepath.Join(dir, "image"), filepath.Join(dir, "files")
		block := func(text string) []byte { return append([]byte(text), bytes.Repeat([]byte("."), 1024-len(text))...) }
		for _, f := range []string{"one", "two", "three", "four"} {
			save(t, filepath.Join(files, f), block("old "+f))
		}
		tool(t, "", "mke2fs", "-q", "-t", "ext4", "-b", "1024", "-J", "size=4", "-O", features, "-d", files, image, "24M")
		at := map[string]string{}
		for _, f := range []string{"one", "two", "three", "four"} {
			at[f] = strings.TrimSpace(strings.Split(tool(t, "", "debugfs", "-R", "bmap "+f+" 0", image), "\n")[1])
		}
		script := "jo -c\n"
		if strings.HasPrefix(features, "^") {
			script = "jo\n"
		}
		write := func(f string, content []byte) string {
			path := filepath.Join(dir, fmt.Sprintf("new-%s-%d", f, len(script)))
			save(t, path, content)
			return "jw -b " + at[f] + " " + path + "\n"
		}
		script += write("one", block("new one"))
		script += write("two", append([]byte{0xc0, 0x3b, 0x39, 0x98}, block("marked")[:1020]...))
		script += write("three", block("revoked later"))
		script += "jw -r " + at["three"] + "\n"
		script += write("one", block("newer one"))
		script += "jc\n"
		tool(t, "", "debugfs", "-w", "-f", put(t, filepath.Join(dir, "script"), script), image)
		broken := load(t, image)
		volume, err := ext.Open(bytes.NewReader(broken))
		if err != nil {
			t.Fatal(err)
		}
		if !volume.NeedsRecovery() || volume.Unreplayed() != nil {
			t.Fatalf("%s: to be replayed %v: %v", name, volume.NeedsRecovery(), volume.Unreplayed())
		}
		mended := mem(bytes.Clone(broken))
		if n, err := ext.Replay(mended); err != nil || n != 2 {
			t.Fatalf("%s: %d blocks, %v", name, n, err)
		}
		ours := filepath.Join(dir, "ours")
		save(t, ours, mended)
		if said := tool(t, "", "e2fsck", "-fn", ours); strings.Contains(said, "recover") || strings.Contains(said, "Fix?") {
			t.Errorf("%s: e2fsck says of what was replayed: %s", name, said)
		}
		tool(t, "", "e2fsck", "-fy", image)
		theirs, err := ext.Open(bytes.NewReader(load(t, image)))
		if err != nil {
			t.Fatal(err)
		}
		after, err := ext.Open(mended)
		if err != nil || after.NeedsRecovery() {
			t.Fatalf("%s: still to be replayed: %v", name, err)
		}
		for f := range at {
			want, err := fs.ReadFile(theirs, f)
			if err != nil {
				t.Fatal(err)
			}
			for how, v := range map[string]fs.FS{"before": volume, "after": after} {
				if got, err := fs.ReadFile(v, f); err != nil || !bytes.Equal(got, want) {
					t.Errorf("%s: %s, %s it was replayed: %.20q, want %.20q (%v)", name, f, how, got, want, err)
				}
			}
		}
		if n, err := ext.Replay(mended); n != 0 || err != nil {
			t.Errorf("%s: replayed twice: %d, %v", name, n, err)
		}
	}
}

// A last transaction without its commit does not count, and what is damaged is not replayed.
func TestWhatWasNotCommittedDoesNotCount(t *testing.T) {
	dir := t.TempDir()
	image := filepath.Join(dir, "image")
	save(t, filepath.Join(dir, "files/one"), bytes.Repeat([]byte("old "), 256))
	save(t, filepath.Join(dir, "new"), bytes.Repeat([]byte("new "), 256))
	tool(
		t,
		"",
		"mke2fs",
		"-q",
		"-t",
		"ext4",
		"-b",
		"1024",
		"-J",
		"size=4",
		"-d",
		filepath.Join(dir, "files"),
		image,
		"24M",
	)
	at := strings.TrimSpace(strings.Split(tool(t, "", "debugfs", "-R", "bmap one 0", image), "\n")[1])
	script := "jo -c\njw -b " + at + " " + filepath.Join(dir, "new") + "\njc\n"
	tool(t, "", "debugfs", "-w", "-f", put(t, filepath.Join(dir, "script"), script), image)
	raw := load(t, image)
	commit := bytes.LastIndex(raw, []byte{0xc0, 0x3b, 0x39, 0x98, 0, 0, 0, 2})
	if commit < 0 {
		t.Fatal("no commit was written")
	}
	raw[commit+16] ^= 1 // its checksum
	volume, err := ext.Open(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := fs.ReadFile(volume, "one"); err != nil || !strings.HasPrefix(string(got), "old ") {
		t.Errorf("read %.20q, %v", got, err)
	}
}

func save(t *testing.T, path string, data []byte) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
}

func put(t *testing.T, path, text string) string {
	save(t, path, []byte(text))
	return path
}

func load(t *testing.T, path string) []byte {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// A journal of any bytes is read as far as it goes, and never replayed beyond the volume.
func FuzzReplay(f *testing.F) {
	dir := f.TempDir()
	image, content := filepath.Join(dir, "image"), filepath.Join(dir, "new")
	script := filepath.Join(dir, "script")
	if err := os.WriteFile(content, bytes.Repeat([]byte("new "), 256), 0o644); err != nil {
		f.Fatal(err)
	}
	if err := os.WriteFile(script, []byte("jo -c\njw -b 600 "+content+"\njw -r 700\njc\n"), 0o644); err != nil {
		f.Fatal(err)
	}
	for _, command := range [][]string{
		{"mke2fs", "-q", "-t", "ext4", "-b", "1024", "-J", "size=1", "-N", "16", image, "4M"},
		{"debugfs", "-w", "-f", script, image},
	} {
		if out, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil {
			f.Fatalf("%v: %v: %s", command, err, out)
		}
	}
	raw, err := os.ReadFile(image)
	if err != nil {
		f.Fatal(err)
	}
	at := bytes.Index(raw, []byte{0xc0, 0x3b, 0x39, 0x98})
	if at < 0 {
		f.Fatal("it has no journal")
	}
	f.Add(raw[at : at+8*1024])
	f.Fuzz(func(t *testing.T, journal []byte) {
		disk := mem(bytes.Clone(raw))
		copy(disk[at:], journal)
		if _, err := ext.Replay(disk); err != nil {
			return
		}
		if len(disk) != len(raw) {
			t.Error("the volume has another size")
		}
		if v, err := ext.Open(disk); err == nil {
			_, _ = fs.ReadDir(v, ".") // what it holds may be anything
		}
	})
}
