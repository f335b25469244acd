package reading

import (
	"io/fs"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"diorthos/core/catalogue"
	shipped "diorthos/knowledge"
	"diorthos/standin/debian"
)

// The automaton must find what a plain search finds, in every place, for
// words that overlap, end in one another and repeat.
func TestTheAutomatonFindsWhatAPlainSearchFinds(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for range 400 {
		var words []string
		for range 1 + r.IntN(8) {
			words = append(words, letters(r, 1+r.IntN(4)))
		}
		slices.Sort(words)
		words = slices.Compact(words)
		a := newLiterals(slices.Clone(words))
		text := letters(r, 60)
		got := map[[2]int]bool{}
		a.each(text, func(id, from, to int) bool {
			if text[from:to] != words[id] {
				t.Fatalf("%q stands at %d to %d of %q?", words[id], from, to, text)
			}
			got[[2]int{id, from}] = true
			return true
		})
		want := 0
		for id, w := range words {
			for from := range len(text) {
				if strings.HasPrefix(text[from:], w) {
					want++
					if !got[[2]int{id, from}] {
						t.Fatalf("%q at %d of %q was missed", w, from, text)
					}
				}
			}
		}
		start := a.first([]byte(text))
		if len(got) != want || (start >= 0) != (want > 0) {
			t.Fatalf("%v in %q: %d found, %d there, first says %d", words, text, len(got), want, start)
		}
		later := 0
		a.eachFrom(text, max(0, start), func(_, _, _ int) bool { later++; return true })
		if later != want {
			t.Fatalf("%v in %q: from %d on %d are found of %d", words, text, start, later, want)
		}
	}
}

func letters(r *rand.Rand, n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = "abc"[r.IntN(3)]
	}
	return string(b)
}

func TestCaseIsFoldedForASCIIAlone(t *testing.T) {
	a := newLiterals([]string{"No Space", "gerät"})
	for text, want := range map[string]bool{
		"NO SPACE left": true,
		"no space":      true,
		"GERät":         true,
		"GERÄT":         false,
		"no  space":     false,
	} {
		if got := a.first([]byte(text)) >= 0; got != want {
			t.Errorf("%q: %t", text, got)
		}
	}
}

// shippedPatterns are all patterns of the shipped dialects and signatures.
func shippedPatterns(t *testing.T) []string {
	t.Helper()
	var list []string
	for _, folder := range []string{"dialects", "signatures"} {
		names, err := fs.Glob(shipped.Files, folder+"/*.yaml")
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range names {
			raw, err := fs.ReadFile(shipped.Files, name)
			if err != nil {
				t.Fatal(err)
			}
			var doc struct {
				Rules      []struct{ Match string }
				Signatures []struct {
					Events []struct{ Match string }
				}
			}
			if err := yaml.Unmarshal(raw, &doc); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			for _, r := range doc.Rules {
				list = append(list, r.Match)
			}
			for _, s := range doc.Signatures {
				for _, e := range s.Events {
					list = append(list, e.Match)
				}
			}
		}
	}
	return list
}

// Only patterns of which a literal was seen are tried. On every line of every
// captured log, that must lose nothing against trying them all.
func TestTheSieveLosesNoMatch(t *testing.T) {
	patterns := shippedPatterns(t)
	var compiled []*regexp.Regexp
	var lists [][]string
	for _, p := range patterns {
		re, list, err := compilePattern(p)
		if err != nil {
			t.Fatal(err)
		}
		compiled, lists = append(compiled, re), append(lists, list)
	}
	s := newPrefilter(lists)
	lines, matches := 0, make([]int, len(patterns))
	try := func(text string) {
		lines++
		candidates := s.matching(text)
		for i, re := range compiled {
			if re.MatchString(text) {
				matches[i]++
				if !slices.Contains(candidates, i) {
					t.Errorf("%q matches %q and was not to be tried", patterns[i], text)
				}
			}
		}
	}
	err := fs.WalkDir(debian.Captured, "captured", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := fs.ReadFile(debian.Captured, name)
		for line := range strings.SplitSeq(string(raw), "\n") {
			try(clean([]byte(line)))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range []string{"apt.mo", "libapt-pkg6.0.mo", "dpkg.mo"} {
		raw, err := fs.ReadFile(shipped.Files, "catalogues/de/"+file)
		if err != nil {
			t.Fatal(err)
		}
		messages, err := catalogue.Read(raw)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range messages {
			try(strings.NewReplacer("%s", "deck", "%d", "7").Replace(m.Original))
		}
	}
	hit := 0
	for _, n := range matches {
		if n > 0 {
			hit++
		}
	}
	t.Logf("%d lines, %d of %d patterns matched somewhere", lines, hit, len(patterns))
	if hit < len(patterns)/2 {
		t.Errorf("only %d of %d patterns are met in the captured logs: this proves too little", hit, len(patterns))
	}
}

func TestPatternsGiveTheLiteralsThatTheyNeed(t *testing.T) {
	for pattern, want := range map[string]string{
		`^Setting up (?P<object>\S+)`:  "Setting up ",
		`(?:one|three)`:                "one three",
		`a(?:longer|other) tail`:       "longer other",
		`(?:x+yes)?never`:              "never",
		`[a-z]+`:                       "",
		`(?:optional)*`:                "",
		`(?i)Mixed Case`:               "MIXED CASE",
		`pre(?P<a>\d+)middle(?P<b>.*)`: "middle",
		`(?:one|\d+)`:                  "",
	} {
		list, err := required(pattern)
		if err != nil {
			t.Errorf("%q: %v", pattern, err)
		}
		if got := strings.Join(list, " "); !strings.EqualFold(got, want) {
			t.Errorf("%q needs %q, want %q", pattern, got, want)
		}
	}
}
