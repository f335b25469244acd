package knowledge

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// A SiteLesson is what outcomes at a site have taught of a remedy for a cause.
type SiteLesson struct {
	Cause, Remedy string
	Helps         float64 // the chance that it helps, as it is known now
	Helped, Tried int     // machines
}

// leastTried is on how many machines a remedy has to have been tried before a site's word counts.
const leastTried = 3

// site is what a site's outcomes have taught, beside what is shipped.
type site struct {
	version string
	lessons map[string]SiteLesson
}

// ShippedHelp is the chance that a remedy helps, as it was shipped; 0 for one that is not known.
func (k *Knowledge) ShippedHelp(remedy string) float64 {
	if r := k.Remedies[remedy]; r != nil {
		return r.Helps
	}
	return 0
}

// WithSite is the knowledge with what outcomes at the site have taught. The same lessons give the
// same version, in whatever order they come.
func (k *Knowledge) WithSite(list []SiteLesson) *Knowledge {
	s := &site{lessons: map[string]SiteLesson{}}
	var lines []string
	for _, l := range list {
		if l.Tried >= leastTried && l.Helps > 0 && l.Helps <= 1 && k.Remedies[l.Remedy] != nil {
			s.lessons[l.Cause+"|"+l.Remedy] = l
			lines = append(lines, fmt.Sprintf("%s %s %.4f %d %d", l.Cause, l.Remedy, l.Helps, l.Helped, l.Tried))
		}
	}
	if len(lines) == 0 {
		return k
	}
	slices.Sort(lines)
	sum := sha256.Sum256([]byte(strings.Join(lines, "\n")))
	s.version = hex.EncodeToString(sum[:6])
	with := *k
	with.site = s
	return &with
}

// SiteVersion names what the site has taught; empty where that is nothing yet.
func (k *Knowledge) SiteVersion() string {
	if k.site == nil {
		return ""
	}
	return k.site.version
}

// Helps is the chance that a remedy helps against a cause: as the site has learned, or as it was
// shipped. said tells of the machines here, where there are some.
func (k *Knowledge) Helps(cause, remedy string) (chance float64, said string) {
	if k.site != nil {
		if l, ok := k.site.lessons[cause+"|"+remedy]; ok {
			return l.Helps, fmt.Sprintf("it helped on %d of %d machines here", l.Helped, l.Tried)
		}
	}
	if r := k.Remedies[remedy]; r != nil {
		return r.Helps, ""
	}
	return 0, ""
}
