package debian

import (
	"errors"
	"io"
	"sort"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/readiness"
)

// An Index is what a release's package lists offer for one architecture.
type Index struct {
	packages map[string]offer
	provides map[string][]string // virtual name → packages
}

type offer struct {
	version   string
	download  int64
	installed int64
	needs     [][]string // groups, each fulfilled by any of its names
	likes     [][]string // recommended: installed beside it by default
}

var indexFields = []string{"package", "version", "architecture", "size", "installed-size", "depends", "pre-depends", "recommends", "provides"}

// ErrNotAnIndex means that a file holds no packages for the machine.
var ErrNotAnIndex = errors.New("holds no packages of this architecture: want a release's Packages file")

// ReadIndex reads Packages files of a release, one after the other. Of several
// versions of a package the newest counts.
func ReadIndex(arch string, files ...io.Reader) (*Index, error) {
	x := &Index{packages: map[string]offer{}, provides: map[string][]string{}}
	for _, r := range files {
		err := eachParagraph(r, indexFields, func(p paragraph) error {
			name := p["package"]
			if name == "" || p["size"] == "" || p["architecture"] != arch && p["architecture"] != "all" {
				return nil
			}
			if old, ok := x.packages[name]; ok && CompareVersions(old.version, p["version"]) >= 0 {
				return nil
			}
			x.packages[name] = offer{p["version"], p.number("size"), p.kib("installed-size"), append(groups(p["pre-depends"]), groups(p["depends"])...), groups(p["recommends"])}
			for _, g := range groups(p["provides"]) {
				x.provides[g[0]] = append(x.provides[g[0]], name)
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

// groups reads a list of relations (Debian Policy 7.1) without versions.
func groups(text string) [][]string {
	if text == "" {
		return nil
	}
	var list [][]string
	for _, group := range strings.Split(text, ",") {
		var names []string
		for _, one := range strings.Split(group, "|") {
			name, _, _ := strings.Cut(strings.TrimSpace(one), " ")
			name, _, _ = strings.Cut(name, "(")
			name, _, _ = strings.Cut(name, ":")
			if name != "" {
				names = append(names, name)
			}
		}
		if len(names) > 0 {
			list = append(list, names)
		}
	}
	return list
}

// Plan computes what an upgrade of this system to the release would do: which
// packages are replaced, which come newly because others need them, how much
// is downloaded, and how much room it takes on which volume at its fullest.
// What new packages recommend comes with them, as apt does it by default.
func (x *Index) Plan(sys *bag.Installed, basis string) *readiness.Plan {
	p := &readiness.Plan{Held: []string{}, Missing: []string{}, Gone: []string{}, Basis: basis}
	have := map[string]bool{}
	for _, i := range sys.Packages {
		if i.State == "installed" {
			have[i.Name] = true
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
				have[pick], added[pick] = true, true
				p.New++
				take(pick, 0)
			}
		}
		for _, group := range x.packages[name].needs {
			pick, ok := x.choose(group, have)
			switch {
			case ok && pick != "":
				have[pick], added[pick] = true, true
				p.New++
				take(pick, 0)
			case !ok:
				missing[strings.Join(group, " or ")] = true
			}
		}
	}
	for name := range missing {
		p.Missing = append(p.Missing, name)
	}
	sort.Strings(p.Missing)
	p.Needs = []readiness.Need{
		{Mount: "/var/cache/apt/archives", Terms: []readiness.Term{{What: "packages to download", Bytes: p.Download}}},
		{Mount: "/usr", Terms: []readiness.Term{{What: "installed size, new less old", Bytes: grows}, {What: "the largest package, whose old and new files lie side by side", Bytes: largest}}},
	}
	if kernels > 0 && sys.KernelImage > 0 && sys.EarlyBoot > 0 {
		p.Needs = append(p.Needs, readiness.Need{Mount: "/boot", Terms: []readiness.Term{
			{What: "a new kernel, as large as the largest there", Bytes: int64(kernels) * sys.KernelImage},
			{What: "its early-boot image, likewise", Bytes: int64(kernels) * sys.EarlyBoot},
			{What: "that image once more, while it is written anew", Bytes: sys.EarlyBoot},
		}})
	}
	return p
}

// choose returns what has to be added so that one name of the group is there;
// nothing when one is already. ok is false when the release offers none.
func (x *Index) choose(group []string, have map[string]bool) (pick string, ok bool) {
	for _, name := range group {
		if have[name] {
			return "", true
		}
		for _, provider := range x.provides[name] {
			if have[provider] {
				return "", true
			}
		}
	}
	for _, name := range group {
		if _, there := x.packages[name]; there {
			return name, true
		}
		if list := x.provides[name]; len(list) > 0 {
			return list[0], true
		}
	}
	return "", false
}
