package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A journal that lost its end, or one of whose bits differs, is never "nothing to take
// back": it is refused with what is known, and what can still be read is brought back.
func TestADamagedJournalIsToldAndBroughtBackAsFarAsKnown(t *testing.T) {
	machine := filepath.Join(t.TempDir(), "kiosk")
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	s.must(0, "standin", "build", machine, "--seed", "7", "--name", "kestrel-kiosk-7")
	s.must(0, "standin", "break", machine, "loader-gone", "--seed", "3")
	image := filepath.Join(machine, "disk.img")
	was := read(t, image)
	s.must(0, "climb", "--image", machine)
	mended := read(t, image)
	journals, err := filepath.Glob(filepath.Join(machine, "*.journal"))
	if err != nil || len(journals) != 1 || bytes.Equal(was, mended) {
		t.Fatalf("journals %v, %v", journals, err)
	}
	journal := read(t, journals[0])

	put(t, journals[0], journal[:len(journal)/3])
	r := s.run("undo", journals[0])
	if r.status != 1 || !strings.Contains(r.errout, "lost its end") ||
		!strings.Contains(r.errout, "--as-far-as-known would bring back") {
		t.Errorf("status %d: %s", r.status, r.errout)
	}
	if got := read(t, journals[0]); !bytes.Equal(got, journal[:len(journal)/3]) || !bytes.Equal(read(t, image), mended) {
		t.Error("the refused undo wrote something")
	}

	journal[len(journal)/2] ^= 1
	put(t, journals[0], journal)
	r = s.run("undo", journals[0])
	if r.status != 1 || !strings.Contains(r.errout, "journal is damaged") {
		t.Errorf("status %d: %s", r.status, r.errout)
	}
	wants(
		t,
		s.must(1, "undo", journals[0], "--as-far-as-known", "--dry-run"),
		"would be brought back; nothing was changed",
	)
	wants(
		t,
		s.must(1, "undo", journals[0], "--as-far-as-known"),
		"brought back; undo that with",
		"that it noted cannot be read",
	)
	own, err := filepath.Glob(journals[0] + ".back-*.journal")
	if err != nil || len(own) != 1 {
		t.Fatal(own, err)
	}
	if part := read(t, image); bytes.Equal(part, mended) || bytes.Equal(part, was) {
		t.Error("want all but the lost place brought back")
	}
	s.must(0, "undo", own[0])
	if !bytes.Equal(read(t, image), mended) {
		t.Error("what was brought back cannot be undone")
	}
}

func read(t *testing.T, name string) []byte {
	t.Helper()
	raw, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func put(t testing.TB, name string, data []byte) {
	t.Helper()
	if err := os.WriteFile(name, data, 0o600); err != nil {
		t.Fatal(err)
	}
}
