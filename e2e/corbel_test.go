package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/ladder"
	"diorthos/core/readiness"
	"diorthos/standin/corbel"
)

// A machine of the stand-in goes the whole way by the binary alone: built,
// broken, tried, gathered, handed in, mended while the console looks on, tried
// again; what was lent is given back.
func TestACorbelMachineIsMendedWhileTheConsoleLooksOn(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := filepath.Join(t.TempDir(), "lerrick-kiosk-1")
	s.must(0, "standin", "build", folder, "--seed", "5", "--name", "lerrick-kiosk-1", "--site", "Lerrick terminal")
	s.must(0, "standin", "break", folder, "loader-gone")
	wants(t, s.must(1, "standin", "try", folder, "start"), "STOPPED at loader", "0x40170002")
	wants(t, s.must(1, "boot", "show", folder), "loader", "▲", "EFI/corbel/keystone.efi")
	packed := folder + ".bag.tar.gz"
	s.must(0, "gather", "--image", folder, "--out", packed)
	s.must(0, "submit", packed)

	p := openPage(t)
	p.do(chromedp.Navigate(s.url+"/machines"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	p.waitText("1 machine")
	p.do(chromedp.Click(`a[href="/machines/lerrick-kiosk-1"]`))
	p.waitText("How it starts")
	wants(
		t, p.text(), "Lerrick terminal", "Component store", "24 components", "courier", "updates depend on it",
		"The loader is missing or damaged",
	)
	p.picture("machine")
	p.do(chromedp.Click(`a[href="/cases/1"]`))
	p.waitText("Write the loader anew")
	p.picture("docket-start")

	wants(
		t, s.must(0, "climb", "1", "--image", folder), "loader as the system has it", "proven",
		"EFI/corbel/keystone.efi",
	)
	p.waitText("loader as the system has it") // the climb has arrived
	wants(t, s.must(0, "standin", "try", folder, "start"), "Corbel is ready")
	wants(t, s.must(0, "boot", "show", folder), "services")
	wants(
		t, s.must(0, "upkeep", "set", "update/policy", "drivers", "refuse", folder), `drivers is "refuse", was "take"`,
		"proven",
	)
	wants(t, s.must(0, "upkeep", "set", "update/policy", "drivers", "refuse", folder), "nothing to do")
	wants(t, s.must(0, "machines", "lerrick-kiosk-1"), "Lerrick terminal", "COMPONENT STORE")

	fit := s.run("media", "fit", "--machine", "lerrick-kiosk-1", "--json", discImage(t))
	var verdicts []readiness.Verdict
	if err := json.Unmarshal([]byte(fit.out), &verdicts); err != nil || len(verdicts) == 0 ||
		!strings.Contains(verdicts[0].Required+verdicts[0].Measured, "uefi") {
		t.Errorf("%+v %v", fit, err)
	}
	wants(t, s.run("media", "fit", "--machine", "nobody-1", discImage(t)).errout, "nobody-1")
}

// Settings are listed, changed, kept aside and brought back; what destroys asks
// for the machine's name.
func TestSettingsAndACleanInstallByCommand(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	folder := filepath.Join(t.TempDir(), "gannet-office-2")
	s.must(0, "standin", "build", folder, "--seed", "11", "--name", "gannet-office-2")
	settings := func(args ...string) string {
		return s.must(0, append([]string{"upkeep", "settings"}, append(args, folder)...)...)
	}
	wants(t, settings("show"), "print/default  system  system:full,admins:full,users:read", "tray         upper")
	wants(t, settings("rename", "print/default", "tray", "drawer"), "tray is called drawer", "proven")
	wants(t, settings("own", "shell/menu", "ines", "ines:full"), "belongs to ines", "proven")
	wants(t, settings("rename", "shell/menu", "", "shell/list"), "branch shell/menu is called shell/list")
	wants(t, settings("show"), "shell/list  ines  ines:full", "drawer       upper", "kept aside: ")
	wants(t, settings("restore", "print/default", ""), "restored", "proven")
	wants(t, settings("show", "--branch", "print/default"), "tray         upper")
	for _, bad := range [][]string{
		{"rename", "print/default", "gone", "new"},
		{"rename", "shell/list", "", "print/default"},
		{"own", "shell/list", "two words", "x"},
		{"restore", "", "1999"},
	} {
		if r := s.run(append([]string{"upkeep", "settings"}, append(bad, folder)...)...); r.status != 1 ||
			!strings.Contains(r.errout, "nothing was changed") {
			t.Errorf("%v: %+v", bad, r)
		}
	}

	pack := filepath.Join(t.TempDir(), "medium.pack")
	v, err := corbel.NewVendor(time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(pack, v.Medium(), 0o600); err != nil {
		t.Fatal(err)
	}
	clean := []string{"upkeep", "do", "install-clean", folder, "--source", pack}
	r := s.run(clean...)
	if r.status != 2 || !strings.Contains(r.errout, "give --confirm gannet-office-2 to go on") {
		t.Errorf("%+v", r)
	}
	wants(t, r.out, "Data will be lost", "partition 2")
	wants(
		t, s.must(0, append(clean, "--confirm", "gannet-office-2")...), "system volume made anew",
		"components of build 7210 laid out anew", "proven",
	)
	wants(t, s.must(0, "standin", "try", folder, "start"), "Corbel is ready")
	wants(t, s.must(0, "standin", "try", folder, "update"), "done")
	wants(t, settings("show"), "shell/menu  system")
}

// What a person says that they did is looked for in the facts.
func TestWhatHandsDidIsMeasured(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := filepath.Join(t.TempDir(), "fulmar-bridge-1")
	s.must(0, "standin", "build", folder, "--seed", "8", "--name", "fulmar-bridge-1", "--mode", "bios")
	s.must(0, "standin", "break", folder, "external-disk-first")
	s.must(1, "standin", "try", folder, "install")
	packed := folder + ".bag.tar.gz"
	s.must(0, "gather", "--image", folder, "--out", packed)
	s.must(0, "submit", packed)
	climb := []string{"climb", "1", "--image", folder, "--hands", "--only", "1"}

	wants(
		t, s.answering("y\nn\nn\n", climb...).out, "Unplug every external disk", "measured: it is not so yet",
		"Does the failed thing work now?",
	)
	wants(t, s.must(0, "case", "1"), "measured: it is not so", "not helped")
	wants(t, s.must(0, "standin", "hands", folder, "unplug-external-disks"), "done")
	wants(t, s.answering("y\ny\n", climb...).out, "measured: it is so")
	wants(t, s.must(0, "case", "1"), "proven")
	wants(t, s.must(0, "standin", "try", folder, "install"), "done")
	wants(t, s.run("standin", "hands", folder, "kick-it").errout, "standin hands --list")
}

// A clock that is lent for an attempt is given back after it, by the climb
// that lent it or, if nobody answered, by the next.
func TestALentClockIsGivenBack(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := filepath.Join(t.TempDir(), "petrel-crew-1")
	s.must(0, "standin", "build", folder, "--seed", "6", "--name", "petrel-crew-1")
	s.must(0, "standin", "break", folder, "signature-expired")
	s.must(1, "standin", "try", folder, "update")
	packed := folder + ".bag.tar.gz"
	s.must(0, "gather", "--image", folder, "--out", packed)
	s.must(0, "submit", packed)
	// Nobody is there: it is given back at once, or when the window for the
	// attempt is over.
	wants(
		t, s.answering("", "climb", "1", "--image", folder).out, "the clock says",
		"given back: clock and network are as they were",
	)
	s.must(1, "standin", "try", folder, "update")
	wants(t, s.answering("n\n", "climb", "1", "--image", folder, "--only", "1").out, "the clock says", "It stays borrowed")
	wants(t, s.must(0, "ladder", "1", "--image", folder), "borrowed by rung 1 and not given back")
	wants(t, s.must(0, "standin", "try", folder, "update"), "done")
	s.answering("y\n", "climb", "1", "--image", folder, "--dry-run", "--only", "1") // a dry run gives nothing back
	wants(
		t, s.answering("y\n", "climb", "1", "--image", folder, "--only", "1").out, "From an earlier climb, not given back",
		"given back: clock and network are as they were",
	)
	var rungs []ladder.Rung
	if err := json.Unmarshal([]byte(s.must(0, "ladder", "1", "--image", folder, "--json")), &rungs); err != nil ||
		len(rungs) == 0 {
		t.Errorf("%+v %v", rungs, err)
	}
	if out := s.must(0, "ladder", "1", "--image", folder); strings.Contains(out, "borrowed") {
		t.Errorf("still borrowed:\n%s", out)
	}
	page, err := s.client().Machines(t.Context(), client.MachineQuery{State: client.Open, Limit: 10})
	if err != nil || page.Total != 1 || page.Machines[0].Name != "petrel-crew-1" {
		t.Errorf("%+v %v", page, err)
	}
}
