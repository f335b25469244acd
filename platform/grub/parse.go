package grub

import (
	"fmt"
	"strings"
)

// A statement is one thing that a script does.
type statement struct {
	line  int
	words []word      // of a command
	block []statement // in braces behind a command: an entry, a submenu, a function

	// of if, for, while and until
	kind     string
	tests    [][]statement
	bodies   [][]statement
	variable string
}

// A word is made of pieces that stand together.
type word []piece

type piece struct {
	text     string
	variable bool // text is its name
	quoted   bool // its value is one word, spaces and all
}

// A SyntaxError says where a script cannot be understood.
type SyntaxError struct {
	Line int
	Want string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Want) }

type tokenKind int

const (
	endOfScript tokenKind = iota
	aWord
	separator // the end of a line, or a semicolon
	openBrace
	closeBrace
)

type token struct {
	kind tokenKind
	word word
	line int
}

// scan splits a script into words and what stands between them.
func scan(text string) ([]token, error) {
	s := &scanner{text: strings.ReplaceAll(text, "\r\n", "\n"), line: 1}
	var list []token
	for {
		t, err := s.next()
		if err != nil {
			return nil, err
		}
		list = append(list, t)
		if t.kind == endOfScript {
			return list, nil
		}
	}
}

type scanner struct {
	text string
	at   int
	line int
}

func (s *scanner) next() (token, error) {
	for s.at < len(s.text) {
		switch c := s.text[s.at]; {
		case c == ' ' || c == '\t':
			s.at++
		case c == '\\' && strings.HasPrefix(s.text[s.at:], "\\\n"):
			s.at, s.line = s.at+2, s.line+1
		case c == '#':
			for s.at < len(s.text) && s.text[s.at] != '\n' {
				s.at++
			}
		case c == '\n':
			s.at++
			s.line++
			return token{kind: separator, line: s.line - 1}, nil
		case c == ';':
			s.at++
			return token{kind: separator, line: s.line}, nil
		case c == '{':
			s.at++
			return token{kind: openBrace, line: s.line}, nil
		case c == '}':
			s.at++
			return token{kind: closeBrace, line: s.line}, nil
		default:
			return s.word()
		}
	}
	return token{kind: endOfScript, line: s.line}, nil
}

// word reads up to a space or what ends a command.
func (s *scanner) word() (token, error) {
	t := token{kind: aWord, line: s.line, word: word{}}
	add := func(text string, quoted bool) { t.word = append(t.word, piece{text: text, quoted: quoted}) }
	for s.at < len(s.text) {
		switch c := s.text[s.at]; c {
		case ' ', '\t', '\n', ';', '{', '}':
			return t, nil
		case '\'':
			end := strings.IndexByte(s.text[s.at+1:], '\'')
			if end < 0 {
				return t, &SyntaxError{s.line, "a quotation that begins here does not end"}
			}
			add(s.text[s.at+1:s.at+1+end], true)
			s.line += strings.Count(s.text[s.at:s.at+end+2], "\n")
			s.at += end + 2
		case '"':
			if err := s.quotation(&t); err != nil {
				return t, err
			}
		case '$':
			s.at++
			t.word = append(t.word, s.variable(false))
		case '\\':
			if s.at+1 < len(s.text) {
				add(s.text[s.at+1:s.at+2], true)
			}
			s.at += 2
		default:
			from := s.at
			for s.at < len(s.text) && !strings.ContainsRune(" \t\n;{}'\"$\\", rune(s.text[s.at])) {
				s.at++
			}
			add(s.text[from:s.at], false)
		}
	}
	return t, nil
}

// quotation reads what stands between double quotes: variables count, and a backslash
// before what would.
func (s *scanner) quotation(t *token) error {
	begin := s.line
	s.at++
	t.word = append(t.word, piece{quoted: true}) // an empty quotation is a word too
	for s.at < len(s.text) {
		switch c := s.text[s.at]; {
		case c == '"':
			s.at++
			return nil
		case c == '$':
			s.at++
			t.word = append(t.word, s.variable(true))
		case c == '\\' && s.at+1 < len(s.text) && strings.ContainsRune("\"$\\\n", rune(s.text[s.at+1])):
			t.word = append(t.word, piece{text: s.text[s.at+1 : s.at+2], quoted: true})
			s.at += 2
		default:
			if c == '\n' {
				s.line++
			}
			t.word = append(t.word, piece{text: s.text[s.at : s.at+1], quoted: true})
			s.at++
		}
	}
	return &SyntaxError{begin, "a quotation that begins here does not end"}
}

func (s *scanner) variable(quoted bool) piece {
	braces := s.at < len(s.text) && s.text[s.at] == '{'
	if braces {
		s.at++
	}
	from := s.at
	for s.at < len(s.text) && isName(s.text[s.at]) {
		s.at++
	}
	if s.at == from && s.at < len(s.text) && strings.ContainsRune("@#*?", rune(s.text[s.at])) {
		s.at++
	}
	p := piece{text: s.text[from:s.at], variable: true, quoted: quoted}
	if braces && s.at < len(s.text) && s.text[s.at] == '}' {
		s.at++
	}
	return p
}

func isName(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// maxDepth bounds how deep blocks lie in one another.
const maxDepth = 64

type parser struct {
	tokens []token
	at     int
	depth  int
}

// parse understands a script as a whole.
func parse(text string) ([]statement, error) {
	tokens, err := scan(text)
	if err != nil {
		return nil, err
	}
	p := &parser{tokens: tokens}
	list, err := p.statements()
	if err != nil {
		return nil, err
	}
	if t := p.tokens[p.at]; t.kind != endOfScript {
		return nil, &SyntaxError{t.line, "what stands here closes nothing"}
	}
	return list, nil
}

// keyword is the word as it stands, if it is quoted nowhere.
func (t token) keyword() string {
	if t.kind != aWord || len(t.word) != 1 || t.word[0].quoted || t.word[0].variable {
		return ""
	}
	return t.word[0].text
}

// until reads statements up to one of these words, a closing brace or the end: one at least,
// for a body without any is none.
func (p *parser) until(ends ...string) ([]statement, error) {
	line := p.tokens[p.at].line
	list, err := p.statements(ends...)
	if err == nil && len(list) == 0 {
		err = &SyntaxError{line, "nothing stands in what begins here"}
	}
	return list, err
}

func (p *parser) statements(ends ...string) (list []statement, err error) {
	if p.depth++; p.depth > maxDepth {
		return nil, &SyntaxError{p.tokens[p.at].line, "blocks lie too deep in one another"}
	}
	defer func() { p.depth-- }()
	for {
		t := p.tokens[p.at]
		switch {
		case t.kind == separator:
			p.at++
			continue
		case t.kind == endOfScript || t.kind == closeBrace:
			return list, nil
		}
		for _, end := range ends {
			if t.keyword() == end {
				return list, nil
			}
		}
		s, err := p.statement()
		if err != nil {
			return nil, err
		}
		list = append(list, s)
	}
}

func (p *parser) statement() (statement, error) {
	t := p.tokens[p.at]
	switch t.keyword() {
	case "then", "elif", "else", "fi", "do", "done":
		return statement{}, &SyntaxError{t.line, fmt.Sprintf("%q belongs to nothing", t.keyword())}
	case "if":
		return p.condition()
	case "for":
		return p.loopOver()
	case "while", "until":
		p.at++
		s := statement{kind: t.keyword(), line: t.line}
		test, err := p.upTo("do")
		if err != nil {
			return s, err
		}
		body, err := p.upTo("done")
		s.tests, s.bodies = [][]statement{test}, [][]statement{body}
		return s, err
	}
	return p.command()
}

// upTo reads statements and the word that ends them.
func (p *parser) upTo(end string) ([]statement, error) {
	line := p.tokens[p.at].line
	list, err := p.until(end)
	if err != nil {
		return nil, err
	}
	if p.tokens[p.at].keyword() != end {
		return nil, &SyntaxError{line, fmt.Sprintf("%q is missing", end)}
	}
	p.at++
	return list, nil
}

func (p *parser) condition() (statement, error) {
	s := statement{kind: "if", line: p.tokens[p.at].line}
	for {
		p.at++ // if or elif
		test, err := p.upTo("then")
		if err != nil {
			return s, err
		}
		body, err := p.until("elif", "else", "fi")
		if err != nil {
			return s, err
		}
		s.tests, s.bodies = append(s.tests, test), append(s.bodies, body)
		switch p.tokens[p.at].keyword() {
		case "elif":
			continue
		case "else":
			p.at++
			body, err := p.upTo("fi")
			s.bodies = append(s.bodies, body)
			return s, err
		case "fi":
			p.at++
			return s, nil
		}
		return s, &SyntaxError{s.line, `"fi" is missing`}
	}
}

func (p *parser) loopOver() (statement, error) {
	s := statement{kind: "for", line: p.tokens[p.at].line}
	s.variable = p.tokens[min(p.at+1, len(p.tokens)-1)].keyword()
	p.at += 3 // for NAME in
	if p.at >= len(p.tokens) || s.variable == "" {
		return s, &SyntaxError{s.line, `want "for NAME in WORDS; do"`}
	}
	for p.tokens[p.at].kind == aWord {
		s.words = append(s.words, p.tokens[p.at].word)
		p.at++
	}
	for p.tokens[p.at].kind == separator {
		p.at++
	}
	if p.tokens[p.at].keyword() != "do" {
		return s, &SyntaxError{s.line, `"do" is missing`}
	}
	p.at++
	body, err := p.upTo("done")
	s.bodies = [][]statement{body}
	return s, err
}

func (p *parser) command() (statement, error) {
	s := statement{line: p.tokens[p.at].line}
	for {
		switch t := p.tokens[p.at]; t.kind {
		case aWord:
			s.words = append(s.words, t.word)
			p.at++
		case openBrace:
			if len(s.words) == 0 {
				return s, &SyntaxError{t.line, "a brace stands behind nothing"}
			}
			p.at++
			block, err := p.until()
			if err != nil {
				return s, err
			}
			if p.tokens[p.at].kind != closeBrace {
				return s, &SyntaxError{t.line, "a brace that opens here is not closed"}
			}
			p.at++
			s.block = append([]statement{}, block...)
			return s, nil
		default:
			return s, nil
		}
	}
}
