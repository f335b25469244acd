package reading

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A Wording tells what newer releases of an engine's programs say in place of what the rules and signatures are written
// for. A line that begins so is read as the older one, and shown as it is.
type Wording struct {
	// Tells matches lines that only newer releases have, and Older lines that only the older ones have.
	Tells string `yaml:"tells"`
	Older string `yaml:"older"`
	// Begin and End match lines between which scripts speak, who begin a line as they like; Always matches older words
	// that are the engine's own there too.
	Begin  string `yaml:"begin"`
	End    string `yaml:"end"`
	Always string `yaml:"always"`
	Words  []struct {
		Says  string `yaml:"says"`
		Means string `yaml:"means"` // $1 is the first group of Says

		says *regexp.Regexp
	} `yaml:"words"`

	tells, old, begin, end, always *regexp.Regexp
}

func (w *Wording) compile() (err error) {
	for text, into := range map[*string]**regexp.Regexp{
		&w.Tells: &w.tells, &w.Older: &w.old, &w.Begin: &w.begin, &w.End: &w.end, &w.Always: &w.always,
	} {
		if *text == "" {
			return fmt.Errorf("wording: tells, older, begin, end and always are all wanted")
		}
		if *into, err = regexp.Compile(*text); err != nil {
			return fmt.Errorf("wording: %w", err)
		}
	}
	for i := range w.Words {
		if w.Words[i].says, err = regexp.Compile(w.Words[i].Says); err != nil {
			return fmt.Errorf("wording: words: %w", err)
		}
	}
	return nil
}

// older is a line in the older words, and whether there are others for it.
func (w *Wording) older(line string) (string, bool) {
	for _, word := range w.Words {
		if word.says.MatchString(line) {
			return word.says.ReplaceAllString(line, word.Means), true
		}
	}
	return line, false
}

// saysNewly is the wording in which a text is, where it holds lines that only newer releases have, or something is
// known of a line in the older words; nil for none.
func (r *Reader) saysNewly(lines []string) *Wording {
	for _, d := range r.dialects {
		if d.Wording != nil && r.inWording(d.Wording, mapped(lines, shown)) {
			return d.Wording
		}
	}
	return nil
}

func (r *Reader) inWording(w *Wording, lines []string) bool {
	if slices.ContainsFunc(lines, w.old.MatchString) ||
		!slices.ContainsFunc(lines, func(l string) bool { return w.tells.MatchString(l) || r.knownAs(w, l) }) {
		return false
	}
	before := mapped(lines, func(l string) string {
		l, _ = w.older(l)
		return l
	})
	return r.familiar(nil, before) >= r.familiar(nil, lines) // or another log says so in its own way
}

// knownAs reports whether something is known of a line in the older words.
func (r *Reader) knownAs(w *Wording, line string) bool {
	before, ok := w.older(line)
	if !ok {
		return false
	}
	head, _, _ := strings.Cut(before, ": ")
	others := r.Hits(head + ": x") // by the first word alone nothing is known
	return slices.ContainsFunc(r.Hits(before), func(id string) bool { return !slices.Contains(others, id) })
}

// reword gives a line in the older words where it is the engine's own. What a script says is left alone.
func (t *taking) reword(line string) string {
	text := shown(line)
	switch {
	case t.newer.begin.MatchString(text):
		t.script = true
	case t.newer.end.MatchString(text):
		t.script = false
	}
	before, ok := t.newer.older(text)
	if !ok || t.script && !t.newer.always.MatchString(before) {
		return line
	}
	return before
}
