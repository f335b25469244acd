package ladder

import (
	"testing"

	"diorthos/core/bag"
	"diorthos/core/diagnosis"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
)

// What outcomes at a site have taught turns the order of two remedies round, says so on the rung,
// and has a version of its own; two machines do not suffice.
func TestTheSitesOutcomesOrderTheLadder(t *testing.T) {
	remedy := func(id string, helps float64) *knowledge.Remedy {
		return &knowledge.Remedy{
			ID: id, Title: id, By: knowledge.ByHands, Invasive: knowledge.Undoable, Minutes: 5, Helps: helps,
		}
	}
	k := &knowledge.Knowledge{Remedies: map[string]*knowledge.Remedy{"old": remedy("old", 0.8), "new": remedy("new", 0.4)}}
	findings := []diagnosis.Finding{{Cause: "c", Title: "c", Probability: 0.95, Remedies: []string{"old", "new"}}}
	first := func(k *knowledge.Knowledge) Rung {
		return Build(findings, &bag.Facts{}, &reading.Timeline{}, k)[0]
	}
	lessons := []knowledge.SiteLesson{
		{Cause: "c", Remedy: "old", Helps: 0.2, Helped: 1, Tried: 9}, {Cause: "c", Remedy: "new", Helps: 0.9, Helped: 9,
			Tried: 9},
	}
	if r := first(k); r.Remedy != "old" || k.SiteVersion() != "" {
		t.Errorf("as shipped: %+v", r)
	}
	taught := k.WithSite(lessons)
	if r := first(taught); r.Remedy != "new" || r.Why != "c (95 %); it helped on 9 of 9 machines here" {
		t.Errorf("as taught: %+v", r)
	}
	turned := k.WithSite([]knowledge.SiteLesson{lessons[1], lessons[0]})
	if taught.SiteVersion() == "" || taught.SiteVersion() != turned.SiteVersion() {
		t.Errorf("versions %q and %q", taught.SiteVersion(), turned.SiteVersion())
	}
	if r := first(k.WithSite([]knowledge.SiteLesson{{Cause: "c", Remedy: "new", Helps: 0.99, Helped: 2,
		Tried: 2}})); r.Remedy != "old" {
		t.Errorf("of two machines: %+v", r)
	}
}
