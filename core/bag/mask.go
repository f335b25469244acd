package bag

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"regexp"
	"slices"
	"strings"
)

// A Mask replaces what tells of people: addresses of machines in a network, addresses of mail, names of accounts. The
// same is replaced by the same throughout a bag, so that a reader still sees what belongs together. What stands there
// instead is reserved for documents (RFC 5737, RFC 3849, RFC 7042, RFC 2606).
//
//	m := bag.NewMask([]string{"eivind", "Eivind Skerrow"})
//	m.Text("from eivind@10.1.2.3") // from person-1@192.0.2.1
type Mask struct {
	people *regexp.Regexp // nil for none
	seen   map[string]string
	counts map[string]int
}

// What is looked for besides accounts.
var (
	mailAddress = regexp.MustCompile(`\b[\w.+-]+@[\w-]+(?:\.[\w-]+)+\b`)
	macAddress  = regexp.MustCompile(`\b(?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}\b`)
	ip4Address  = regexp.MustCompile(`\b\d{1,3}(?:\.\d{1,3}){3}\b`)
	ip6Address  = regexp.MustCompile(`[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7}`)
)

// leastAccount is the length from which on the name of an account is looked for, in bytes.
const leastAccount = 3

// NewMask makes a mask that replaces these names of accounts, too.
func NewMask(accounts []string) *Mask {
	m := &Mask{seen: map[string]string{}, counts: map[string]int{}}
	var names []string
	for _, a := range accounts {
		if len(a) >= leastAccount && !slices.Contains(names, regexp.QuoteMeta(a)) {
			names = append(names, regexp.QuoteMeta(a))
		}
	}
	slices.SortFunc(names, func(a, b string) int { return len(b) - len(a) }) // a full name before its parts
	if len(names) > 0 {
		m.people = regexp.MustCompile(`\b(?:` + strings.Join(names, "|") + `)\b`)
	}
	return m
}

// Text is a text with all of it replaced.
func (m *Mask) Text(s string) string {
	s = mailAddress.ReplaceAllStringFunc(s, func(text string) string {
		return m.instead("mail", text, func(n int) string { return fmt.Sprintf("mail-%d@people.example", n) })
	})
	s = macAddress.ReplaceAllStringFunc(s, func(text string) string {
		return m.instead("mac", strings.ToLower(text), func(n int) string {
			return fmt.Sprintf("00:00:5e:00:53:%02x", n%256)
		})
	})
	s = m.replaceIn(s, ip4Address, m.ip)
	s = m.replaceIn(s, ip6Address, m.ip)
	if m.people == nil {
		return s
	}
	return m.people.ReplaceAllStringFunc(s, func(text string) string {
		return m.instead("person", text, func(n int) string { return fmt.Sprintf("person-%d", n) })
	})
}

// replaceIn replaces matches that stand by themselves: a version such as 2.36.9.1-1 is no address.
func (m *Mask) replaceIn(s string, re *regexp.Regexp, by func(string) string) string {
	var b strings.Builder
	last := 0
	for _, at := range re.FindAllStringIndex(s, -1) {
		if isVersion(s[:at[0]], s[at[1]:]) {
			continue
		}
		b.WriteString(s[last:at[0]] + by(s[at[0]:at[1]]))
		last = at[1]
	}
	return b.String() + s[last:]
}

var (
	// beforeVersion is what stands before a version in what package tools print, or in a file's name.
	beforeVersion = regexp.MustCompile(
		`(?:(?:Unpacking|Setting up|Removing|Purging configuration files for|Processing triggers for) \S+ \(| over \(` +
			`|:[a-z]\w* \((?:[^()]*, )?|\d:|[A-Za-z][.+~_-]|_)$`,
	)
	afterVersion = regexp.MustCompile(`^(?:[+~_]|-[^\d]|-\d+(?:[^\d.]|$)|\.?[A-Za-z])`)
)

// isVersion reports whether what looks like an address is a version, by what stands around it. In doubt it is an
// address.
func isVersion(before, after string) bool {
	return beforeVersion.MatchString(before) || afterVersion.MatchString(after)
}

// ip replaces an address in a network. Those that every machine has stay.
func (m *Mask) ip(text string) string {
	a, err := netip.ParseAddr(text)
	if err != nil || a.IsLoopback() || a.IsUnspecified() || a.IsMulticast() || text == "255.255.255.255" {
		return text
	}
	if a.Is4() {
		nets := []string{"192.0.2", "198.51.100", "203.0.113"}
		return m.instead("ip4", text, func(n int) string {
			return fmt.Sprintf("%s.%d", nets[(n-1)/254%len(nets)], (n-1)%254+1)
		})
	}
	return m.instead("ip6", a.String(), func(n int) string { return fmt.Sprintf("2001:db8::%x", n) })
}

func (m *Mask) instead(kind, text string, make func(n int) string) string {
	key := kind + " " + text
	if m.seen[key] == "" {
		m.counts[kind]++
		m.seen[key] = make(m.counts[kind])
	}
	return m.seen[key]
}

// Counts says how many different ones were replaced, by what they are.
func (m *Mask) Counts() map[string]int { return m.counts }

// Copy copies a text with all of it replaced, and returns how many bytes it wrote.
func (m *Mask) Copy(to io.Writer, from io.Reader) (n int64, err error) {
	in := bufio.NewReaderSize(from, 1<<20) // a longer line is replaced in pieces
	for {
		line, err := in.ReadSlice('\n')
		if len(line) > 0 {
			w, werr := io.WriteString(to, m.Text(string(line)))
			if n += int64(w); werr != nil {
				return n, werr
			}
		}
		switch {
		case errors.Is(err, io.EOF):
			return n, nil
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return n, err
		}
	}
}

// Facts replaces it in all texts of facts. The machine's own name and the marks by which its disks are known stay:
// without them nothing could be mended.
func (m *Mask) Facts(f *Facts) error {
	raw, err := json.Marshal(f)
	if err != nil {
		return err
	}
	var all map[string]any
	if err := json.Unmarshal(raw, &all); err != nil {
		return err
	}
	for key, value := range all {
		if key != "machine" && key != "schema" && key != "gathered" {
			all[key] = m.value(value)
		}
	}
	if raw, err = json.Marshal(all); err != nil {
		return err
	}
	masked := Facts{}
	if err := json.Unmarshal(raw, &masked); err != nil {
		return err
	}
	masked.Masked = true
	*f = masked
	return nil
}

func (m *Mask) value(v any) any {
	switch v := v.(type) {
	case string:
		return m.Text(v)
	case []any:
		for i := range v {
			v[i] = m.value(v[i])
		}
	case map[string]any:
		for key := range v {
			if key != "marks" && key != "time" && key != "at" {
				v[key] = m.value(v[key])
			}
		}
	}
	return v
}
