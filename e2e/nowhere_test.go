package e2e

import (
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"diorthos/core/bag"
)

// thrown collects what scripts of the page threw and nobody caught.
func (p *page) thrown() func() []string {
	var mu sync.Mutex
	var list []string
	err := chromedp.Listen(p.ctx, func(event any) {
		if e, ok := event.(*runtime.EventExceptionThrown); ok {
			mu.Lock()
			defer mu.Unlock()
			list = append(list, e.ExceptionDetails.Text+" "+e.ExceptionDetails.Exception.Description)
		}
	})
	if err != nil {
		p.t.Fatal(err)
	}
	return func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string{}, list...)
	}
}

// Whatever stands in the address, the page says what is not there and keeps the way on; and what a machine's name holds
// is text.
func TestConsoleSaysWhatIsNotThere(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	odd := `x<img src=a onerror=alert(1)>"'%2f&#39;`
	s.must(0, "submit", evidence(t, odd, 1, strings.NewReader("x\n")))
	p := openPage(t)
	thrown := p.thrown()
	p.do(chromedp.Navigate(s.url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	p.waitText("1 case")
	if !strings.Contains(p.text(), odd) {
		t.Errorf("the machine's name is not shown as it is:\n%s", p.text())
	}
	p.do(chromedp.Click(`a[href="/cases/1"]`))
	p.waitText(odd)
	p.do(chromedp.Click(`//a[contains(., "onerror")]`))
	within(t, 20*time.Second, "its page", func() bool {
		return p.holds(`location.pathname.startsWith("/machines/")`) && strings.Contains(p.text(), odd)
	})
	pages := []string{"/nothing/at/all", "/help/no-such-page", "/?machine=%00", "/machines?name=%ff",
		"/codes?value=%3Cb%3E"}
	for _, of := range []string{"cases", "cohorts", "waves", "machines"} {
		for _, id := range []string{"0", "-1", "abc", "99999999999999999999", "1e3", "%00", "%25",
			url.PathEscape(odd + "x")} {
			pages = append(pages, "/"+of+"/"+id)
		}
	}
	for _, at := range append(pages, "/machines/nobody/twin") {
		p.do(chromedp.Navigate(s.url + at))
		var said string
		waiting := regexp.MustCompile("Loading|Fetching|Looking for healthy")
		within(t, 20*time.Second, at+" says something", func() bool {
			said = p.text()
			_, below, _ := strings.Cut(said, "Audit") // behind the ways to other pages
			return len(strings.TrimSpace(below)) > 8 && !waiting.MatchString(below)
		})
		for _, bad := range []string{"undefined", "NaN", "[object", "TypeError", "Internal Server Error",
			"validation failed"} {
			if strings.Contains(said, bad) {
				t.Errorf("%s says %q:\n%s", at, bad, said)
			}
		}
		if !p.holds(`document.querySelectorAll("nav a, header a").length > 3`) {
			t.Errorf("%s leaves no way on:\n%s", at, said)
		}
		t.Logf("%-60s %.200q", at, strings.ReplaceAll(said, "\n", " | "))
	}
	if list := thrown(); len(list) > 0 {
		t.Errorf("thrown: %q", list)
	}
}
