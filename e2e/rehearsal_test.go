package e2e

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/climb"
)

// A rung that was refused because the machine would not start shows what its screen said, at the service and on the
// terminal; one without a bound is not taken.
func TestTheScreenOfARehearsalIsShown(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	packed := filepath.Join(t.TempDir(), "kestrel.bag.tar.gz")
	s.must(0, "gather", "--image", copyImage(t), "--machine", "kestrel-office-3", "--out", packed)
	s.must(0, "submit", packed)
	until(t, "the case to be read", func() bool { return s.state(1) == client.Open })
	run := func(screen ...string) error {
		started, err := s.client().StartClimb(t.Context(), 1, client.ClimbStart{Host: "rescue", Rung: 1})
		if err != nil {
			t.Fatal(err)
		}
		_, err = s.client().ReportClimb(t.Context(), started.ID, client.ClimbReport{State: client.Ended, Run: &climb.Run{
			Rung: 1, Remedy: "build-the-loader-menu", Outcome: climb.Refused, Began: time.Now(), Took: time.Minute,
			Guard: []action.Check{{
				What: "the machine starts, tried on a copy of what would stand there",
				Saw:  "the kernel gives up, after 21s", Screen: screen,
			}},
			Proof: []action.Check{}, Planned: []climb.Planned{},
		}})
		return err
	}
	if err := run(make([]string, 2001)...); err == nil {
		t.Error("a screen without a bound was taken")
	}
	if err := run("[    1.8] VFS: Cannot open root device", "[    1.9] Kernel panic - not syncing"); err != nil {
		t.Fatal(err)
	}
	wants(t, s.must(0, "case", "1"), "the kernel gives up", "│ [    1.9] Kernel panic - not syncing")
	desk := openPage(t)
	desk.do(chromedp.Navigate(s.url+"/cases/1"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	desk.waitText("what its screen showed last")
	desk.waitText("VFS: Cannot open root device")
	desk.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("details pre").scrollIntoView({block: "center"})`))
	desk.picture("rehearsal")
}
