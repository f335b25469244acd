package diagnosis

import (
	"cmp"
	"slices"

	"diorthos/core/knowledge"
)

// A KindShare says how sure it is of which kind a failure is, whichever of the causes
// of that kind it has.
type KindShare struct {
	Kind        string  `json:"kind"`
	Domain      string  `json:"domain"`
	Title       string  `json:"title"`
	Explains    string  `json:"explains"`
	Probability float64 `json:"probability"`
}

// Kinds sums findings up by kind, the likeliest first. What none of the known causes
// explains is of no kind.
func Kinds(findings []Finding, kinds map[string]*knowledge.Kind) []KindShare {
	list := []KindShare{}
	for _, f := range findings {
		kind := kinds[f.Kind]
		if kind == nil {
			continue
		}
		i := slices.IndexFunc(list, func(s KindShare) bool { return s.Kind == f.Kind && s.Explains == f.Explains })
		if i < 0 {
			i = len(list)
			list = append(list, KindShare{Kind: kind.ID, Domain: kind.Domain, Title: kind.Title, Explains: f.Explains})
		}
		list[i].Probability = round(list[i].Probability + f.Probability)
	}
	slices.SortStableFunc(list, func(a, b KindShare) int { return cmp.Compare(b.Probability, a.Probability) })
	return list
}
