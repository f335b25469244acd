package fleet

import (
	"cmp"
	"sort"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/docket"
)

// Traits are what is known of a machine, each by what it is: "model", "package sed",
// "service courier". They are what twins are found by, and how machines differ.
func Traits(facts *bag.Facts) map[string]string {
	m := map[string]string{}
	put := func(name, value string) {
		if value != "" && len(m) < mostTraits {
			m[name] = value
		}
	}
	put("site", facts.Machine.Site)
	put("model", facts.Machine.Model)
	if facts.Firmware != nil {
		put("firmware", string(facts.Firmware.Mode))
	}
	if in := facts.Installed; in != nil {
		put("system", in.Family)
		put("release", strings.TrimSpace(in.Name+" "+in.Version))
		put("architecture", in.Architecture)
		put("kernel", in.Kernel)
		put("language", in.Locale)
		for _, p := range in.Packages {
			if p.State == "installed" || p.State == "" {
				put("package "+p.Name, p.Version)
			}
		}
	}
	for _, d := range facts.Disks {
		put("table of "+d.ID, string(d.Style))
		for _, p := range d.Places() {
			if p.System != nil && m["release"] == "" {
				put("system", p.System.Family)
				put("release", strings.TrimSpace(p.System.Name+" "+p.System.Version))
			}
		}
	}
	if s := facts.State; s != nil {
		for _, svc := range s.Services {
			put("service "+svc.Name, svc.Start+map[bool]string{true: ", runs", false: ", does not run"}[svc.Running])
		}
		for _, l := range s.Chain {
			put("start: "+string(l.Kind)+" "+l.What, cmp.Or(string(l.Fault), "holds"))
		}
		for _, h := range s.History {
			put("update "+h.Title, h.Kind)
		}
	}
	return m
}

// mostTraits bounds what is kept of one machine.
const mostTraits = 6000

// mostTried bounds how many changes of an attempt count as attributes.
const mostTried = 20

// Attributes are the traits in which cohorts are compared with everybody else, each as
// "name=value", in order: those that few machines have alone would tell nothing, so packages
// count only where the attempt changed them.
func Attributes(traits map[string]string, d *docket.Docket) []string {
	var list []string
	for name, value := range traits {
		if !strings.HasPrefix(name, "package ") && !strings.HasPrefix(name, "start: ") {
			list = append(list, name+"="+value)
		}
	}
	if len(d.Attempts) > 0 {
		for i, c := range d.Attempts[0].Changes {
			if i == mostTried {
				break
			}
			if c.To != "" {
				list = append(list, "tried "+withoutVersion(c.Object)+"="+c.To)
			} else {
				list = append(list, "tried "+withoutVersion(c.Object)+"="+c.Action)
			}
		}
	}
	sort.Strings(list)
	return list
}
