package corbelfile

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"sort"
	"strings"
)

const settingsHead = "corbel-settings 1"

// Owners and grants that branches are shipped with.
const (
	OwnerSystem   = "system"
	GrantsShipped = "system:full,admins:full,users:read"
)

// A Tree holds the settings, branch by branch, in the order of the file.
type Tree struct {
	Branches []Branch
}

// A Branch of the settings. Damaged says why its values cannot be trusted.
type Branch struct {
	Name    string
	Owner   string
	Grants  string
	Values  map[string]string
	Damaged string

	raw []byte // the lines of values as they stood, kept when damaged
}

// Find returns a branch by its name, or nil.
func (t *Tree) Find(name string) *Branch {
	for i := range t.Branches {
		if t.Branches[i].Name == name {
			return &t.Branches[i]
		}
	}
	return nil
}

// Value is one value, empty when it is not there.
func (t *Tree) Value(branch, name string) string {
	if b := t.Find(branch); b != nil {
		return b.Values[name]
	}
	return ""
}

// Set changes one value. The branch must be there and sound.
func (t *Tree) Set(branch, name, value string) error {
	b := t.Find(branch)
	if b == nil || b.Damaged != "" {
		return &FormatError{
			In:   "corbel",
			What: "settings branch " + branch,
			Want: "a branch that is there and sound",
			Got:  "none",
		}
	}
	if name == "" || strings.ContainsAny(name, "=\r\n") || strings.ContainsAny(value, "\r\n") {
		return &FormatError{
			In:   "corbel",
			What: "settings value " + branch,
			Want: "a name without =, and a value, each in one line",
			Got:  fmt.Sprintf("%q = %q", name, value),
		}
	}
	if value == "" {
		delete(b.Values, name)
		return nil
	}
	b.Values[name] = value
	return nil
}

// SetOwner gives the branch to somebody, with grants. Both are single words.
func (b *Branch) SetOwner(owner, grants string) error {
	for _, word := range []string{owner, grants} {
		if word == "" || strings.ContainsAny(word, " \t\r\n") {
			return &FormatError{
				In:   "corbel",
				What: "settings branch " + b.Name,
				Want: "an owner and grants, each one word",
				Got:  fmt.Sprintf("%q", word),
			}
		}
	}
	b.Owner, b.Grants = owner, grants
	return nil
}

// Rename gives a value of a branch another name or, if name is empty, the branch
// itself. Nothing may be called so yet.
func (t *Tree) Rename(branch, name, to string) error {
	b := t.Find(branch)
	if b == nil || b.Damaged != "" {
		return &FormatError{
			In:   "corbel",
			What: "settings branch " + branch,
			Want: "a branch that is there and sound",
			Got:  "none",
		}
	}
	if name == "" {
		if to == "" || t.Find(to) != nil || strings.ContainsAny(to, "] \t\r\n") {
			return &FormatError{
				In:   "corbel",
				What: "settings branch " + branch,
				Want: "a name that no branch has, without spaces and ]",
				Got:  fmt.Sprintf("%q", to),
			}
		}
		b.Name = to
		return nil
	}
	value, there := b.Values[name]
	if _, taken := b.Values[to]; !there || taken || to == "" {
		return &FormatError{
			In:   "corbel",
			What: "settings value " + branch + " " + name,
			Want: "a value that is there, and a name that none has",
			Got:  fmt.Sprintf("%q to %q", name, to),
		}
	}
	if err := t.Set(branch, to, value); err != nil {
		return err
	}
	delete(b.Values, name)
	return nil
}

// ReadTree reads the settings. A branch that is damaged is kept as it is and
// said to be so; only a file that is none at all is refused.
func ReadTree(raw []byte) (*Tree, error) {
	head, rest, _ := bytes.Cut(raw, []byte("\n"))
	if string(head) != settingsHead {
		return nil, &FormatError{
			In:   "corbel",
			What: "settings: first line",
			Want: settingsHead,
			Got:  fmt.Sprintf("%.40q", head),
		}
	}
	t := &Tree{}
	var sum string
	seal := func() {
		if n := len(t.Branches); n > 0 {
			t.Branches[n-1].settle(sum)
		}
	}
	for line := range bytes.Lines(rest) {
		if name, attributes, ok := branchLine(string(line)); ok {
			seal()
			sum = attributes["sum"]
			t.Branches = append(t.Branches, Branch{
				Name:   name,
				Owner:  attributes["owner"],
				Grants: attributes["grants"],
				Values: map[string]string{},
			})
			continue
		}
		if len(t.Branches) == 0 {
			return nil, &FormatError{In: "corbel", What: "settings", Want: "a branch", Got: fmt.Sprintf("%.40q", line)}
		}
		b := &t.Branches[len(t.Branches)-1]
		b.raw = append(b.raw, line...)
	}
	seal()
	return t, nil
}

func branchLine(line string) (name string, attributes map[string]string, ok bool) {
	name, rest, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "] ")
	if !ok || !strings.HasPrefix(name, "[") {
		return "", nil, false
	}
	attributes = map[string]string{}
	for _, word := range strings.Fields(rest) {
		key, value, _ := strings.Cut(word, "=")
		attributes[key] = value
	}
	return name[1:], attributes, true
}

// settle reads the lines of a branch and holds them against its sum.
func (b *Branch) settle(sum string) {
	if got := checksum(b.raw); got != sum {
		b.Damaged = fmt.Sprintf("its sum is %s, computed %s", sum, got)
		return
	}
	for _, line := range strings.Split(strings.TrimSpace(string(b.raw)), "\n") {
		if key, value, ok := strings.Cut(line, "="); ok {
			b.Values[key] = value
		}
	}
}

func checksum(raw []byte) string { return fmt.Sprintf("%08x", crc32.ChecksumIEEE(raw)) }

// Bytes writes the tree. Damaged branches are written as they were found.
func (t *Tree) Bytes() []byte {
	out := []byte(settingsHead + "\n")
	for i := range t.Branches {
		b := &t.Branches[i]
		raw, sum := b.raw, ""
		if b.Damaged == "" {
			raw = nil
			var names []string
			for name := range b.Values {
				names = append(names, name)
			}
			sort.Strings(names)
			for _, name := range names {
				raw = append(raw, name+"="+b.Values[name]+"\n"...)
			}
			sum = checksum(raw)
		} else {
			sum = strings.TrimSuffix(strings.TrimPrefix(strings.SplitN(b.Damaged, ",", 2)[0], "its sum is "), ",")
		}
		out = append(out, fmt.Sprintf("[%s] owner=%s grants=%s sum=%s\n", b.Name, b.Owner, b.Grants, sum)...)
		out = append(out, raw...)
	}
	return out
}
