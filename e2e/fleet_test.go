package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diorthos/client"
	"diorthos/core/bag"
)

// Six machines at three sites lose their loader on one day, and others are well. One outbreak is
// raised; the cause is found in what they share; the repair that helped once goes round in waves,
// carried out by their agents, and is taken back again. A machine that was mended by hand is
// left out, an agent that is cut off in the middle does nothing twice.
func TestARepairGoesRoundInWaves(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := t.TempDir()
	sites := []string{"Lerrick terminal", "Tarvoe terminal", "MV Kestrel"}
	hand := func(name string) {
		packed := filepath.Join(t.TempDir(), name+".bag.tar.gz")
		s.must(0, "gather", "--image", filepath.Join(folder, name), "--out", packed)
		s.must(0, "submit", packed)
	}
	for i := range 8 {
		name := fmt.Sprintf("kiosk-%d", i)
		s.must(0, "standin", "build", filepath.Join(folder, name), "--seed", fmt.Sprint(40+i), "--name", name,
			"--site", sites[i%3])
		if i < 6 {
			s.must(0, "standin", "break", filepath.Join(folder, name), "loader-gone")
		}
		s.run("standin", "try", filepath.Join(folder, name), "start")
		hand(name)
	}
	wants(t, s.must(1, "outbreaks"), "The loader is missing or damaged", "goes on")
	wants(t, s.must(0, "outbreaks", "1", "--hold", "Corbel 7.2"), "is held back", "0 agents")
	wants(t, s.must(0, "outbreaks", "1", "--lift"), "no longer held back")
	wants(t, s.must(0, "cohorts"), "6", "outbreak")
	page := &walker{stage: s, began: time.Now(), folder: folder, medium: "\x00", walk: walk{
		number: 19, title: "Job 7 again, on twelve machines at four sites",
		said: "It is the same thing on the others now. Must I drive to all of them?",
	}}
	fmt.Fprintf(
		&page.page,
		"# 19. %s\n\n> %s\n\nHere on six machines at three sites that lost their loader.\n",
		page.title,
		page.said,
	)
	page.does(1, "", "outbreaks")
	page.does(0, "", "cohorts", "1")
	page.cause = page.commands
	r := s.run("waves", "--offer", "put-loader-back", "--cohort", "1")
	if r.status != 2 || !strings.Contains(r.errout, "proven on no machine") {
		t.Errorf("a repair that was never proven: %+v", r)
	}
	first := s.client()
	d, err := first.Case(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if d.Cohort == nil || d.Cohort.Machines != 6 {
		t.Fatalf("the case's cohort: %+v", d.Cohort)
	}
	s.must(0, "climb", "1", "--image", filepath.Join(folder, d.Machine))
	remedy := d.Docket.ToDo[0].Remedy
	wants(t, s.must(0, "cohorts", "1"), "proven on 1, failed on 0", "Lerrick terminal 2")

	time.Sleep(1100 * time.Millisecond) // gathered in the same second, a bag is the same bag
	agents := exec.CommandContext(t.Context(), binary, "agent", "many", folder)
	agents.Env = append(os.Environ(), "DIORTHOS_URL="+s.url, "DIORTHOS_TOKEN="+s.token)
	if err := agents.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = agents.Process.Kill(), agents.Wait() }()
	until(t, "eight agents", func() bool {
		list, err := first.Agents(t.Context())
		return err == nil && len(list) == 8 && list[7].Seen != nil
	})
	until(t, "what they handed in at first to be read", func() bool {
		page, err := first.Cases(t.Context(), client.CaseQuery{Limit: 50})
		read := 0
		for _, c := range page.Cases {
			if c.State != client.Received && c.State != client.Reading {
				read++
			}
		}
		return err == nil && read == 16 && len(page.Cases) == 16
	})
	s.must(0, "outbreaks", "1", "--hold", "Corbel 7.2 update of November")
	held := func(n int) func() bool {
		return func() bool {
			list, err := first.Outbreaks(t.Context())
			return err == nil && list[0].HeldOn == n
		}
	}
	until(t, "the agents to hold it back", held(8))
	well := filepath.Join(folder, "kiosk-7")
	wants(
		t,
		s.must(1, "standin", "try", well, "update"),
		"Corbel 7.2 update of November may not be begun: policy holds it back",
	)
	hand("kiosk-7")
	wants(t, s.must(1, "diagnose", "--image", well), "The update is held back on purpose", "Wait until the hold is lifted")
	s.must(0, "outbreaks", "1", "--lift")
	s.must(0, "outbreaks", "1", "--hold", "Corbel 7.2 update of Novembre")
	until(t, "the slip to be told", func() bool {
		list, err := first.Outbreaks(t.Context())
		return err == nil && list[0].HeldOn == 0 && len(list[0].HoldProblems) == 8
	})
	wants(
		t,
		s.must(1, "outbreaks"),
		"8 machines do not hold Corbel 7.2 update of Novembre back: nothing that this machine has",
	)
	s.must(0, "outbreaks", "1", "--lift")
	until(t, "the agents to let it go", func() bool { return s.run("standin", "try", well, "update").status == 0 })
	preview := page.does(0, "", "waves", "--offer", remedy, "--cohort", "1", "--preview")
	page.tells("It is begun, by a button of the console here, and the agents of the machines carry it out.")
	wants(t, preview, "a preview: nothing was begun", "kiosk-5")
	for line := range strings.Lines(preview) {
		if strings.Contains(line, d.Machine+" ") && !strings.Contains(line, "left out") {
			t.Errorf("one that is mended is offered it again: %s", line)
		}
	}
	desk := openPage(t)
	desk.do(chromedp.Navigate(s.url+"/agents"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	desk.waitText("kiosk-7")
	desk.do(chromedp.SendKeys(`input[aria-label="Machine"]`, "kiosk-99\r"))
	desk.waitText("diorthos agent enrol --url")
	desk.do(chromedp.Navigate(s.url + "/waves"))
	desk.waitText("None yet.")
	desk.waitText("no site has a rule")
	desk.do(chromedp.Navigate(s.url + "/cohorts/1"))
	desk.waitText("Offer it to the others")
	desk.press("Offer it to the others…")
	desk.waitText("Nothing is begun yet.")
	wants(t, desk.text(), "Wave 1", "Wave 2", "Left out", d.Machine)
	desk.press("Begin with the first wave")
	desk.waitText("So far")
	again := s.run("waves", "--offer", remedy, "--cohort", "1")
	if again.status != 2 || !strings.Contains(again.errout, "goes on already") {
		t.Errorf("a second one of the same cohort: %+v", again)
	}
	rollout := func() client.Rollout {
		t.Helper()
		r := s.run("waves", "1", "--json")
		var out client.Rollout
		if err := json.Unmarshal([]byte(r.out), &out); err != nil {
			t.Fatalf("%v: %+v", err, r)
		}
		return out
	}
	until(t, "the first machine", func() bool { return rollout().Tally.Proven > 0 })
	desk.waitText(" proven")
	desk.picture("waves")
	// Every agent is cut off in the middle, and goes on.
	_, _ = agents.Process.Kill(), agents.Wait()
	agents = exec.CommandContext(t.Context(), binary, "agent", "many", folder)
	agents.Env = append(os.Environ(), "DIORTHOS_URL="+s.url, "DIORTHOS_TOKEN="+s.token)
	if err := agents.Start(); err != nil {
		t.Fatal(err)
	}
	until(t, "all five", func() bool { return rollout().State == "done" })
	desk.waitText("5 proven")
	desk.waitText("Take back")
	wants(t, desk.text(), "done", "Lerrick terminal", "5 proven")
	if r := rollout(); r.Tally.Proven != 5 || r.Tally.Failed+r.Tally.Lost != 0 {
		t.Errorf("the roll-out: %+v", r.Tally)
	}
	for i := range 6 {
		wants(t, s.must(0, "standin", "try", filepath.Join(folder, fmt.Sprintf("kiosk-%d", i)), "start"), "Corbel is ready")
	}
	page.does(0, "", "waves", "1")
	page.closes(os.Getenv("DIORTHOS_JOBS"), "19.md", "Corbel")
	audit := s.must(0, "audit", "--limit", "500")
	if n := strings.Count(audit, "offer "); n < 1 {
		t.Errorf("the audit does not tell who offered it:\n%s", audit)
	}
	wants(t, s.must(0, "knowledge", "learned", "--freeze"), "Frozen since", remedy, "6 of 6")
	wants(t, s.must(0, "knowledge", "learned", "--reset"), "is forgotten", "No remedy has been tried yet")
	if r := s.run("knowledge", "learned", "--freeze", "--thaw"); r.status != 2 ||
		!strings.Contains(r.errout, "want one of") {
		t.Errorf("both at once: %+v", r)
	}
	wants(t, s.must(0, "agent", "unit"), "ExecStart="+binary+" agent run --live", "Nice=")
	desk.press("Take back")
	until(t, "taken back", func() bool { return rollout().State == "taken back" })
	if r := rollout(); r.Tally.TakenBack != 5 {
		t.Errorf("taken back: %+v", r.Tally)
	}
	desk.waitText("5 taken back")
}

func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(90 * time.Second); time.Now().Before(end); time.Sleep(300 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatalf("%s: not in a minute and a half", what)
}
