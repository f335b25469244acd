package debian

import (
	"errors"
	"io"
	"sort"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/system"
)

// An Index is what a release's package lists offer for one architecture.
type Index struct {
	packages map[string]offer
	provides map[string][]provided
}

type offer struct {
	version   string
	download  int64
	installed int64
	needs     [][]relation // groups, each fulfilled by any of its relations
	likes     [][]relation // recommended: installed beside it by default
}

// A relation asks for a package, in some version (Debian Policy 7.1).
type relation struct{ name, operator, version string }

// provided is a package that provides a name, perhaps in a version.
type provided struct{ by, version string }

var indexFields = []string{
	"package", "version", "architecture", "size", "installed-size", "depends", "pre-depends", "recommends", "provides",
}

// ErrNotAnIndex means that a file holds no packages for the machine.
var ErrNotAnIndex = errors.New("holds no packages of this architecture: want a release's Packages file")

// ReadIndex reads Packages files of a release, one after the other. Of several
// versions of a package the newest counts.
func ReadIndex(arch string, files ...io.Reader) (*Index, error) {
	x := &Index{packages: map[string]offer{}, provides: map[string][]provided{}}
	for _, r := range files {
		err := eachParagraph(r, indexFields, func(p paragraph) error {
			name := p["package"]
			if name == "" || p["size"] == "" || p["architecture"] != arch && p["architecture"] != "all" {
				return nil
			}
			if old, ok := x.packages[name]; ok && CompareVersions(old.version, p["version"]) >= 0 {
				return nil
			}
			x.packages[name] = offer{
				p["version"], p.number("size"), p.kib("installed-size"),
				append(groups(p["pre-depends"]), groups(p["depends"])...), groups(p["recommends"]),
			}
			for _, g := range groups(p["provides"]) {
				x.provides[g[0].name] = append(x.provides[g[0].name], provided{name, g[0].version})
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	if len(x.packages) == 0 {
		return nil, ErrNotAnIndex
	}
	return x, nil
}

// groups reads a list of relations.
func groups(text string) [][]relation {
	if text == "" {
		return nil
	}
	var list [][]relation
	for _, group := range strings.Split(text, ",") {
		var alternatives []relation
		for _, one := range strings.Split(group, "|") {
			if r := parseRelation(one); r.name != "" {
				alternatives = append(alternatives, r)
			}
		}
		if len(alternatives) > 0 {
			list = append(list, alternatives)
		}
	}
	return list
}

// parseRelation reads "name:arch (>= version) [archs]".
func parseRelation(text string) relation {
	text, _, _ = strings.Cut(text, "[")
	name, rest, _ := strings.Cut(text, "(")
	name, _, _ = strings.Cut(strings.TrimSpace(name), ":")
	r := relation{name: name}
	if condition, _, ok := strings.Cut(rest, ")"); ok {
		r.version = strings.TrimLeft(condition, "<>= ")
		r.operator = strings.TrimSpace(condition[:len(condition)-len(r.version)])
	}
	return r
}

// met reports whether a version fulfils the relation. An empty version is that
// of a name that is provided without one.
func (r relation) met(version string) bool {
	if r.operator == "" {
		return true
	}
	if version == "" {
		return false
	}
	c := CompareVersions(version, r.version)
	switch r.operator {
	case "<<":
		return c < 0
	case "<=", "<":
		return c <= 0
	case "=":
		return c == 0
	case ">=", ">":
		return c >= 0
	case ">>":
		return c > 0
	}
	return false
}

// Plan computes what an upgrade of this system to the release would do: which
// packages are replaced, which come newly because others need them, how much
// is downloaded, and how much room it takes on which volume at its fullest.
// What new packages recommend comes with them, as apt does it by default.
func (x *Index) Plan(sys *bag.Installed, basis string) *system.UpgradePlan {
	p := &system.UpgradePlan{Held: []string{}, Missing: []string{}, Gone: []string{}, Basis: basis}
	have := map[string]string{} // in which version, afterwards
	for _, i := range sys.Packages {
		if i.State != "installed" {
			continue
		}
		have[i.Name] = i.Version
		if o := x.packages[i.Name]; !i.Held && CompareVersions(o.version, i.Version) > 0 {
			have[i.Name] = o.version
		}
	}
	var queue []string
	var grows, largest int64
	kernels := 0
	take := func(name string, old int64) {
		o := x.packages[name]
		p.Download += o.download
		grows += o.installed - old
		largest = max(largest, o.installed)
		queue = append(queue, name)
		if strings.HasPrefix(name, "linux-image-") && strings.ContainsAny(name, "0123456789") && o.installed > 1<<20 {
			kernels++
		}
	}
	for _, i := range sys.Packages {
		o, ok := x.packages[i.Name]
		switch {
		case i.State != "installed":
		case !ok:
			p.Gone = append(p.Gone, i.Name)
		case i.Held && CompareVersions(o.version, i.Version) > 0:
			p.Held = append(p.Held, i.Name)
		case CompareVersions(o.version, i.Version) > 0:
			p.Upgrades++
			take(i.Name, i.Size)
		}
	}
	missing, added := map[string]bool{}, map[string]bool{}
	for len(queue) > 0 {
		name := queue[0]
		queue = queue[1:]
		for _, group := range x.packages[name].likes {
			if pick, ok := x.choose(group, have); ok && pick != "" && added[name] {
				have[pick], added[pick] = x.packages[pick].version, true
				p.New++
				take(pick, 0)
			}
		}
		for _, group := range x.packages[name].needs {
			pick, ok := x.choose(group, have)
			switch {
			case ok && pick != "":
				have[pick], added[pick] = x.packages[pick].version, true
				p.New++
				take(pick, 0)
			case !ok:
				missing[words(group)] = true
			}
		}
	}
	for name := range missing {
		p.Missing = append(p.Missing, name)
	}
	sort.Strings(p.Missing)
	p.Needs = []system.Need{
		{Mount: "/var/cache/apt/archives", Terms: []system.Term{{What: "packages to download", Bytes: p.Download}}},
		{Mount: "/usr", Terms: []system.Term{
			{What: "installed size, new less old", Bytes: grows},
			{What: "the largest package, whose old and new files lie side by side", Bytes: largest},
		}},
	}
	if kernels > 0 && sys.KernelImage > 0 && sys.EarlyBoot > 0 {
		p.Needs = append(p.Needs, system.Need{Mount: "/boot", Terms: []system.Term{
			{What: "a new kernel, as large as the largest there", Bytes: int64(kernels) * sys.KernelImage},
			{What: "its early-boot image, likewise", Bytes: int64(kernels) * sys.EarlyBoot},
			{What: "that image once more, while it is written anew", Bytes: sys.EarlyBoot},
		}})
	}
	return p
}

// choose returns what has to be added so that one relation of the group is
// met; nothing when one is already. ok is false when the release offers none.
func (x *Index) choose(group []relation, have map[string]string) (pick string, ok bool) {
	for _, r := range group {
		if version, there := have[r.name]; there && r.met(version) {
			return "", true
		}
		for _, p := range x.provides[r.name] {
			if _, there := have[p.by]; there && r.met(p.version) {
				return "", true
			}
		}
	}
	for _, r := range group {
		if o, there := x.packages[r.name]; there && r.met(o.version) {
			return r.name, true
		}
		for _, p := range x.provides[r.name] {
			if r.met(p.version) {
				return p.by, true
			}
		}
	}
	return "", false
}

func words(group []relation) string {
	var list []string
	for _, r := range group {
		list = append(list, strings.TrimSpace(r.name+" "+r.operator+" "+r.version))
	}
	return strings.Join(list, " or ")
}
