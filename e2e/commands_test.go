package e2e

import (
	"encoding/json"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var listed = regexp.MustCompile(`(?m)^   ([a-z-]+)(?:, [a-z])?  +\S`)

// below lists the commands that a command's help names.
func below(help string) (names []string) {
	_, list, ok := strings.Cut(help, "\nCOMMANDS:\n")
	if !ok {
		return nil
	}
	list, _, _ = strings.Cut(list, "\n\nOPTIONS:")
	for _, m := range listed.FindAllStringSubmatch(list, -1) {
		if m[1] != "help" {
			names = append(names, m[1])
		}
	}
	return names
}

// Every command says in its help what it is for, with an example of itself, and
// answers what it cannot work with by status 2, one line, and where to read on.
func TestEveryCommandExplainsItself(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1", token: "none"}
	seen := 0
	var visit func(path []string)
	visit = func(path []string) {
		help := s.must(0, append(append([]string{}, path...), "--help")...)
		if subs := below(help); len(subs) > 0 {
			for _, name := range subs {
				visit(append(append([]string{}, path...), name))
			}
			if len(path) == 0 {
				return
			}
			if r := s.run(append(append([]string{}, path...), "no-such-thing")...); r.status != 2 || r.errout == "" {
				t.Errorf("%v no-such-thing: %+v", path, r)
			}
			return
		}
		seen++
		name := strings.Join(path, " ")
		if !strings.Contains(help, "Example") || !strings.Contains(help, "diorthos "+name) {
			t.Errorf("%s: its help has no example of it:\n%s", name, help)
		}
		r := s.run(append(append([]string{}, path...), "--no-such-flag")...)
		if lines := strings.Count(strings.TrimSpace(r.errout), "\n"); r.status != 2 || lines > 0 ||
			!strings.Contains(r.errout, "no-such-flag") {
			t.Errorf("%s --no-such-flag: status %d: %s", name, r.status, r.errout)
		}
	}
	visit(nil)
	if seen < 40 {
		t.Errorf("only %d commands were found", seen)
	}
}

// Commands that need the service say so when none answers, and do nothing else.
func TestWithoutAServiceCommandsSayWhatIsMissing(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1", token: "none"}
	for _, args := range [][]string{
		{"cases"},
		{"case", "1"},
		{"machines"},
		{"machines", "tern-1"},
		{"ladder", "1"},
		{"climb", "1", "--image", "/dev/null"},
	} {
		r := s.run(args...)
		if r.status != 2 || !strings.Contains(r.errout, "is the service running?") || r.out != "" {
			t.Errorf("%v: %+v", args, r)
		}
	}
}

// What the stand-in answers to programs tells as much as what it says to people.
func TestTheStandInAnswersProgramsToo(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	folder := filepath.Join(t.TempDir(), "tern-9")
	var built struct{ Name, Firmware, Serial string }
	read := func(text string, into any) {
		t.Helper()
		if err := json.Unmarshal([]byte(text), into); err != nil {
			t.Fatalf("%v: %s", err, text)
		}
	}
	read(s.must(0, "standin", "build", folder, "--name", "tern-9", "--mode", "bios", "--json"), &built)
	if built.Name != "tern-9" || built.Firmware != "bios" || built.Serial == "" {
		t.Errorf("%+v", built)
	}
	var faults []struct{ Name, Group, Fails string }
	read(s.must(0, "standin", "faults", "--json"), &faults)
	if len(faults) < 60 || faults[0].Name == "" || faults[0].Fails == "" {
		t.Errorf("%d faults, %+v", len(faults), faults[0])
	}
	s.must(0, "standin", "break", folder, "boot-code-damaged", "--json")
	var tried struct {
		OK     bool
		Stage  string
		Code   string
		Screen []string
	}
	read(s.must(1, "standin", "try", folder, "start", "--json"), &tried)
	if tried.OK || !strings.HasPrefix(tried.Code, "0x4017") || len(tried.Screen) < 3 {
		t.Errorf("%+v", tried)
	}
}
