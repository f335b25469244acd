package e2e

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/jackc/pgx/v5"

	"diorthos/core/bag"
	"diorthos/standin/fleet"
)

// A page is a tab of a headless Chromium with a profile of its own.
type page struct {
	t   *testing.T
	ctx context.Context
}

func openPage(t *testing.T) *page {
	t.Helper()
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.Headless,
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("no-first-run", true), chromedp.Flag("disable-sync", true), chromedp.UserDataDir(t.TempDir()),
		chromedp.WindowSize(1280, 800),
	)
	alloc, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(cancel)
	p := &page{t, ctx}
	if err := chromedp.Do(ctx); err != nil { // the browser lives as long as this context
		t.Fatal(err)
	}
	p.do(chromedp.EmulateViewport(1280, 800))
	return p
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, time.Minute) // what is not there is waited for so long
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		p.t.Fatal(err)
	}
}

func (p *page) text() string {
	p.t.Helper()
	text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil {
		p.t.Fatal(err)
	}
	return text
}

func (p *page) holds(script string) bool {
	p.t.Helper()
	yes, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](script))
	if err != nil {
		p.t.Fatal(err)
	}
	return yes
}

// strings are what a script gives, a list of them.
func (p *page) strings(script string) []string {
	p.t.Helper()
	list, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]string](script))
	if err != nil {
		p.t.Fatal(err)
	}
	return list
}

// number is what a script gives in the end.
func (p *page) number(script string) float64 {
	p.t.Helper()
	n, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](script, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatal(err)
	}
	return n
}

func (p *page) waitText(text string) {
	p.t.Helper()
	defer func() {
		if p.t.Failed() {
			p.t.Logf("the page says:\n%s", p.text())
		}
	}()
	within(p.t, time.Minute, "the page says "+text, func() bool { return strings.Contains(p.text(), text) })
}

// press clicks the button that says a text.
func (p *page) press(text string) {
	p.t.Helper()
	p.do(chromedp.Click(`//button[normalize-space()="` + text + `"]`))
}

// picture keeps what the page shows, if DIORTHOS_SCREENSHOTS names a folder.
func (p *page) picture(name string) {
	p.t.Helper()
	folder := os.Getenv("DIORTHOS_SCREENSHOTS")
	if folder == "" {
		return
	}
	png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err == nil {
		err = os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644)
	}
	if err != nil {
		p.t.Fatal(err)
	}
}

func TestConsoleShowsACaseLiveWhileItIsReadAndClimbed(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	image := copyImage(t)
	packed := filepath.Join(t.TempDir(), "kestrel.bag.tar.gz")
	s.must(0, "gather", "--image", image, "--site", "MV Kestrel", "--model", "Havnar D4 desktop", "--out", packed)
	p := openPage(t)
	p.do(chromedp.Navigate(s.url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", "not-a-known-token\r"))
	p.waitText("this token is not known here")
	p.do(
		chromedp.Evaluate[chromedp.Void](`document.getElementById("token").value = ""`),
		chromedp.SendKeys("#token", s.token+
			"\r"),
	)
	p.waitText("No cases yet")
	p.do(chromedp.Evaluate[chromedp.Void]("window.stayed = true"))

	s.must(0, "submit", packed)
	for _, m := range fleet.Machines[1:] {
		other := filepath.Join(t.TempDir(), m.Name+".img")
		if err := m.Make(t.Context(), other); err != nil {
			t.Fatal(err)
		}
		s.must(0, "gather", "--image", other, "--site", m.Site, "--model", m.Model, "--out", other+".tar.gz")
		s.must(0, "submit", other+".tar.gz")
	}
	p.waitText("Nothing wrong was found")
	p.waitText("The primary GPT is damaged")
	p.do(chromedp.Click(`a[href="/cases/1"]`))
	p.waitText("Where it broke")
	p.picture("docket")
	wants(
		t, p.text(), "kestrel-office-3", "MV Kestrel", "zstd: error 70", "term.log line 66", "The boot volume is full",
		"1572863",
		"Write the primary GPT anew from its backup", "undoable", "not taken", "The sheet to print",
	)
	if !p.holds(`document.querySelector('svg [data-state="damaged"]') !== null`) {
		t.Error("the damaged copy of the table is not marked on the disk")
	}

	p.do(chromedp.Focus(`[role="slider"]`), chromedp.KeyEvent("+"), chromedp.KeyEvent(kb.ArrowRight))
	p.waitText("E: mkinitramfs failure zstd -q -9 -T0 70")
	p.picture("timeline")

	p.do(chromedp.Click(`section[aria-label="Where it broke"] blockquote button`))
	p.waitText("update-initramfs: Generating /boot/initrd.img-6.1.0-56-cloud-amd64")
	if !p.holds(`document.querySelector('[aria-current="true"]').innerText.includes("zstd: error 70")`) {
		t.Error("the log does not open at the decisive line")
	}
	p.picture("log")

	s.must(0, "climb", "1", "--image", image)
	p.waitText("both copies agree")
	wants(t, p.text(), "proven", "protective MBR")
	if !p.holds("window.stayed === true") {
		t.Error("the page was loaded anew; it should have followed by itself")
	}
	p.do(
		chromedp.Evaluate[chromedp.Void](`document.querySelector('section[aria-label="What to do"]').scrollIntoView()`),
		chromedp.Sleep(300*time.Millisecond),
	)
	p.picture("ladder")

	p.do(
		chromedp.Evaluate[chromedp.Void](`document.querySelector('section[aria-label="Fit for"]').scrollIntoView()`),
		chromedp.Sleep(300*time.Millisecond),
	)
	wants(
		t, p.text(), "Debian 13 (trixie)", "not: Disk of the system: 768.0 MiB",
		"linux-image-6.1.0-56-cloud-amd64 half-configured", "not measured",
	)
	p.picture("fit")

	p.do(chromedp.Navigate(s.url+"/codes"), chromedp.WaitVisible(`input[aria-label="Code or sentence"]`),
		chromedp.SendKeys(`input[aria-label="Code or sentence"]`, "set-up ended with 0x8007007O\r"))
	p.waitText("Perhaps meant")
	wants(t, p.text(), "0x80070070", "there is not enough room on the disk", "letters stand for digits")
}

// While the service is away the docket stays on the screen and says that it is not
// live; it comes back by itself. Who is signed out meanwhile is asked to sign in.
func TestConsoleKeepsTheDocketWhileTheServiceIsAway(t *testing.T) {
	s := prepare(t)
	serving := s.serveProcess()
	packed := evidence(t, "tern-1", int64(len(fullVolume)), strings.NewReader(fullVolume))
	s.must(0, "submit", packed)
	p := openPage(t)
	p.do(chromedp.Navigate(s.url+"/cases/1"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	p.waitText("A volume is full")
	if err := serving.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = serving.Wait()
	p.waitText("not live")
	p.do(
		chromedp.Sleep(5*time.Second), // what was fetched counts as fresh for so long
		chromedp.Evaluate[chromedp.Void](`window.dispatchEvent(new Event("visibilitychange"))`),
	)
	p.waitText("this is as it was fetched before") // asked again in vain, who is signed in too
	p.do(chromedp.Sleep(3 * time.Second))
	wants(t, p.text(), "A volume is full", "Where it broke")
	s.serveProcess()
	within(t, time.Minute, "the page is live again", func() bool { return !strings.Contains(p.text(), "not live") })
	wants(t, p.text(), "A volume is full")
	p.do(
		chromedp.Click(`header button`), chromedp.WaitVisible("#note"), chromedp.SendKeys("#note", "made room on /var"),
		chromedp.Click(`form button[type="submit"].bg-accent`),
	)
	p.waitText("✓ closed by Ragna Holm: made room on /var")
	wants(t, s.must(0, "case", "1"), "✓ closed", "Ragna Holm made room on /var")
	wants(t, s.must(0, "case", "1", "--reopen", "--note", "it fills again"), "● open", "it fills again")
	p.waitText("open again by Ragna Holm: it fills again")
	conn, err := pgx.Connect(t.Context(), s.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close(context.Background()) }()
	if _, err := conn.Exec(t.Context(), "delete from sessions"); err != nil {
		t.Fatal(err)
	}
	p.do(chromedp.Navigate(s.url+"/machines"), chromedp.WaitVisible("#token"))
	if strings.Contains(p.text(), "tern-1") {
		t.Error("who is signed out still sees the machines")
	}
}

// A page whose first fetch was answered before a change, and came after it was told,
// fetches again: nothing stale stays on the screen.
func TestConsoleShowsWhatChangedWhileItWasFetching(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	s.must(0, "submit", evidence(t, "tern-1", int64(len(fullVolume)), strings.NewReader(fullVolume)))
	service, err := url.Parse(s.url)
	if err != nil {
		t.Fatal(err)
	}
	cases := []struct{ page, path, to, says string }{
		{"/cases/1", "/api/v1/cases/1", "--close", "✓ closed by Ragna Holm: as it should be"},
		{"/", "/api/v1/cases", "--reopen", "●open"},
	}
	answered, held := make(chan string, 8), map[string]chan struct{}{}
	for _, c := range cases {
		held[c.path] = make(chan struct{})
	}
	slow := httputil.NewSingleHostReverseProxy(service)
	slow.FlushInterval = -1 // each event at once
	slow.ModifyResponse = func(r *http.Response) error {
		let := held[r.Request.URL.Path]
		if let == nil || r.StatusCode != http.StatusOK {
			return nil
		}
		raw, err := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(raw))
		answered <- r.Request.URL.Path
		<-let
		return err
	}
	front := httptest.NewServer(slow)
	t.Cleanup(front.Close)
	p := openPage(t)
	p.do(
		chromedp.Navigate(front.URL+cases[0].page),
		chromedp.WaitVisible("#token"),
		chromedp.SendKeys("#token", s.token+"\r"),
	)
	for i, c := range cases {
		if i > 0 {
			p.do(chromedp.Navigate(front.URL + c.page))
		}
		for path := ""; path != c.path; path = <-answered { // the page before asks too
		}
		s.must(0, "case", "1", c.to, "--note", "as it should be")
		time.Sleep(time.Second) // the page is told, and has nothing yet
		close(held[c.path])
		p.waitText(c.says)
	}
}

const fullVolume = "Log started: 2026-11-01  07:10:00\n" +
	"Unpacking skerrow-crew (2.0) over (1.0) ...\n" +
	"dpkg: error processing archive /var/cache/apt/archives/skerrow-crew_2.0_amd64.deb (--unpack):\n" +
	" cannot copy extracted data for './usr/share/crew/tides' to '/usr/share/crew/tides.dpkg-new': " +
	"failed to write (No space left on device)\n" +
	"Errors were encountered while processing:\n" +
	" /var/cache/apt/archives/skerrow-crew_2.0_amd64.deb\n" +
	"Log ended: 2026-11-01  07:10:09\n"

func TestConsoleIsUsedByKeyboardAndSaysWhatIsMissing(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	for i, name := range []string{"tern-1", "skua-2", "tern-3"} {
		s.must(0, "submit", evidence(t, name, int64(5+i), strings.NewReader(strings.Repeat("x\n", 10))))
	}
	p := openPage(t)
	p.do(chromedp.Navigate(s.url+"/cases/9"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	p.waitText("there is no case 9") // where one wanted to go before signing in
	p.do(chromedp.Navigate(s.url + "/nowhere"))
	p.waitText("There is no such page.")
	p.do(chromedp.Navigate(s.url))
	p.waitText("3 cases")
	p.do(chromedp.SendKeys(`input[aria-label="Machine"]`, "skua"))
	p.waitText("1 case")
	if text := p.text(); strings.Contains(text, "tern-1") {
		t.Errorf("the filter lets others through:\n%s", text)
	}
	p.do(chromedp.SendKeys(`input[aria-label="Machine"]`, "-of-no-name"))
	p.waitText("No case fits.")
	p.do(chromedp.Navigate(s.url))
	p.waitText("tern-3")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('a[href="/cases/2"]').focus()`), chromedp.KeyEvent("\r"))
	p.waitText("Nothing wrong was found in what was looked at")
	wants(t, p.text(), "skua-2", "No attempt stands in these logs.")
	if n := p.holds(`document.querySelectorAll('[style*="url("], script:not([src])').length === 0`); !n {
		t.Error("the page holds what its policy forbids")
	}
}

// show opens an address.
func (p *page) show(address string) {
	p.t.Helper()
	p.do(chromedp.Navigate(address), chromedp.Sleep(500*time.Millisecond))
}
