package fleet

import (
	"sort"
	"strings"
)

// A Candidate is a healthy machine that may be like another.
type Candidate struct {
	Machine string
	Traits  map[string]string
}

// A Twin is a healthy machine, and how like it is.
type Twin struct {
	Machine string  `json:"machine"`
	Alike   float64 `json:"alike"` // share of all traits of both that are the same, 0 to 1
}

// aside are traits in which machines differ by themselves.
func aside(name string) bool { return name == "site" }

// Twins orders healthy machines by how like they are to one with these traits, the most alike
// first.
func Twins(traits map[string]string, healthy []Candidate, most int) []Twin {
	list := []Twin{}
	for _, c := range healthy {
		same := 0
		for name, value := range traits {
			if c.Traits[name] == value {
				same++
			}
		}
		all := len(traits) + len(c.Traits) - same
		if all > 0 {
			list = append(list, Twin{c.Machine, float64(same) / float64(all)})
		}
	}
	sort.Slice(list, func(i, k int) bool {
		if list[i].Alike != list[k].Alike {
			return list[i].Alike > list[k].Alike
		}
		return list[i].Machine < list[k].Machine
	})
	return list[:min(len(list), most)]
}

// A Difference is a trait in which a machine differs from its twin.
type Difference struct {
	Trait string `json:"trait"`
	Here  string `json:"here,omitempty"`  // empty where the machine does not have it
	There string `json:"there,omitempty"` // on the twin
	// Healthy is how many of the healthy machines that were looked at have it as it is here,
	// and Failing how many of those that fail in the same way.
	Healthy   int `json:"healthy"`
	OfHealthy int `json:"ofHealthy"`
	Failing   int `json:"failing"`
	OfFailing int `json:"ofFailing"`
}

// Differences lists in what a machine differs from a twin, the most suspect first: what healthy
// machines rarely have and failing ones often.
func Differences(traits map[string]string, twin Candidate, healthy, failing []Candidate) []Difference {
	list := []Difference{}
	add := func(name string) {
		here, there := traits[name], twin.Traits[name]
		if here == there || aside(name) {
			return
		}
		d := Difference{Trait: name, Here: here, There: there, OfHealthy: len(healthy), OfFailing: len(failing)}
		for _, c := range healthy {
			if c.Traits[name] == here {
				d.Healthy++
			}
		}
		for _, c := range failing {
			if c.Traits[name] == here {
				d.Failing++
			}
		}
		list = append(list, d)
	}
	for name := range traits {
		add(name)
	}
	for name := range twin.Traits {
		if _, both := traits[name]; !both {
			add(name)
		}
	}
	suspect := func(d Difference) float64 {
		return (float64(d.Failing)+0.5)/(float64(d.OfFailing)+1) - (float64(d.Healthy)+0.5)/(float64(d.OfHealthy)+1)
	}
	sort.Slice(list, func(i, k int) bool {
		if a, b := suspect(list[i]), suspect(list[k]); a != b {
			return a > b
		}
		return strings.Compare(list[i].Trait, list[k].Trait) < 0
	})
	return list
}
