package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/client"
	"diorthos/core/bag"
)

const captured = "../standin/debian/captured/full-boot-volume"

// The walk-through of the README, by the binary, with sgdisk as the witness.
func TestStory(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	image := copyImage(t)
	packed := filepath.Join(t.TempDir(), "kestrel.bag.tar.gz")

	before, _ := exec.Command("sgdisk", "--verify", image).CombinedOutput()
	wants(t, string(before), "Main header: ERROR", "Backup header: OK")
	wants(t, s.must(1, "layout", "check", image), "gpt-signature-missing", "LBA 1", "kernel", "protective entry is gone")
	wants(
		t, s.must(0, "layout", "show", image), "primary GPT ▲ damaged", "backup GPT ✓ sound",
		"system: Debian GNU/Linux 12", "boot at /boot", "fat32",
	)

	wants(
		t, s.must(0, "gather", "--image", image, "--logs", captured, "--out", packed), "kestrel-office-3", "3 partitions",
	)
	if !same(t, image, pristine) {
		t.Fatal("gathering changed the image")
	}
	wants(t, s.must(0, "submit", packed), "kestrel-office-3 taken in as case 1")
	wants(t, s.must(0, "submit", packed), "was handed in before as case 1")
	saved := filepath.Join(t.TempDir(), "again.tar.gz")
	wants(t, s.must(0, "case", "1", "--save-bag", saved), saved, "of kestrel-office-3", "verified")
	if !same(t, saved, packed) {
		t.Error("the bag that is given back is another than was handed in")
	}
	wants(t, s.run("case", "1", "--save-bag", saved).errout, "is there already")
	wants(
		t, s.must(0, "case", "1"),
		"WHAT WAS TRIED", "update failed", "dist-upgrade",
		"linux-image-6.1.0-56-cloud-amd64:amd64 half-configured",
		"WHERE IT BROKE", "logs/apt/term.log line 66",
		"zstd: error 70",
		"The primary GPT is damaged; its backup is intact",
		"backup GPT at LBA 1572863 is sound: header CRC 0x", "LBA 1: no header",
		"The boot volume is full",
		"No space left on device", "9.0 MiB free of 72.0 MiB",
		"1  Write the primary GPT anew from its backup  undoable",
		"2  Make room on the boot volume", "3  Finish what the update left",
	)

	wants(
		t, s.must(0, "climb", "1", "--image", image, "--dry-run"), "planned, nothing changed",
		"primary GPT header (512 bytes) at byte 512",
	)
	if !same(t, image, pristine) {
		t.Fatal("a dry run changed the image")
	}
	wants(t, s.must(0, "climb", "1", "--image", image), "proven", "both copies agree", "diorthos undo")
	after, err := exec.Command("sgdisk", "--verify", image).CombinedOutput()
	if err != nil {
		t.Fatal(err)
	}
	wants(t, string(after), "No problems found")
	list, _ := exec.Command("sgdisk", "--print", image).CombinedOutput()
	wants(t, string(list), "64.0 MiB    EF00  ESP", "72.0 MiB    8300  boot", "630.0 MiB   8304  system")
	wants(t, s.must(0, "case", "1"), "✓ proven", "CLIMBS", "Ragna Holm", "s in 1 earlier climb")
	wants(t, s.must(0, "cases"), "1 of 3")

	// Again: the guard says no. The programs that the other rungs need are not on this disk.
	wants(t, s.must(0, "climb", "1", "--rung", "1", "--image", image), "nothing to do", "nothing to mend")
	wants(
		t, s.run("climb", "1", "--image", image).errout,
		"rung 2: guard refused (it can be done here)", "nothing was changed", "give --yes to go on",
	)

	journals, err := filepath.Glob(filepath.Join(filepath.Dir(image), "*.journal"))
	if err != nil || len(journals) != 1 {
		t.Fatalf("journals: %v, %v", journals, err)
	}
	wants(t, s.must(0, "undo", "--dry-run", journals[0]), "nothing was changed (dry run)")
	wants(t, s.must(0, "undo", journals[0]), "every byte is as it was")
	if !same(t, image, pristine) {
		t.Error("after the undo the image is not what it was, byte for byte")
	}
	wants(t, s.must(0, "undo", journals[0]), "it was taken back before")
	wants(t, s.must(0, "case", "1"), "taken back")
	wants(t, s.must(0, "cases"), "0 of 3")
}

func TestLocalCommandsNeedNoService(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	wants(t, s.must(1, "read", captured), "update failed", "zstd: error 70", "The boot volume is full", "apt-term")
	wants(t, s.must(0, "read", "--why-not", "term.log:86", captured), "came after line 66")
	wants(t, s.must(0, "read", "--why-not", "term.log:66", captured), "it is the decisive event")
	wants(t, s.must(0, "read", "--why-not", "term.log:57", captured), "not looked at closely")
	wants(t, s.must(0, "knowledge", "check", "../knowledge"), "is in order")
	wants(t, s.must(0, "knowledge", "try", "boot-volume-full", captured), "term.log line 66", "mkinitramfs failure")
	s.must(1, "knowledge", "try", "file-in-two-packages", captured)
	wants(t, s.must(0, "code", "28"), "ENOSPC", "No space left on device")
	wants(t, s.must(0, "code", "0x80070070"), "facility", "system error number", "112")
	wants(t, s.must(1, "code", "0x8007007O"), "Perhaps meant", "0x80070070", "letters stand for digits")
	wants(t, s.must(0, "code", "eight double oh seven double oh seven oh"), "there is not enough room on the disk")
	wants(t, s.must(0, "code", "sd 2:0:0:0: Sense Key 3/11/04"), "medium error")

	var d struct {
		Broke struct {
			Decisive struct{ Line int }
		}
	}
	out := s.must(1, "read", "--json", captured)
	if err := json.Unmarshal([]byte(out), &d); err != nil || d.Broke.Decisive.Line != 66 {
		t.Errorf("%v: %+v", err, d)
	}
	term, err := os.ReadFile(filepath.Join(captured, "apt/term.log"))
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(binary, "read", "-")
	cmd.Stdin = bytes.NewReader(term)
	if r := finish(t, cmd); r.status != 1 || !strings.Contains(r.out, "standard input line 66") {
		t.Errorf("standard input: %d %s%s", r.status, r.out, r.errout)
	}
}

func TestMistakesAreSaidInOneLine(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	dir := t.TempDir()
	text := filepath.Join(dir, "notes.bag.tar.gz")
	if err := os.WriteFile(text, []byte("not a bag at all"), 0o600); err != nil {
		t.Fatal(err)
	}
	stranger := *s
	stranger.token = "nobody-knows-this"
	alone := *s
	alone.url = "http://127.0.0.1:1"
	for _, c := range []struct {
		stage *stage
		args  []string
		want  string
	}{
		{s, []string{"case", "77"}, "there is no case 77"},
		{s, []string{"case"}, "NUMBER is missing"},
		{s, []string{"code", "hello there"}, "holds no code"},
		{s, []string{"case", "seven"}, "is not the number of a case"},
		{s, []string{"submit", text}, "not a bag"},
		{s, []string{"submit", filepath.Join(dir, "nowhere")}, "no such file"},
		{s, []string{"climb", "77", "--image", pristine}, "there is no case 77"},
		{s, []string{"undo", text}, "is not a journal"},
		{s, []string{"gather", "--image", pristine, "--out", filepath.Join(dir, "bag.zip")}, "ends in .tar.gz or .tar.zst"},
		{s, []string{"gather", "--image", dir, "--out", filepath.Join(dir, "b.tar.gz")}, "is a folder"},
		{s, []string{"layout", "check", text}, "at least 3 sectors"},
		{s, []string{"layout", "chekc", text}, `there is no "chekc" here`},
		{s, []string{"fix"}, `there is no command "fix"`},
		{s, []string{"cases", "--limit", "900"}, "limit"},
		{s, []string{"cases", "--colour"}, "--help"},
		{&stranger, []string{"cases"}, "sign in first"},
		{&alone, []string{"cases"}, "is the service running?"},
	} {
		r := c.stage.run(c.args...)
		if r.status != 2 || strings.Count(r.errout, "\n") != 1 || !strings.Contains(r.errout, c.want) || r.out != "" {
			t.Errorf(
				"diorthos %s: status %d\n%s%s\nwant one line with %q",
				strings.Join(c.args, " "), r.status, r.out, r.errout, c.want,
			)
		}
	}
	if list, err := s.client().Cases(t.Context(), client.CaseQuery{Limit: 5}); err != nil || list.Total != 0 {
		t.Errorf("after all that: %+v, %v", list, err)
	}
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	s := &stage{t: t}
	for _, args := range []string{
		"read", "code", "gather", "layout show", "layout check", "submit", "cases", "case", "climb", "undo",
		"knowledge check", "knowledge try", "knowledge infer", "serve", "serve token", "demo", "ask", "backup", "restore",
		"doctor", "people", "audit", "diagnose", "ladder", "boot show", "store check", "upkeep show", "media inspect",
	} {
		wants(t, s.must(0, append(strings.Fields(args), "--help")...), "Example")
	}
}
