package reading

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"regexp/syntax"
	"slices"
	"unicode/utf8"
)

// An linePrefix is how the texts begin that a pattern matches, in one or more
// forms: for each byte the values that it can have. It tells faster than the
// pattern what cannot be a record.
type linePrefix []form

type form struct {
	places [][256]bool
	done   bool // nothing can be said of what follows
}

const (
	maxForms  = 8
	maxPlaces = 32
)

// outlineOf returns nothing for a pattern that can match anywhere.
func outlineOf(pattern string) linePrefix {
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || tree.Op != syntax.OpConcat || tree.Sub[0].Op != syntax.OpBeginText {
		return nil
	}
	forms := linePrefix{{}}.then(tree.Simplify())
	for _, f := range forms {
		if len(f.places) == 0 {
			return nil
		}
	}
	return forms
}

// then adds what re matches to the forms that are not done.
func (o linePrefix) then(re *syntax.Regexp) linePrefix {
	done := slices.DeleteFunc(slices.Clone(o), func(f form) bool { return !f.done })
	open := slices.DeleteFunc(slices.Clone(o), func(f form) bool { return f.done })
	all := append(done, open.branch(re)...)
	if len(all) > maxForms { // too many to be of use
		return linePrefix{{done: true}}
	}
	return all
}

func (o linePrefix) branch(re *syntax.Regexp) linePrefix {
	switch re.Op {
	case syntax.OpBeginText, syntax.OpBeginLine, syntax.OpEmptyMatch:
		return o
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			o = o.add([]rune{r, r}, re.Flags&syntax.FoldCase != 0)
		}
		return o
	case syntax.OpCharClass:
		return o.add(re.Rune, false)
	case syntax.OpCapture:
		return o.then(re.Sub[0])
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			o = o.then(sub)
		}
		return o
	case syntax.OpAlternate:
		var all linePrefix
		for _, sub := range re.Sub {
			all = append(all, o.then(sub)...)
		}
		return all
	case syntax.OpQuest:
		return append(o.then(re.Sub[0]), o...)
	case syntax.OpPlus:
		return o.then(re.Sub[0]).end()
	}
	return o.end()
}

// add adds one letter out of ranges. A letter beyond ASCII has several bytes,
// and so ends the form.
func (o linePrefix) add(ranges []rune, fold bool) linePrefix {
	var place [256]bool
	wide := false
	for i := 0; i < len(ranges); i += 2 {
		for r := ranges[i]; r <= min(ranges[i+1], utf8.RuneSelf-1); r++ {
			place[r] = true
			if fold && (r|0x20 >= 'a' && r|0x20 <= 'z') {
				place[r^0x20] = true
			}
		}
		wide = wide || ranges[i+1] >= utf8.RuneSelf
	}
	for b := utf8.RuneSelf; wide && b < len(place); b++ {
		place[b] = true
	}
	for i, f := range o {
		if !f.done {
			o[i] = form{append(f.places[:len(f.places):len(f.places)], place), wide || len(f.places)+1 == maxPlaces}
		}
	}
	return o
}

func (o linePrefix) end() linePrefix {
	for i := range o {
		o[i].done = true
	}
	return o
}

// fits reports whether text begins like a match.
func (o linePrefix) fits(text []byte) bool {
	for _, f := range o {
		if f.fits(text) {
			return true
		}
	}
	return len(o) == 0
}

func (f *form) fits(text []byte) bool {
	if len(text) < len(f.places) {
		return false
	}
	for i := range f.places {
		if !f.places[i][text[i]] {
			return false
		}
	}
	return true
}

// unparsed reports whether a line is neither a record of the dialect nor set
// in below one, and so can be read as plain text only.
func (o linePrefix) unparsed(text []byte) bool {
	if len(text) == 0 || text[0] == ' ' || text[0] == '\t' || o.fits(text) {
		return false
	}
	plain := bytes.TrimSpace(stripEscapes(text))
	return len(plain) > 0 && !o.fits(plain)
}

// Unparsed calls found with the lines of a log that are no record of its
// dialect and not set in below one, cleaned, and returns the dialect.
func (r *Reader) Unparsed(ctx context.Context, src Source, found func(WindowLine) error) (dialect string, err error) {
	body, err := OpenPlain(src)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, body.Close()) }()
	head, rest, err := peekHead(body)
	if err != nil {
		return "", err
	}
	d := r.dialectOf(src.Name, head)
	in := bufio.NewReaderSize(rest, 64<<10)
	for number := 1; ; number++ {
		if number%10_000 == 0 && ctx.Err() != nil {
			return d.ID, ctx.Err()
		}
		text, err := readLine(in)
		if len(text) == 0 && err != nil {
			if err == io.EOF {
				err = nil
			}
			return d.ID, err
		}
		if text = bytes.TrimSuffix(text, []byte("\n")); d.linePrefix.unparsed(text) {
			if err := found(WindowLine{number, clean(text)}); err != nil {
				return d.ID, err
			}
		}
	}
}
