package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diorthos/core/bag"
)

// From a message read aloud to its causes, the question that tells most and what to do:
// at the command line, and on the console's page.
func TestWordsFromAScreenLeadOn(t *testing.T) {
	alone := &stage{t: t, url: "http://127.0.0.1:1"} // nobody answers there
	wants(t, alone.must(0, "ask", "colonel panic not sinking unable to mount route"),
		"Unable to mount root fs", "the kernel", "has no early-boot image", "update-initramfs")
	wants(t, alone.must(0, "ask", "40170002"), "The loader is missing or damaged")
	wants(t, alone.must(0, "ask", "no space left on device"), "Which volume is full?")
	wants(t, alone.must(0, "ask", "--answer", "free-space=1", "no space left on device"),
		"Which volume is full? /boot has no room", "Make room on the boot volume")
	if r := alone.run("ask", "the ferry leaves at seven"); r.status != 1 || !strings.Contains(r.out, "no message") {
		t.Errorf("status %d: %s", r.status, r.out)
	}
	for _, wrong := range [][]string{
		{"ask", ""}, {"ask", "--when", "noon", "x"}, {"ask", "--answer", "free-space=9", "no space left"},
		{"ask", "--family", "tarn", "x"}, {"ask", "--answer", "nothing=1", "no space left"},
	} {
		if r := alone.run(wrong...); r.status != 2 || strings.Count(r.errout, "\n") != 1 {
			t.Errorf("%v: status %d: %s", wrong, r.status, r.errout)
		}
	}

	s := newStage(t, bag.DefaultLimits)
	p := openPage(t)
	p.do(
		chromedp.Navigate(s.url+"/ask"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"),
		chromedp.WaitVisible("#words"), chromedp.SendKeys("#words", "it says no spase left on devise\r"),
	)
	p.waitText("Look at this first")
	wants(t, p.text(), "No space left on device", "A volume is full", "Which volume is full?")
	p.picture("ask")
	p.do(chromedp.Click(`section[aria-label="Look at this first"] button`))
	p.waitText("forget these answers")
	wants(t, p.text(), "The boot volume is full", "9")
	p.do(
		chromedp.SendKeys(`section[aria-label="Keep it as a case"] input`, "lerrick-kiosk-7"),
		chromedp.WaitEnabled(`section[aria-label="Keep it as a case"] button`),
		chromedp.Click(`section[aria-label="Keep it as a case"] button`),
	)
	p.waitText("What was told")
	wants(t, p.text(), "lerrick-kiosk-7", "it says no spase left on devise", "No evidence was handed in yet", "What to do")
	wants(t, s.must(0, "ask", "--open-case", "gannet-1", "no space left on device"), "of gannet-1 begins with these words")
	p.do(chromedp.Navigate(s.url+"/ask?text=the+ferry+leaves"), chromedp.WaitVisible("#words"))
	p.waitText("No message and no cause is known")
}
