package knowledge

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Warnings lists what is in order by itself and can never come to anything: a
// cause that no signature points to, a remedy that no cause names, a signature
// that looks for a code that no family has.
func (k *Knowledge) Warnings() (list []string) {
	pointed, named := map[string]bool{}, map[string]bool{}
	for _, s := range k.Signatures {
		pointed[s.Cause] = true
	}
	for _, id := range slices.Sorted(maps.Keys(k.Causes)) {
		c := k.Causes[id]
		if !pointed[id] {
			list = append(list, fmt.Sprintf("%s: cause %q: no signature points to it, so that it is never found", c.file, id))
		}
		for _, r := range c.Remedies {
			named[r] = true
		}
	}
	for _, f := range k.Families {
		for _, r := range slices.Concat(f.General, f.GeneralOfStart) {
			named[r] = true
		}
	}
	for _, id := range slices.Sorted(maps.Keys(k.Remedies)) {
		if !named[id] {
			list = append(
				list, fmt.Sprintf("%s: remedy %q: no cause names it, so that it is never a rung", k.Remedies[id].file, id),
			)
		}
	}
	for _, s := range k.Signatures {
		for _, code := range k.unlistedCodes(s) {
			list = append(list, fmt.Sprintf("%s: signature %q: no family of codes has %s", s.file, s.ID, code))
		}
	}
	return list
}

var codeInPattern = regexp.MustCompile(`0x[0-9a-fA-F]{8}`)

// unlistedCodes are the codes that a signature's patterns name and no family
// lists.
func (k *Knowledge) unlistedCodes(s *Signature) (list []string) {
	for _, e := range s.Events {
		for _, code := range codeInPattern.FindAllString(e.Match, -1) {
			if !k.Codes.Explain(strings.ToLower(code)).Known() {
				list = append(list, code)
			}
		}
	}
	return list
}
