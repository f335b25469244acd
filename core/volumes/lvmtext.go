package volumes

import (
	"fmt"
	"strconv"
	"strings"
)

// A group is a section of LVM2's text metadata: values and further sections, in their order.
type group struct {
	name   string
	values map[string][]string // a list has several
	groups []*group
}

func (g *group) find(name string) *group {
	for _, c := range g.groups {
		if c.name == name {
			return c
		}
	}
	return nil
}

func (g *group) text(name string) string {
	if v := g.values[name]; len(v) == 1 {
		return v[0]
	}
	return ""
}

func (g *group) number(name string) int64 {
	n, err := strconv.ParseInt(g.text(name), 10, 64)
	if err != nil {
		return 0
	}
	return n
}

func (g *group) list(name string) []string { return g.values[name] }

// parseGroup reads a text: the section of a volume group, and values behind it.
func parseGroup(text string) (*group, error) {
	p := &lvmParser{rest: text}
	name := p.word()
	if p.punctuation() != '{' || name == "" {
		return nil, fmt.Errorf("lvm metadata: want a section, found %.20q", text)
	}
	return p.section(name, 0)
}

type lvmParser struct{ rest string }

// skip goes over spaces and comments.
func (p *lvmParser) skip() {
	for {
		p.rest = strings.TrimLeft(p.rest, " \t\r\n")
		if !strings.HasPrefix(p.rest, "#") {
			return
		}
		if _, p.rest, _ = strings.Cut(p.rest, "\n"); p.rest == "" {
			return
		}
	}
}

// word reads a name or a number.
func (p *lvmParser) word() string {
	p.skip()
	end := strings.IndexAny(p.rest, " \t\r\n={}[],\"#")
	if end < 0 {
		end = len(p.rest)
	}
	w := p.rest[:end]
	p.rest = p.rest[end:]
	return w
}

// punctuation reads one character; 0 at the end.
func (p *lvmParser) punctuation() byte {
	p.skip()
	if p.rest == "" {
		return 0
	}
	c := p.rest[0]
	p.rest = p.rest[1:]
	return c
}

func (p *lvmParser) section(name string, depth int) (*group, error) {
	if depth > 8 {
		return nil, fmt.Errorf("lvm metadata: section %q lies too deep", name)
	}
	g := &group{name: name, values: map[string][]string{}}
	for {
		key := p.word()
		switch c := p.punctuation(); {
		case key == "" && c == '}':
			return g, nil
		case key == "" || c == 0:
			return nil, fmt.Errorf("lvm metadata: section %q does not end", name)
		case c == '{':
			child, err := p.section(key, depth+1)
			if err != nil {
				return nil, err
			}
			g.groups = append(g.groups, child)
		case c == '=':
			values, err := p.value()
			if err != nil {
				return nil, fmt.Errorf("lvm metadata: %q: %w", key, err)
			}
			g.values[key] = values
		default:
			return nil, fmt.Errorf("lvm metadata: %q is followed by %q", key, c)
		}
	}
}

// value reads a text, a number, or a list of them.
func (p *lvmParser) value() ([]string, error) {
	p.skip()
	if !strings.HasPrefix(p.rest, "[") {
		v, err := p.one()
		return []string{v}, err
	}
	p.rest = p.rest[1:]
	list := []string{}
	for {
		p.skip()
		switch {
		case strings.HasPrefix(p.rest, "]"):
			p.rest = p.rest[1:]
			return list, nil
		case strings.HasPrefix(p.rest, ","):
			p.rest = p.rest[1:]
			continue
		}
		v, err := p.one()
		if err != nil {
			return nil, err
		}
		list = append(list, v)
	}
}

func (p *lvmParser) one() (string, error) {
	if !strings.HasPrefix(p.rest, `"`) {
		w := p.word()
		if w == "" {
			return "", fmt.Errorf("want a value, found %.10q", p.rest)
		}
		return w, nil
	}
	var b strings.Builder
	for i := 1; i < len(p.rest); i++ {
		switch c := p.rest[i]; c {
		case '"':
			p.rest = p.rest[i+1:]
			return b.String(), nil
		case '\\':
			if i++; i < len(p.rest) {
				b.WriteByte(p.rest[i])
			}
		default:
			b.WriteByte(c)
		}
	}
	return "", fmt.Errorf("its text does not end")
}
