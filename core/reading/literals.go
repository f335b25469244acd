package reading

import (
	"regexp/syntax"
	"slices"
	"strings"
)

// literals tells whether a line holds any of many literals, without regard to
// ASCII case, by the automaton of Aho and Corasick (1975) laid out as one table.
type literals struct {
	class   [256]uint8
	classes int
	next    []uint32 // state*classes + class → state*classes, the top bit set if something ends there
	ends    map[uint32][]int
	depths  map[uint32]int // of the states in which something ends, in bytes
	lengths []int
}

const endsHere = 1 << 31

func newLiterals(words []string) *literals {
	a := &literals{classes: 1, ends: map[uint32][]int{}, depths: map[uint32]int{}}
	for i, w := range words {
		words[i] = strings.ToLower(w)
		for _, b := range []byte(words[i]) {
			if a.class[b] == 0 {
				a.class[b] = uint8(a.classes)
				a.classes++
			}
		}
	}
	for b := byte('A'); b <= 'Z'; b++ {
		a.class[b] = a.class[b|0x20]
	}
	a.build(words)
	return a
}

func (a *literals) build(words []string) {
	width := a.classes
	trie := make([]uint32, width) // 0 is "none": no edge leads back to the root
	ends, depths := [][]int{nil}, []int{0}
	for id, w := range words {
		a.lengths = append(a.lengths, len(w))
		at := 0
		for _, b := range []byte(w) {
			edge := at*width + int(a.class[b])
			if trie[edge] == 0 {
				trie[edge] = uint32(len(ends))
				ends, depths = append(ends, nil), append(depths, depths[at]+1)
				trie = append(trie, make([]uint32, width)...)
			}
			at = int(trie[edge])
		}
		ends[at] = append(ends[at], id)
	}
	fail := make([]int, len(ends))
	queue := make([]int, 0, len(ends))
	for c := range width {
		if s := trie[c]; s != 0 {
			queue = append(queue, int(s))
		}
	}
	for i := 0; i < len(queue); i++ {
		at := queue[i]
		ends[at] = append(ends[at], ends[fail[at]]...)
		for c := range width {
			edge := at*width + c
			if to := trie[edge]; to != 0 {
				fail[to] = int(trie[fail[at]*width+c])
				queue = append(queue, int(to))
			} else {
				trie[edge] = trie[fail[at]*width+c]
			}
		}
	}
	a.next = trie
	for i, to := range trie {
		a.next[i] = to * uint32(width)
		if len(ends[to]) > 0 {
			a.next[i] |= endsHere
			a.ends[to*uint32(width)], a.depths[to*uint32(width)] = ends[to], depths[to]
		}
	}
}

// first returns a place in line before which none of the literals begins, or
// -1 if line holds none.
func (a *literals) first(line []byte) int {
	var at uint32
	for i, b := range line {
		if at = a.next[at+uint32(a.class[b])]; at&endsHere != 0 {
			return i + 1 - a.depths[at&^endsHere]
		}
	}
	return -1
}

// each calls found with every literal in text and where it stands, in order of
// where they end, until found returns false.
func (a *literals) each(text string, found func(id, from, to int) bool) { a.eachFrom(text, 0, found) }

// eachFrom leaves out the literals that begin before start.
func (a *literals) eachFrom(text string, start int, found func(id, from, to int) bool) {
	var at uint32
	for i := start; i < len(text); i++ {
		at = a.next[at+uint32(a.class[text[i]])]
		if at&endsHere == 0 {
			continue
		}
		at &^= endsHere
		for _, id := range a.ends[at] {
			if !found(id, i+1-a.lengths[id], i+1) {
				return
			}
		}
	}
}

// wordSet finds words where they stand alone: a word that is part of a name
// such as libgpg-error0 or error.log says nothing.
type wordSet struct{ *literals }

func newWordSet(words []string) wordSet {
	return wordSet{newLiterals(append([]string{}, words...))}
}

func (w wordSet) in(text string) bool {
	alone := false
	w.each(text, func(_, from, to int) bool {
		alone = standsAlone(text, from, to)
		return !alone
	})
	return alone
}

func standsAlone(text string, from, to int) bool {
	return (from == 0 || !inName(text[from-1])) && endsAlone(text[to:])
}

// endsAlone allows for a full stop or a dash after the word.
func endsAlone(rest string) bool {
	switch {
	case rest == "" || !inName(rest[0]):
		return true
	case rest[0] == '.' || rest[0] == '-' || rest[0] == '/':
		return len(rest) == 1 || rest[1] == ' ' || rest[1] == '\t'
	}
	return false
}

func inName(b byte) bool {
	return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || b == '_' || b == '.' || b == '-' ||
		b == '/'
}

// A prefilter tells which of many patterns can match a text, by their literals.
type prefilter struct {
	find *literals
	of   []int // the pattern of each literal
}

func newPrefilter(lists [][]string) prefilter {
	var all []string
	var of []int
	for pattern, list := range lists {
		for _, l := range list {
			all = append(all, l)
			of = append(of, pattern)
		}
	}
	return prefilter{newLiterals(all), of}
}

// matching are the patterns to be tried, in their order, each once.
func (s prefilter) matching(text string) []int {
	var list []int
	s.find.each(text, func(id, _, _ int) bool {
		if p := s.of[id]; !slices.Contains(list, p) {
			list = append(list, p)
		}
		return true
	})
	slices.Sort(list)
	return list
}

// A finder looks for all that a line of one dialect can matter for, at once.
type finder struct {
	*literals
	means []meaning
}

// A meaning is what a literal stands for: a word that sounds bad, or one of
// the literals of a pattern.
type meaning struct {
	level   Level
	rule    int // of the dialect, -1 for none
	watched int // -1 for none
}

func newFinder(lexicon *Lexicon, d *Dialect, watch [][]string, foreign []string) *finder {
	f := &finder{}
	var all []string
	add := func(m meaning, list ...string) {
		for _, l := range list {
			all, f.means = append(all, l), append(f.means, m)
		}
	}
	add(meaning{Error, -1, -1}, lexicon.Errors...)
	add(meaning{Warning, -1, -1}, lexicon.Warnings...)
	add(meaning{Warning, -1, -1}, d.Grave...)
	if d.Starts != "" {
		add(meaning{Info, fieldLine, -1}, d.Starts)
	}
	for _, prefix := range d.Carry {
		add(meaning{Info, fieldLine, -1}, prefix)
	}
	for i, r := range d.Rules {
		add(meaning{Info, i, -1}, r.literals...)
	}
	for i, list := range watch {
		add(meaning{Info, -1, i}, list...)
	}
	for i, anchor := range foreign {
		add(meaning{Info, foreignText + i, -1}, anchor)
	}
	f.literals = newLiterals(all)
	return f
}

// fieldLine stands in a meaning for a line that holds a field of a record.
const fieldLine = 1 << 20

// foreignText, and what is added to it, stands in a meaning for a message in
// another language.
const foreignText = 1 << 21

// A lineMatch is what a finder saw in a text.
type lineMatch struct {
	level   Level
	rules   []int // to be tried, in their order
	watched []int
	foreign []int // messages in another language, by their numbers
	field   bool  // it holds a field of a record of several lines
}

// nothing reports whether the text cannot matter, unless a watched pattern
// matches.
func (s lineMatch) nothing() bool {
	return s.level == Info && len(s.rules)+len(s.foreign) == 0 && !s.field
}

// sight looks at a text from start on, before which it holds none of the
// literals.
func (f *finder) sight(text string, start int) lineMatch {
	s := lineMatch{level: Info}
	f.eachFrom(text, start, func(id, from, to int) bool {
		m := f.means[id]
		switch {
		case m.rule >= foreignText:
			s.foreign = append(s.foreign, m.rule-foreignText)
		case m.rule == fieldLine:
			s.field = true
		case m.rule >= 0 && !slices.Contains(s.rules, m.rule):
			s.rules = append(s.rules, m.rule)
		case m.watched >= 0 && !slices.Contains(s.watched, m.watched):
			s.watched = append(s.watched, m.watched)
		case m.level != Info && s.level != Error && standsAlone(text, from, to):
			s.level = m.level
		}
		return true
	})
	slices.Sort(s.rules)
	slices.Sort(s.foreign)
	s.foreign = slices.Compact(s.foreign)
	slices.Sort(s.watched)
	return s
}

// required returns literals of which every match of a pattern holds at least
// one, or none when there are none. They make the pattern searchable.
func required(pattern string) ([]string, error) {
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil, err
	}
	return requiredIn(tree.Simplify()), nil
}

func requiredIn(re *syntax.Regexp) []string {
	switch re.Op {
	case syntax.OpLiteral:
		s := string(re.Rune)
		for _, r := range s {
			if r > 0x7f && re.Flags&syntax.FoldCase != 0 { // only ASCII is folded by literals
				return nil
			}
		}
		return []string{s}
	case syntax.OpCapture, syntax.OpPlus:
		return requiredIn(re.Sub[0])
	case syntax.OpConcat:
		var best []string
		for _, sub := range re.Sub {
			if list := requiredIn(sub); shortest(list) > shortest(best) {
				best = list
			}
		}
		return best
	case syntax.OpAlternate:
		var all []string
		for _, sub := range re.Sub {
			list := requiredIn(sub)
			if len(list) == 0 {
				return nil
			}
			all = append(all, list...)
		}
		return all
	}
	return nil
}

// shortest is the length of the shortest literal, 0 when there is none.
func shortest(list []string) int {
	n := 0
	for _, s := range list {
		if n == 0 || len(s) < n {
			n = len(s)
		}
	}
	return n
}
