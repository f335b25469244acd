package ask_test

import (
	"reflect"
	"strings"
	"sync"
	"testing"

	"diorthos/core/ask"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
)

func about(t *testing.T, q ask.Question) *ask.Answer {
	t.Helper()
	a, err := ask.About(q, load(t))
	if err != nil {
		t.Fatal(err)
	}
	return a
}

var loaded = sync.OnceValues(func() (*knowledge.Knowledge, error) { return knowledge.Load(shipped.Files) })

func load(t testing.TB) *knowledge.Knowledge {
	t.Helper()
	k, err := loaded()
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// Each screen leads to what causes it, by words, by a code, or by both; nothing else
// is known of the machine.
func TestAScreenLeadsToItsCause(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"STOPPED at loader: the loader EFI/corbel/keystone.efi is missing or damaged", "corbel-loader-gone"},
		{"code 0x40170003", "corbel-boot-store-gone"},
		{
			"error: no such device: 8f6944d2-5d50-4562-a700-43afeb5e0bc9.\nEntering rescue mode...",
			"loader-names-other-volume",
		},
		{
			"Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)",
			"early-boot-image-missing",
		},
		{"blk_update_request: I/O error, dev sda, sector 2048", "disk-dying"},
		{
			"E: Could not get lock /var/lib/dpkg/lock-frontend. It is held by process 71 (unattended-upgr)",
			"package-system-locked",
		},
		{"Temporary failure resolving 'packages.skerrow.example'", "name-not-resolved"},
		{
			"trying to overwrite '/usr/bin/tide', which is also in package skerrow-tide 2.0",
			"file-in-two-packages",
		},
	} {
		text, want := c.text, c.want
		a := about(t, ask.Question{Text: text})
		if len(a.Why) == 0 || a.Why[0].Cause != want {
			t.Errorf("%q: %v, want %s", text, causes(a.Why), want)
			continue
		}
		if len(a.ToDo) == 0 {
			t.Errorf("%q: %s has no ladder", text, want)
		}
	}
}

func causes(list []diagnosis.Finding) (ids []string) {
	for _, f := range list {
		ids = append(ids, f.Cause)
	}
	return ids
}

// The question that is asked first tells most, and each of its answers moves what is
// thought to where it was promised.
func TestAnAnswerRanksAnew(t *testing.T) {
	q := ask.Question{Text: "No space left on device"}
	a := about(t, q)
	if len(a.Next) == 0 {
		t.Fatal("nothing is asked")
	}
	first := a.Next[0]
	for _, o := range first.Answers {
		q.Answers = map[string]int{first.Check: o.Number}
		then := about(t, q)
		if then.Why[0].Title != o.Cause {
			t.Errorf("%s %s: promised %s, came to %s", first.Title, o.Says, o.Cause, then.Why[0].Title)
		}
		if len(then.Given) != 1 || then.Given[0].Answer != o.Says {
			t.Errorf("%s: given %+v", o.Says, then.Given)
		}
		for _, n := range then.Next {
			if n.Check == first.Check {
				t.Errorf("%s is asked again", n.Check)
			}
		}
	}
}

// Probabilities are shares: they never sum to more than 1, whatever is asked; the same
// question gives the same answer.
func TestAnAnswerIsSober(t *testing.T) {
	for _, text := range []string{
		"kernel panic", "error", "E:", "0x80070070", "no such partition", strings.Repeat("failed ", 500),
		"\x00\xff\x1b[31mNo space left on device\x1b[0m", "0", "-28",
	} {
		a := about(t, ask.Question{Text: text})
		sum := 0.0
		for _, f := range a.Why {
			sum += f.Probability
		}
		if sum > 1.005 {
			t.Errorf("%q: the causes sum to %.3f", text, sum)
		}
		if b := about(t, ask.Question{Text: text}); !reflect.DeepEqual(a, b) {
			t.Errorf("%.40q: two answers", text)
		}
	}
	k := load(t)
	for _, q := range []ask.Question{
		{}, {Text: " \n"}, {
			Text:    "x",
			Answers: map[string]int{"nothing": 1},
		}, {Text: "x", Answers: map[string]int{"inodes": 3}},
	} {
		if _, err := ask.About(q, k); err == nil {
			t.Errorf("%+v is answered", q)
		}
	}
}

// What is shown at another time, or by another family's systems, is not what is meant.
func TestTheSituationCounts(t *testing.T) {
	atStart := about(t, ask.Question{Text: "no such file or directory", When: knowledge.ExplainsStart})
	for _, m := range atStart.Messages[:min(1, len(atStart.Messages))] {
		if m.Message.When != knowledge.ExplainsStart && m.Share > 0.5 {
			t.Errorf("at the start: %q, %.2f", m.Message.Says, m.Share)
		}
	}
	screen := about(t, ask.Question{Text: "dpkg (subprocess): unable to execute installed skerrow-anchor package " +
		"post-installation script (/var/lib/dpkg/info/skerrow-anchor.postinst): No such file or directory\n" +
		"E: Sub-process /usr/bin/dpkg returned an error code (1)"})
	for _, f := range screen.Why {
		if strings.HasPrefix(f.Cause, "corbel-") {
			t.Errorf("dpkg says it: %s", f.Cause)
		}
	}
	debian := about(t, ask.Question{Text: "the loader is missing or damaged", Family: "debian"})
	for _, f := range debian.Why {
		if strings.HasPrefix(f.Cause, "corbel-") {
			t.Errorf("on Debian: %s", f.Cause)
		}
	}
}

// Everything that a message can cause is told of by a cause that has a way to put it
// right, or is honestly left open.
func TestEveryMessageIsFoundByItsOwnWords(t *testing.T) {
	k := load(t)
	missed := 0
	for _, m := range k.Messages {
		got := k.Book.Match(m.Says, 3)
		found := false
		for _, g := range got {
			found = found || g.Message.Says == m.Says || g.Fit > 0.95
		}
		if !found {
			missed++
			t.Logf("%q is not found by its own words", m.Says)
		}
	}
	if missed > 0 {
		t.Errorf("%d of %d messages are not found", missed, len(k.Messages))
	}
}
