package reading

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
)

// A StateForm describes a file that tells of the state of a machine rather
// than of what happened: what a tool printed, or an excerpt of a database. It
// is part of a dialect.
type StateForm struct {
	Of     string `yaml:"of"`     // volumes or packages
	Head   string `yaml:"head"`   // a line by which the file is known, whatever its name
	Record string `yaml:"record"` // one thing; its groups name what is told of it
	Scale  int64  `yaml:"scale"`  // bytes in a unit of size and free; 0 for sizes with a letter
	// Sections are lines that give all records below them a state.
	Sections []Section `yaml:"sections"`
	// Letters translate a state that is written as letters.
	Letters map[string]string `yaml:"letters"`

	head, record *regexp.Regexp
}

// A Section is a line with the state of what follows it.
type Section struct {
	Match string `yaml:"match"`
	State string `yaml:"state"`

	re *regexp.Regexp
}

// A StateRecord is one thing that a state file tells of: by group, in words.
type StateRecord struct {
	Of     string            `json:"of"`
	Place  Place             `json:"place"`
	Fields map[string]string `json:"fields"`
}

// maxState bounds how many records are taken of one file.
const maxState = 200_000

func (f *StateForm) compile() (err error) {
	if f.Of != "volumes" && f.Of != "packages" {
		return fmt.Errorf("state of %q: want volumes or packages", f.Of)
	}
	if f.head, err = regexp.Compile(f.Head); err != nil {
		return err
	}
	if f.record, err = regexp.Compile(f.Record); err != nil {
		return err
	}
	for i := range f.Sections {
		if f.Sections[i].re, err = regexp.Compile(f.Sections[i].Match); err != nil {
			return err
		}
	}
	return nil
}

// knows reports whether one of the first lines is the head.
func (f *StateForm) knows(lines []string) bool {
	for _, l := range lines[:min(len(lines), 40)] {
		if f.head.MatchString(strings.TrimRight(l, "\r")) {
			return true
		}
	}
	return false
}

// A stateReader takes the records of a file in which several tools may have printed what
// they measured, one below the other.
type stateReader struct {
	forms []*StateForm
	form  *StateForm // of what is being read; nil between
	// among says that what is no state stands in the file too, such as the screen of a run
	// on which somebody looked afterwards: an empty line ends what a tool printed there.
	among   bool
	section string
}

// read takes all records, and reports how many lines the file has.
func (s *stateReader) read(ctx context.Context, file string, in io.Reader) (list []StateRecord, count int, err error) {
	r := bufio.NewReaderSize(in, 64<<10)
	var offset int64
	for {
		if count%10_000 == 0 && ctx.Err() != nil {
			return list, count, ctx.Err()
		}
		raw, err := readLine(r)
		if len(raw) == 0 && err != nil {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return list, count, err
		}
		count++
		if fields := s.line(clean(trimEnd(raw))); fields != nil && len(list) < maxState {
			list = append(list, StateRecord{
				Of:     s.form.Of,
				Place:  Place{File: file, Line: count, Offset: offset, Length: len(raw)},
				Fields: fields,
			})
		}
		offset += int64(len(raw))
	}
}

// line is what one line tells; nil for nothing.
func (s *stateReader) line(text string) map[string]string {
	for _, f := range s.forms {
		if f.head.MatchString(text) {
			s.form, s.section = f, ""
		}
	}
	if s.among && strings.TrimSpace(text) == "" {
		s.form, s.section = nil, ""
	}
	if s.form == nil {
		return nil
	}
	for _, section := range s.form.Sections {
		if section.re.MatchString(text) {
			s.section = section.State
		}
	}
	m := s.form.record.FindStringSubmatch(text)
	if m == nil || len(s.form.Sections) > 0 && s.section == "" {
		return nil
	}
	return s.form.fields(m, s.section)
}

func trimEnd(raw []byte) []byte {
	for len(raw) > 0 && (raw[len(raw)-1] == '\n' || raw[len(raw)-1] == '\r') {
		raw = raw[:len(raw)-1]
	}
	return raw
}

func (f *StateForm) fields(m []string, section string) map[string]string {
	fields := map[string]string{}
	if section != "" {
		fields["state"] = section
	}
	for g, name := range f.record.SubexpNames() {
		if name == "" || m[g] == "" {
			continue
		}
		value := m[g]
		if name == "size" || name == "free" || name == "used" {
			value = f.bytes(value)
		}
		if word, ok := f.Letters[value]; ok && name == "state" {
			value = word
		}
		fields[name] = value
	}
	return fields
}

// bytes turns "1.5G", or a number in units of the scale, into bytes.
func (f *StateForm) bytes(s string) string {
	scale := float64(f.Scale)
	if f.Scale == 0 {
		scale = 1
		if i := strings.IndexByte("KMGTP", s[len(s)-1]); i >= 0 {
			scale = float64(int64(1) << (10 * (i + 1)))
			s = s[:len(s)-1]
		}
	}
	n, err := strconv.ParseFloat(strings.Replace(s, ",", ".", 1), 64)
	if err != nil {
		return "0"
	}
	return strconv.FormatInt(int64(n*scale), 10)
}
