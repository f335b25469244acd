package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"

	"diorthos/client"
	"diorthos/core/bag"
)

// said is what a process has written so far.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// stick runs what a colleague runs on a machine that was started from a stick. Nothing but the service's address is
// known there.
func (s *stage) stick(machine, folder string) (*exec.Cmd, *said) {
	s.t.Helper()
	out := &said{}
	cmd := exec.CommandContext(
		s.t.Context(),
		binary,
		"agent",
		"stick",
		"--url",
		s.url,
		"--image",
		machine,
		"--folder",
		folder,
	)
	cmd.Env = append(os.Environ(), "DIORTHOS_TOKEN=", "DIORTHOS_URL=")
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	return cmd, out
}

// A machine that does not start is started from a stick, and shows a code. Somebody far away types it, sees its disk,
// has a rung taken there and taken back again, byte by byte. Nobody who may not is let near it, nothing is changed that
// was not ordered, and the stick goes on after it was cut off.
func TestAMachineIsMendedFromFarAwayByAStick(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	folder := t.TempDir()
	machine, memory := filepath.Join(folder, "bridge"), filepath.Join(folder, "stick")
	s.must(0, "standin", "build", machine, "--seed", "31", "--name", "office-1") // what the desk calls it counts
	s.must(0, "standin", "break", machine, "loader-gone")
	s.must(1, "standin", "try", machine, "start")
	disk, before := filepath.Join(machine, "disk.img"), filepath.Join(folder, "before.img")
	if out, err := exec.Command("cp", "--sparse=always", disk, before).CombinedOutput(); err != nil {
		t.Fatalf("cp: %v: %s", err, out)
	}
	stick, out := s.stick(machine, memory)
	defer func() { _, _ = stick.Process.Kill(), stick.Wait() }()
	shown := regexp.MustCompile(`Code\s+([A-Z2-7]{4}-[A-Z2-7]{4})\s`)
	until(t, "a code on the screen", func() bool { return shown.MatchString(out.String()) })
	code := shown.FindStringSubmatch(out.String())[1]

	elsewhere := s.other("Ebba", client.PersonChange{Role: client.Work, Sites: &[]string{"Lerrick terminal"}})
	heard := strings.ToLower(strings.NewReplacer("-", " ", "O", "0", "I", "1", "B", "8").Replace(code))
	for wish, want := range map[client.Admission]int{
		{Code: "AAAA-AAAA", Machine: "kestrel-bridge-7"}:              http.StatusNotFound,
		{Code: code, Machine: "kestrel-bridge-7", Site: "MV Kestrel"}: http.StatusForbidden,
	} {
		_, err := elsewhere.Admit(t.Context(), wish)
		if p := (*client.Problem)(nil); !errors.As(err, &p) || p.Status != want {
			t.Errorf("%+v by somebody of another site: %v", wish, err)
		}
	}
	desk := openPage(t)
	desk.do(chromedp.Navigate(s.url+"/agents"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", s.token+"\r"))
	desk.do(chromedp.SendKeys(`input[aria-label="Code on its screen"]`, heard+"\r"))
	desk.waitText("to work on bridge; asks from 127.0.0.1")
	desk.do(
		chromedp.SendKeys(`input[aria-label="Which machine it is"]`, "kestrel-bridge-7"),
		chromedp.SendKeys(`input[aria-label="Its site, if it is new"]`, "MV Kestrel\r"),
	)
	desk.waitText("kestrel-bridge-7 is let in until")
	desk.picture("stick")
	if _, err := s.client().Knocking(t.Context(), code); err == nil {
		t.Error("a code is good twice")
	}
	until(t, "its case", func() bool { return s.state(1) == client.Open })
	d, err := s.client().Case(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if d.Machine != "kestrel-bridge-7" || d.Site != "MV Kestrel" || d.Agent == nil || !d.Agent.Stick {
		t.Errorf("the case: %s at %s, by %+v", d.Machine, d.Site, d.Agent)
	}
	s.must(0, "outbreaks") // none is raised, and were there one
	if !same(t, disk, before) {
		t.Error("the disk was changed before anybody ordered anything")
	}
	s.refusedOrders(d, elsewhere)

	desk.do(chromedp.Navigate(s.url + "/cases/1"))
	desk.waitText("It takes a rung where the machine is")
	desk.picture("ordering")
	desk.press("Take rung 1 there")
	desk.waitText("Take back")
	desk.do(chromedp.ScrollIntoView(`//h3[contains(., "At the machine")]`))
	desk.picture("ordered")
	after := filepath.Join(folder, "after")
	if out, err := exec.Command("cp", "-r", "--sparse=always", machine, after).CombinedOutput(); err != nil {
		t.Fatalf("cp: %v: %s", err, out)
	}
	wants(t, s.must(0, "standin", "try", after, "start"), "started")
	wants(t, s.must(0, "case", "1"), "AT THE MACHINE", "from a stick", "rung 1", ": proven")

	// Cut off, and started again: it needs no code, and knows what it did.
	_, _ = stick.Process.Kill(), stick.Wait()
	stick, out = s.stick(machine, memory)
	until(t, "the stick to go on", func() bool { return strings.Contains(out.String(), "Let in as kestrel-bridge-7") })
	wants(t, s.must(0, "case", "1", "--take-back", "1"), "taken back at the machine")
	if !same(t, disk, before) {
		t.Error("what was taken back is not as it was before")
	}
	if r := s.run("case", "1", "--take-back", "1"); r.status != 2 ||
		!strings.Contains(r.errout, "has not done this rung") {
		t.Errorf("taken back twice: %+v", r)
	}
	list := s.must(0, "agent", "list")
	wants(t, list, "kestrel-bridge-7", "from a stick until")
	s.must(0, "agent", "end", strings.Fields(lineWith(list, "kestrel-bridge-7"))[0])
	wants(t, s.must(0, "audit", "--limit", "100"), "admit", "order-rung")
	until(t, "another code, once it is ended", func() bool {
		return strings.Contains(out.String(), "let in no more") && shown.MatchString(out.String())
	})
	// The stick is taken to the next machine: nothing of it is told as the first one's.
	next := filepath.Join(folder, "next")
	s.must(0, "standin", "build", next, "--seed", "32", "--name", "kestrel-bridge-8")
	second, heard2 := s.stick(next, memory)
	defer func() { _, _ = second.Process.Kill(), second.Wait() }()
	until(t, "a code of its own", func() bool { return shown.MatchString(heard2.String()) })
	if strings.Contains(heard2.String(), "Let in as") {
		t.Errorf("the next machine is taken for the first one:\n%s", heard2)
	}
	if r := s.run("case", "3", "--order", "1"); r.status != 2 || !strings.Contains(r.errout, "no agent of this machine") {
		t.Errorf("an order to a stick that was ended: %+v", r)
	}
}

// refusedOrders asks for what no agent is to be given.
func (s *stage) refusedOrders(d *client.CaseDetail, elsewhere *client.Client) {
	s.t.Helper()
	if _, err := elsewhere.OrderRung(s.t.Context(), d.Number, client.OrderWish{Rung: 1}); err == nil {
		s.t.Error("somebody of another site may order a rung")
	}
	for _, r := range d.Docket.ToDo {
		if r.Invasive != "destroys" && r.By != "hands" {
			continue
		}
		_, err := s.client().OrderRung(s.t.Context(), d.Number, client.OrderWish{Rung: r.Number})
		if p := (*client.Problem)(nil); !errors.As(err, &p) || p.Status != http.StatusConflict {
			s.t.Errorf("rung %d, which is %s and by %s, was ordered: %v", r.Number, r.Invasive, r.By, err)
		}
	}
	for _, wish := range []client.OrderWish{{Rung: 99}, {Rung: 1, Back: true}} {
		if _, err := s.client().OrderRung(s.t.Context(), d.Number, wish); err == nil {
			s.t.Errorf("%+v was ordered", wish)
		}
	}
}

// other is somebody else who may use the service.
func (s *stage) other(name string, may client.PersonChange) *client.Client {
	s.t.Helper()
	if _, err := s.client().SetPerson(s.t.Context(), name, may); err != nil {
		s.t.Fatal(err)
	}
	made, err := s.client().AddToken(s.t.Context(), name, client.TokenWish{Name: "a test"})
	if err != nil {
		s.t.Fatal(err)
	}
	return client.New(s.url, made.Secret)
}

// state is how a case stands; empty before it is there.
func (s *stage) state(number int64) client.CaseState {
	c, err := s.client().Case(s.t.Context(), number)
	if err != nil {
		return ""
	}
	return c.State
}

func lineWith(text, part string) string {
	for line := range strings.Lines(text) {
		if strings.Contains(line, part) {
			return line
		}
	}
	return fmt.Sprintf("no line with %q", part)
}
