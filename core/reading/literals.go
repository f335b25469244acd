package reading

import (
	"regexp/syntax"
	"strings"
)

// literals tells whether a line holds any of many literals, without regard to
// ASCII case, by the automaton of Aho and Corasick (1975) laid out as one table.
type literals struct {
	class   [256]uint8
	classes int
	next    []uint32 // state*classes + class → state*classes, the top bit set if something ends there
}

const endsHere = 1 << 31

func newLiterals(words []string) *literals {
	a := &literals{classes: 1}
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
	ends := []bool{false}
	for _, w := range words {
		at := 0
		for _, b := range []byte(w) {
			edge := at*width + int(a.class[b])
			if trie[edge] == 0 {
				trie[edge] = uint32(len(ends))
				ends = append(ends, false)
				trie = append(trie, make([]uint32, width)...)
			}
			at = int(trie[edge])
		}
		ends[at] = true
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
		ends[at] = ends[at] || ends[fail[at]]
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
		if ends[to] {
			a.next[i] |= endsHere
		}
	}
}

// any reports whether line holds one of the literals.
func (a *literals) any(line []byte) bool {
	var at uint32
	for _, b := range line {
		if at = a.next[at+uint32(a.class[b])]; at&endsHere != 0 {
			return true
		}
	}
	return false
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
