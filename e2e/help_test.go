package e2e

import (
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diorthos/core/bag"
)

// readWalk reads the page that an address of the help shows.
func readWalk(address string) (string, error) {
	raw, err := os.ReadFile(filepath.Join("../docs/jobs", path.Base(address)+".md"))
	return string(raw), err
}

// From words on a screen the console leads to a walk through a job like it, and the help lists them all; every walk
// that the table names is there.
func TestTheConsoleLeadsToTheWalks(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	p := openPage(t)
	words := url.QueryEscape(
		"E: Release file for it is expired (invalid since 3d). Updates for this repository will not be applied.",
	)
	p.do(chromedp.Navigate(s.url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	p.waitText("Cases")
	p.show(s.url + "/ask?text=" + words)
	p.waitText("Jobs like this, walked to the proof")
	p.do(chromedp.Click(`//a[contains(., "The installer is too old for today")]`))
	p.waitText("Commands until the cause")
	wants(t, p.text(), "2. The installer is too old for today", "$ diorthos diagnose --image kiosk", "All jobs")
	p.do(chromedp.Click(`//a[contains(., "All jobs")]`))
	p.waitText("Jobs that technicians came with")
	walks := p.strings(`[...document.querySelectorAll('td a')].map(a => a.getAttribute('href'))`)
	if len(walks) < 24 {
		t.Errorf("the table names %d walks", len(walks))
	}
	for _, page := range walks {
		if text, err := readWalk(page); err != nil || !strings.Contains(text, "Commands until the cause") {
			t.Errorf("%s: %v", page, err)
		}
	}
	p.show(s.url + "/help/99")
	p.waitText("There is no such walk.")
}
