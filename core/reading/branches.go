package reading

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
)

// A branch is one of the alternatives of a watched pattern. Tried one by one, only those
// whose own literal was seen cost anything, and most are fixed texts that need no pattern.
type branch struct {
	id    string
	fixed string         // the whole of it, where it is a fixed text
	re    *regexp.Regexp // nil where it is
}

func (b branch) matches(text string) bool {
	if b.re == nil {
		return strings.Contains(text, b.fixed)
	}
	return b.re.MatchString(text)
}

// branchesOf compiles a watched pattern, each alternative with literals of which a match
// of it holds at least one.
func branchesOf(w Watch) (list []branch, literals [][]string, err error) {
	if _, err := regexp.Compile(w.Match); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", w.ID, err)
	}
	flags, alternatives := alternatives(w.Match)
	for _, one := range alternatives {
		re, need, err := compilePattern(flags + one)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", w.ID, err)
		}
		b := branch{id: w.ID, re: re}
		if text, ok := fixedText(flags + one); ok {
			b.fixed, b.re = text, nil
		}
		list, literals = append(list, b), append(literals, need)
	}
	return list, literals, nil
}

// fixedText is the one text that a pattern matches.
func fixedText(pattern string) (string, bool) {
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "", false
	}
	tree = tree.Simplify()
	if tree.Op != syntax.OpLiteral || tree.Flags&syntax.FoldCase != 0 {
		return "", false
	}
	return string(tree.Rune), true
}

// groupStart is how a group begins that does not keep what it matches.
var groupStart = regexp.MustCompile(`^\(\?(i?):`)

// alternatives takes a pattern apart at the bars that stand in no group and no class,
// also below a group that is the whole of it. Flags are those of that group.
func alternatives(pattern string) (flags string, list []string) {
	if m := groupStart.FindStringSubmatch(pattern); m != nil && strings.HasSuffix(pattern, ")") {
		inner := pattern[len(m[0]) : len(pattern)-1]
		if parts, ok := splitAtBars(inner); ok {
			if m[1] != "" {
				flags = "(?i)"
			}
			return flags, parts
		}
	}
	if parts, ok := splitAtBars(pattern); ok {
		return "", parts
	}
	return "", []string{pattern}
}

// splitAtBars reports false for a text whose brackets do not match by themselves.
func splitAtBars(pattern string) (list []string, ok bool) {
	depth, from := 0, 0
	for i := 0; i < len(pattern); i++ {
		switch pattern[i] {
		case '\\':
			i++
		case '[':
			end := classEnd(pattern, i)
			if end < 0 {
				return nil, false
			}
			i = end
		case '(':
			depth++
		case ')':
			if depth--; depth < 0 {
				return nil, false
			}
		case '|':
			if depth == 0 {
				list, from = append(list, pattern[from:i]), i+1
			}
		}
	}
	return append(list, pattern[from:]), depth == 0
}

// classEnd is where the class of characters that begins at i ends.
func classEnd(pattern string, i int) int {
	i++
	if i < len(pattern) && pattern[i] == '^' {
		i++
	}
	for first := i; i < len(pattern); i++ {
		switch {
		case pattern[i] == '\\':
			i++
		case pattern[i] == ']' && i > first:
			return i
		}
	}
	return -1
}
