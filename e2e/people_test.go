package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diorthos/client"
	"diorthos/core/bag"
)

// Who administers makes a person and gives a token at the console or by command; the person
// does what the role covers, and the audit says so. Others are shown neither page.
func TestPeopleAreLetInAndTheAuditSaysSo(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	wants(t, s.must(0, "people", "set", "Sanna Lund", "--role", "see", "--site", "Lerrick"), "Sanna Lund", "see, Lerrick")
	token := strings.TrimSpace(s.must(0, "people", "token", "Sanna Lund", "--name", "laptop", "--days", "30"))
	looks := &stage{t: t, url: s.url, token: token}
	if r := looks.run("people"); r.status != 2 || !strings.Contains(r.errout, `this is for the role "administer"`) {
		t.Errorf("one who may look lists people: %d %s", r.status, r.errout)
	}
	wants(t, looks.must(0, "cases"), "No cases")

	p := openPage(t)
	p.do(chromedp.Navigate(s.url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	p.waitText("0 cases")
	s.must(0, "submit", evidence(t, "tern-1", int64(len(fullVolume)), strings.NewReader(fullVolume)))
	for address, link := range map[string]string{
		"/cases/1": "The bag as it was handed in", "/machines/tern-1": "Everything that is kept of tern-1, its bags too",
		"/people": "Everything that is kept of Sanna Lund",
	} {
		p.do(chromedp.Navigate(s.url + address))
		p.waitText(link)
		for i, a := range p.strings(`[...document.querySelectorAll('a[download]')].map((a) => a.href)`) {
			if size := p.number(`fetch("` + a + `").then((r) => r.ok ? r.blob() : new Blob()).then((b) => b.size)`); size < 200 {
				t.Errorf("link %d of %s, %s, gives %v bytes", i, address, a, size)
			}
		}
	}
	saved := filepath.Join(t.TempDir(), "sanna.tar.gz")
	wants(
		t,
		s.must(0, "people", "export", "Sanna Lund", saved),
		"everything that is kept of Sanna Lund; verified",
		"1 tokens",
	)
	if r := s.run("people", "export", "Sanna Lund", saved); r.status != 2 ||
		!strings.Contains(r.errout, "is there already") {
		t.Errorf("status %d: %s", r.status, r.errout)
	}
	wants(t, s.must(0, "machines", "tern-1", "--export", saved+".machine"), "1 bags", "1 cases")
	p.do(chromedp.Navigate(s.url+"/people"), chromedp.WaitVisible(`input[aria-label="Name"]`),
		chromedp.SendKeys(`input[aria-label="Name"]`, "Joren Vik\r"))
	p.waitText("Joren Vik")
	p.do(chromedp.SendKeys(`input[aria-label="What a token of Joren Vik is for"]`, "desk\r"))
	p.waitText("shown once: dt-")
	p.do(chromedp.Click(`button[aria-label="End token 2"]`))
	p.waitText("ended 20")
	if _, err := client.New(s.url, token).Cases(t.Context(), client.CaseQuery{}); err == nil {
		t.Error("a token that was ended at the console lets somebody in")
	}
	p.do(chromedp.Navigate(s.url + "/audit"))
	p.waitText("end-token")
	p.waitText("refused")
	p.do(chromedp.Click(`//button[contains(., "Hold every entry")]`))
	p.waitText("each follows from the one before it")

	wants(t, s.must(0, "audit"), "end-token", "list-people", "refused", "Sanna Lund")
	wants(t, s.must(0, "audit", "verify"), "each follows from the one before it")
	if lines := strings.Count(s.must(0, "audit", "export"), "\n"); lines < 6 {
		t.Errorf("%d lines were exported", lines)
	}
	wants(t, s.must(0, "people", "end", "Joren Vik"), "ended")
	if r := s.run("people", "end", "Ragna Holm"); r.status != 2 || !strings.Contains(r.errout, "nobody would be left") {
		t.Errorf("the last who administers: %d %s", r.status, r.errout)
	}
}
