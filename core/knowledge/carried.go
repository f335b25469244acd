package knowledge

import (
	"maps"
	"slices"
)

// Carried says how much of what can be wrong with a family's systems Diorthos puts right itself.
type Carried struct {
	Family   string `json:"family"`
	Remedies int    `json:"remedies"` // that its causes and its general ladder name
	ByHand   int    `json:"byHand"`   // of those, the ones for a person
	Causes   int    `json:"causes"`
	Reached  int    `json:"reached"` // causes of which some remedy changes something by itself
}

// Carried counts for each family, by its name.
func (k *Knowledge) Carried() (list []Carried) {
	for _, family := range slices.Sorted(maps.Keys(k.Families)) {
		c := Carried{Family: family}
		names := map[string]bool{}
		for _, cause := range k.Causes {
			if cause.Family != family {
				continue
			}
			c.Causes++
			for _, name := range cause.Remedies {
				names[name] = true
			}
			if slices.ContainsFunc(cause.Remedies, func(n string) bool { return k.Remedies[n].By == ByDiorthos }) {
				c.Reached++
			}
		}
		for _, name := range slices.Concat(k.Families[family].General, k.Families[family].GeneralOfStart) {
			names[name] = true
		}
		c.Remedies = len(names)
		for name := range names {
			if k.Remedies[name].By != ByDiorthos {
				c.ByHand++
			}
		}
		list = append(list, c)
	}
	return list
}
