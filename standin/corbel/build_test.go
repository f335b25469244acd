package corbel_test

import (
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"diorthos/standin/corbel"
)

var now = time.Date(2026, 11, 22, 8, 0, 0, 0, time.UTC)

func vendor(t *testing.T) (*corbel.Vendor, corbel.Link) {
	t.Helper()
	v, err := corbel.NewVendor(now)
	if err != nil {
		t.Fatal(err)
	}
	s := httptest.NewServer(v)
	t.Cleanup(s.Close)
	return v, corbel.Link{Base: s.URL, Client: http.DefaultClient}
}

// TestHealthyMachinesStartAndUpdate builds machines of both firmwares. Tools
// that are not ours must find their tables and volumes sound, before and after.
func TestHealthyMachinesStartAndUpdate(t *testing.T) {
	v, link := vendor(t)
	for _, mode := range []string{"uefi", "bios"} {
		t.Run(mode, func(t *testing.T) {
			m, err := corbel.Build(t.Context(), filepath.Join(t.TempDir(), "m"), corbel.Options{
				Seed:   3,
				Mode:   mode,
				Name:   "kestrel-office-7",
				Now:    now,
				Vendor: v,
				Link:   link,
			})
			if err != nil {
				t.Fatal(err)
			}
			files, err := m.UserFiles()
			if err != nil || len(files) < 5 {
				t.Fatalf("%d files of users: %v", len(files), err)
			}
			for _, step := range []func() (*corbel.Outcome, error){
				func() (*corbel.Outcome, error) { return m.Start(now) },
				func() (*corbel.Outcome, error) {
					return m.Attempt(t.Context(), corbel.Request{Offer: corbel.OfferUpdate, At: now, Link: link})
				},
				func() (*corbel.Outcome, error) { return m.Start(now) },
			} {
				out, err := step()
				if err != nil || !out.OK {
					t.Fatalf("%+v %v", out, err)
				}
				sound(t, m)
			}
		})
	}
}

func sound(t *testing.T, m *corbel.Machine) {
	t.Helper()
	if out, err := exec.Command("sfdisk", "--verify", m.Disk()).CombinedOutput(); err != nil {
		t.Fatalf("sfdisk: %v\n%s", err, out)
	}
	for _, at := range []string{"1", "35", "79"} {
		part := filepath.Join(t.TempDir(), "part")
		if out, err := exec.Command("dd", "if="+m.Disk(), "of="+part, "bs=1M", "skip="+at, "count="+map[string]string{
			"1":  "34",
			"35": "44",
			"79": "8",
		}[at], "conv=sparse").CombinedOutput(); err != nil {
			t.Fatalf("dd: %v\n%s", err, out)
		}
		if out, err := exec.Command("fsck.fat", "-n", part).CombinedOutput(); err != nil {
			t.Fatalf("volume at %s MiB: %v\n%s", at, err, out)
		}
	}
}
