package e2e

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/bag"
)

// handCase is a case whose first rung is for a person, borrows something and
// owes nothing: a script was killed when memory ran out.
func handCase(t *testing.T, s *stage, folder string) {
	t.Helper()
	packed := filepath.Join(t.TempDir(), "tern.bag.tar.gz")
	image := filepath.Join(folder, "tern.img")
	if err := os.WriteFile(image, make([]byte, 4<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	s.must(
		0, "gather", "--image", image, "--machine", "tern-laptop-1", "--logs", "../standin/debian/captured/script-killed",
		"--out", packed,
	)
	s.must(0, "submit", packed)
}

func TestAPersonIsLedThroughTheRungsAndNothingBorrowedIsForgotten(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := t.TempDir()
	handCase(t, s, folder)
	image := filepath.Join(folder, "tern.img")
	wants(t, s.must(0, "ladder", "1", "--image", image), "Free memory, or add swap for the attempt", "→ ")
	wants(t, s.must(0, "climb", "1", "--image", image, "--hands", "--dry-run"), "□ ")

	// The steps go well, the failed thing still fails, and the swap stays.
	r := s.answering("y\nn\nn\n", "climb", "1", "--image", image, "--hands", "--only", "1")
	if r.status != 0 {
		t.Fatalf("%+v", r)
	}
	wants(t, r.out, "Does the failed thing work now?", "borrowed by rung 1: swap for the attempt", "stays on the record")
	wants(t, s.must(0, "case", "1"), "not helped")
	wants(t, s.must(0, "ladder", "1", "--image", image), "not given back: swap for the attempt")

	// Nobody answers: nothing is taken for granted.
	if r := s.answering("", "climb", "1", "--image", image, "--hands", "--only", "1"); r.status != 1 ||
		!strings.Contains(r.errout, "nobody answered") {
		t.Errorf("%+v", r)
	}
	// Cut short in the middle: what is borrowed is asked for all the same.
	if r := s.answering("n\n", "climb", "1", "--image", image, "--hands", "--only", "1"); r.status != 1 ||
		strings.Count(r.out, "Given back?") != 2 {
		t.Errorf("%+v", r)
	}
	// The next climb asks for the loan first; then the rung helps.
	r = s.answering(strings.Repeat("y\n", 4), "climb", "1", "--image", image, "--hands", "--only", "1")
	wants(t, r.out, "From an earlier climb, not given back", "The failed thing works again")
	wants(t, s.must(0, "case", "1"), "proven")
	if out := s.must(0, "ladder", "1", "--image", image); strings.Contains(out, "not given back") {
		t.Errorf("it was given back:\n%s", out)
	}
	wants(t, s.run("climb", "1", "--image", image, "--only", "99").errout, "no rung 99")
}

func TestTheSheetIsExactForTheMachine(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	image := copyImage(t)
	packed := filepath.Join(t.TempDir(), "kestrel.bag.tar.gz")
	s.must(0, "gather", "--image", image, "--out", packed)
	s.must(0, "submit", packed)
	folder := t.TempDir()
	s.must(0, "ladder", "1", "--sheet", folder)
	for _, name := range []string{"case-1-kestrel-office-3.md", "case-1-kestrel-office-3.html"} {
		raw, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		wants(
			t, string(raw), "kestrel-office-3", "zstd: error 70", "disk 0c921feb-119f-4abf-99c7-8854c89ced36", "133120",
			"72.0 MiB (75.5 MB)", "diorthos climb 1 --only 1 --image DISK", "If these differ, it is another disk: stop",
		)
	}
	if p := os.Getenv("DIORTHOS_SCREENSHOTS"); p != "" {
		files := httptest.NewServer(http.FileServer(http.Dir(folder)))
		defer files.Close()
		sheet := openPage(t)
		sheet.show(files.URL + "/case-1-kestrel-office-3.html")
		sheet.picture("sheet")
	}
}
