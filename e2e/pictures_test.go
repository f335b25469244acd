//go:build pictures

package e2e

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestPicturesOfTheDemo takes pictures of a demo that is served elsewhere.
func TestPicturesOfTheDemo(t *testing.T) {
	url, token := os.Getenv("DIORTHOS_URL"), os.Getenv("DIORTHOS_TOKEN")
	p := openPage(t)
	p.do(chromedp.Navigate(url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", token+"\r"))
	p.waitText("57 cases")
	p.picture("cases")
	p.do(chromedp.Navigate(url + "/cohorts"))
	p.waitText("6 machines") // the outbreak above every page
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("aside a").click()`))
	p.waitText("What they share")
	p.waitText("Havnar K1 kiosk")
	p.picture("cohort")
}
