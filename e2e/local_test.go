package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"diorthos/client"
)

// From the evidence to the proof without a service: a machine that does not start is
// diagnosed, mended and started; what was found and done is handed in afterwards. A
// mend that did not help speaks against its cause the next time.
func TestEverythingGoesWithoutAService(t *testing.T) {
	machine := filepath.Join(t.TempDir(), "kiosk")
	alone := &stage{t: t, url: "http://127.0.0.1:1"} // nobody answers there
	alone.must(0, "standin", "build", machine, "--seed", "5", "--name", "kestrel-kiosk-9")
	alone.must(0, "standin", "break", machine, "loader-gone", "--seed", "3")
	alone.must(1, "standin", "try", machine, "start")

	wants(t, alone.must(1, "diagnose", "--image", machine),
		"The loader is missing or damaged", "not handed in", "Write the loader anew")
	wants(t, alone.must(0, "ladder", "--image", machine), "Write the loader anew")
	wants(t, alone.must(0, "climb", "--image", machine), "proven", "look anew: diorthos diagnose --image")
	wants(t, alone.must(1, "diagnose", "--image", machine), "Mended, and not started since", "start it, and look")
	alone.must(0, "standin", "try", machine, "start")
	wants(t, alone.must(0, "diagnose", "--image", machine), "nothing wrong was found in:", "lists: ", "store: ")

	alone.must(0, "standin", "break", machine, "loader-gone", "--seed", "3")
	alone.must(1, "standin", "try", machine, "start")
	wants(t, alone.must(1, "diagnose", "--image", machine),
		"it fails all the", "did not help", "if none of this helps", "reinstall, keeping the files")
	wants(t, alone.must(0, "ladder", "--image", machine), "Reinstall, keeping the files of the users")

	s := prepare(t)
	s.serveProcess()
	box := filepath.Join(machine, "kestrel-kiosk-9.outbox")
	wants(t, s.must(0, "submit", box), "taken in as case 1", "1 rung of its ladder told", "taken in as case 4")
	wants(t, s.must(0, "submit", box), "handed in before")
	c, err := s.client().Case(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if len(c.Climbs) != 1 || c.State != client.Open || c.Proven != 1 {
		t.Errorf("case 1 is %s, proven %d, with %d climbs", c.State, c.Proven, len(c.Climbs))
	}

	bag := filepath.Join(box, "1.bag.tar.gz")
	if a, b := alone.must(1, "diagnose", "--json", bag), alone.must(1, "diagnose", "--json", bag); a != b {
		t.Error("the same bag gives two dockets")
	}
	for _, wrong := range [][]string{{"diagnose"}, {"diagnose", bag, "--live"}, {"diagnose", machine + "/nothing"}} {
		if r := alone.run(wrong...); r.status != 2 || strings.Count(r.errout, "\n") != 1 {
			t.Errorf("%v: status %d: %s", wrong, r.status, r.errout)
		}
	}
}
