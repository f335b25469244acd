package diagnosis

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"time"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
)

// An Evidence is one thing that speaks for or against a cause.
type Evidence struct {
	Kind  string         `json:"kind"`            // "log" or "fact"
	Place *reading.Place `json:"place,omitempty"` // of a log
	Text  string         `json:"text"`            // the quoted record, or the fact in words
	Means string         `json:"means,omitempty"` // a record that was logged in another language, in the original one
	Odds  float64        `json:"odds"`            // by how much it changes the odds of the cause
}

// A Finding is a cause with the evidence for and against it.
type Finding struct {
	Cause       string     `json:"cause"`
	Title       string     `json:"title"`
	Kind        string     `json:"kind,omitempty"` // which sort of failure it is; none of a cause that is not known
	Explains    string     `json:"explains"`       // start or attempt
	Tell        string     `json:"tell"`
	Probability float64    `json:"probability"` // 0 to 1, among all that can explain the same thing
	For         []Evidence `json:"for"`
	Against     []Evidence `json:"against"`
	// KindOnly says that the kind of failure is known, and no closer cause.
	KindOnly bool `json:"kindOnly,omitempty"`
	// Possible says that it can have the effect, and need not: a machine may start all the same.
	Possible bool `json:"possible,omitempty"`
	// MendedSince says that what its screen showed can be from before a repair: no link is broken any more.
	MendedSince bool     `json:"mendedSince,omitempty"`
	Remedies    []string `json:"remedies"`

	latent bool // see knowledge.Cause
}

// Unknown is the cause of a finding that says that none of the known causes
// fits.
const Unknown = "none-known"

// shown is the least probability with which a cause is worth a technician's
// time.
const shown = 0.02

// unexplained is the weight of "none of the known causes", on the scale of
// prior times odds: what the priors of the known causes leave over.
const unexplained = 0.2

// kindUnknown is the share of what is unexplained that is not even of the kind that
// was recognised.
const kindUnknown = 0.1

// maxQuotes bounds how many records are quoted for one pattern.
const maxQuotes = 3

// Rank weighs every cause for what has to be explained: an attempt that
// failed, a machine that does not start. A machine with neither gets none.
// Notes say which signatures could not be asked of these facts: they count as
// not known.
func Rank(
	timeline *reading.Timeline, facts *bag.Facts, k *knowledge.Knowledge,
) (list []Finding, notes []string, err error) {
	asked, err := facts.AsMap()
	if err != nil {
		return nil, nil, err
	}
	w := &weighing{facts: asked, limits: k.Limits}
	views := map[string]*reading.Timeline{}
	for _, explains := range []string{knowledge.ExplainsStart, knowledge.ExplainsAttempt} {
		views[explains] = about(timeline, explains)
	}
	family := facts.Family()
	found := map[string]*Finding{}
	weights := map[string]float64{} // odds times prior
	for _, s := range k.Signatures {
		if of := k.Causes[s.Cause].Family; of != "" && family != "" && of != family {
			continue
		}
		w.timeline = views[k.Causes[s.Cause].Explains]
		f, odds := w.weigh(s, k.Causes[s.Cause])
		if f == nil {
			continue
		}
		if weight := odds * k.Causes[s.Cause].Prior; weight > weights[s.Cause] {
			found[s.Cause], weights[s.Cause] = f, weight
		}
	}
	for id, f := range found {
		view := views[f.Explains]
		weights[id] *= notHelped(f, facts, view, k) * saidByAnother(f, view, k) * passedOn(f, view, k)
	}
	for _, explains := range []string{knowledge.ExplainsStart, knowledge.ExplainsAttempt} {
		list = append(list, compete(explains, found, weights, views[explains], brokenLink(explains, facts))...)
		if m := notStartedSince(explains, facts, k); m != "" {
			for i := range list {
				if f := &list[i]; f.Cause == Unknown && f.Explains == explains {
					f.Title, f.Tell, f.MendedSince = "Mended, and not started since", m, true
				}
			}
		}
	}
	return list, w.notes, nil
}

// about is the timeline without the attempts of which something else has to be explained: the starts
// of the machine, where it is why an attempt failed; what else was tried, where it is why the machine
// does not start, if a start is among them.
func about(timeline *reading.Timeline, explains string) *reading.Timeline {
	view := *timeline
	starts := explains == knowledge.ExplainsStart
	if starts && !slices.ContainsFunc(timeline.Attempts, isStart) {
		return timeline
	}
	view.Attempts = slices.DeleteFunc(
		slices.Clone(timeline.Attempts),
		func(a *reading.Attempt) bool { return isStart(a) != starts },
	)
	return &view
}

func isStart(a *reading.Attempt) bool { return a.Kind == reading.Start }

// Tried are the remedies that were carried out before what has to be explained
// failed again, each with what is known of it.
func Tried(explains string, facts *bag.Facts, timeline *reading.Timeline) map[string]bag.Mended {
	list := map[string]bag.Mended{}
	latest := timeline.Latest()
	for _, m := range facts.Mended {
		if m.Outcome != provenOutcome && m.Outcome != notHelpedOutcome {
			continue // nothing was changed by it
		}
		again := latest != nil && wants(latest) == explains && !latest.Began.IsZero() &&
			!inSeconds(m.At).After(latest.Began) &&
			!helpedOnce(m.At, latest, timeline)
		if explains == knowledge.ExplainsStart && facts.State != nil {
			again = again || facts.State.Chain.Broken() != nil && !m.At.Truncate(time.Second).After(facts.Gathered)
		}
		if again || m.Outcome == notHelpedOutcome {
			list[m.Remedy] = m
		}
	}
	return list
}

// inSeconds is a time as logs tell it.
func inSeconds(t time.Time) time.Time { return t.Truncate(time.Second) }

// helpedOnce reports whether something of the kind that fails now went well after a remedy: then it did help.
func helpedOnce(at time.Time, latest *reading.Attempt, timeline *reading.Timeline) bool {
	return slices.ContainsFunc(timeline.Attempts, func(a *reading.Attempt) bool {
		return a.Outcome == reading.Succeeded && a.Kind != reading.Repair && wants(a) == wants(latest) &&
			!a.Began.Before(inSeconds(at)) && a.Began.Before(latest.Began)
	})
}

// Failed are the remedies that could not be carried out when they were tried last: a guard refused them, or their proof
// failed and they were taken back.
func Failed(facts *bag.Facts) map[string]bag.Mended {
	list := map[string]bag.Mended{}
	for _, m := range facts.Mended { // the oldest first
		switch m.Outcome {
		case refusedOutcome, takenBackOutcome:
			list[m.Remedy] = m
		case provenOutcome:
			delete(list, m.Remedy)
		}
	}
	return list
}

// Since are the remedies, or the actions of some, that were carried out after what has to be explained failed, and
// before anything was tried again.
func Since(explains string, facts *bag.Facts, timeline *reading.Timeline) map[string]bag.Mended {
	list := map[string]bag.Mended{}
	latest := timeline.Latest()
	if latest == nil || wants(latest) != explains || latest.Ended.IsZero() {
		return list
	}
	for _, m := range facts.Mended {
		if m.Outcome == provenOutcome && inSeconds(m.At).After(latest.Ended) {
			list[m.Remedy] = m
		}
	}
	return list
}

// What climbs call a remedy that was carried out, a step by hand that did not help, and a remedy that a guard refused
// or whose proof failed.
const (
	provenOutcome    = "proven"
	notHelpedOutcome = "not helped"
	refusedOutcome   = "refused"
	takenBackOutcome = "taken back"
)

// notHelped is what the odds of a cause lose when its remedies were carried out and
// the failure is still there.
func notHelped(f *Finding, facts *bag.Facts, timeline *reading.Timeline, k *knowledge.Knowledge) float64 {
	tried := Tried(f.Explains, facts, timeline)
	odds := 1.0
	for _, id := range f.Remedies {
		m, ok := tried[id]
		if !ok {
			continue
		}
		r := k.Remedies[id]
		left := max(1-r.Helps, 0.05)
		odds *= left
		f.Against = append(f.Against, Evidence{
			Kind: "fact",
			Text: fmt.Sprintf("%q was carried out on %s, and it fails all the same", r.Title, m.At.Format("2006-01-02 15:04")),
			Odds: left,
		})
	}
	return odds
}

// byAnother is by how much it speaks against a cause of the package tool's own that what
// runs for a package said the decisive words.
const byAnother = 0.03

func saidByAnother(f *Finding, timeline *reading.Timeline, k *knowledge.Knowledge) float64 {
	a, kind := timeline.Latest(), k.Kinds[f.Kind]
	if kind == nil || !kind.OfTool || a == nil || a.Decisive == nil || a.Decisive.Speaker.Package == "" {
		return 1
	}
	f.Against = append(f.Against, Evidence{
		Kind: "log", Place: &a.Decisive.Place, Text: "it was said by " + a.Decisive.Speaker.String(), Odds: byAnother,
	})
	return byAnother
}

// onlyPassedOn is by how much it speaks against a cause that tells who failed that the
// decisive record holds what the kernel answered.
const onlyPassedOn = 0.03

func passedOn(f *Finding, timeline *reading.Timeline, k *knowledge.Knowledge) float64 {
	a := timeline.Latest()
	if a == nil || a.Decisive == nil || !a.Decisive.Answered() || !k.Causes[f.Cause].PassesOn {
		return 1
	}
	f.Against = append(f.Against, Evidence{
		Kind: "log", Place: &a.Decisive.Place, Odds: onlyPassedOn,
		Text: "the kernel's answer says more than who passed it on",
	})
	return onlyPassedOn
}

// A weighing is what signatures are held against.
type weighing struct {
	timeline *reading.Timeline
	facts    map[string]any
	limits   knowledge.Limits
	notes    []string // what could not be asked
}

// weigh collects the evidence of one signature. It returns nil when nothing
// speaks for it.
func (w *weighing) weigh(s *knowledge.Signature, c *knowledge.Cause) (*Finding, float64) {
	timeline := w.timeline
	f := &Finding{
		Cause:    c.ID,
		Title:    c.Title,
		Explains: c.Explains,
		latent:   c.Latent,
		Tell:     c.Tell,
		Remedies: c.Remedies,
		Kind:     c.Kind,
		KindOnly: c.CatchAll,
		Possible: c.Possible,
		For:      []Evidence{},
		Against:  []Evidence{},
	}
	odds := 1.0
	for i, p := range s.Events {
		seen := quotes(timeline, p.In, s.WatchID(i))
		if p.Peer {
			seen = slices.DeleteFunc(seen, func(e reading.Event) bool { return e.Peer == "" })
		}
		if len(seen) == 0 {
			odds *= p.Otherwise
			if p.Otherwise < 1 {
				f.Against = append(f.Against, Evidence{
					Kind: "log",
					Text: fmt.Sprintf("no record of the %s is one that %q would leave", scope(p.In), c.Title),
					Odds: p.Otherwise,
				})
			}
			continue
		}
		odds *= nearness(timeline, p, seen)
		for _, e := range seen[:min(len(seen), maxQuotes)] {
			f.add(Evidence{Kind: "log", Place: &e.Place, Text: e.Text, Means: e.Means, Odds: p.Odds})
		}
	}
	if a := timeline.Latest(); s.Attempt != "" {
		if a == nil || a.Outcome != s.Attempt || s.Stage != "" && a.Stage != s.Stage {
			return nil, 0
		}
		odds *= s.Odds
		f.add(Evidence{
			Kind:  "log",
			Place: place(a),
			Text:  fmt.Sprintf("the attempt was %s; stage: %s", a.Outcome, cmp.Or(a.Stage, "not known")),
			Odds:  s.Odds,
		})
	}
	for _, c := range s.Facts {
		a := c.Ask(w.facts, w.limits)
		for _, why := range a.Unknown {
			w.notes = append(w.notes, fmt.Sprintf("signature %s: not known: %s", s.ID, why))
		}
		switch {
		case len(a.Says) > 0:
			odds *= c.Odds
		case len(a.Unknown) == 0:
			odds *= c.Otherwise
		}
		for _, text := range a.Says[:min(len(a.Says), maxQuotes)] {
			f.add(Evidence{Kind: "fact", Text: text, Odds: c.Odds})
		}
	}
	if len(f.For) == 0 || odds == 0 {
		return nil, 0
	}
	return f, odds
}

// nearness is by how much the odds of a pattern count. One that is looked for
// in the whole attempt counts whole if the decisive event matches it; if only
// other records do, it says less, and counts by its square root.
func nearness(timeline *reading.Timeline, p knowledge.EventPattern, seen []reading.Event) float64 {
	odds := p.Odds
	a := timeline.Latest()
	if p.In != knowledge.InAttempt || a == nil || a.Decisive == nil ||
		slices.ContainsFunc(seen, func(e reading.Event) bool { return e.Place == a.Decisive.Place }) {
		return odds
	}
	return math.Sqrt(odds)
}

// place is where an attempt was struck, if that is known.
func place(a *reading.Attempt) *reading.Place {
	if a.Decisive == nil {
		return nil
	}
	return &a.Decisive.Place
}

func scope(in string) string {
	if in == knowledge.Anywhere {
		return "logs"
	}
	return in
}

func (f *Finding) add(e Evidence) {
	list := &f.For
	if e.Odds < 1 {
		list = &f.Against
	}
	if e.Place != nil && slices.ContainsFunc(*list, func(o Evidence) bool {
		return o.Place != nil && *o.Place == *e.Place
	}) {
		return // one record, two patterns: quoted once
	}
	*list = append(*list, e)
}

// quotes lists the records that match a watched pattern in its scope.
func quotes(timeline *reading.Timeline, in, id string) []reading.Event {
	var pool []reading.Event
	a := timeline.Latest()
	switch {
	case in == knowledge.Anywhere:
		pool = timeline.Unassigned
		for _, a := range timeline.Attempts {
			pool = append(pool, a.Events()...)
		}
	case a == nil:
	case in == knowledge.InDecisive && a.Decisive != nil:
		pool = []reading.Event{*a.Decisive}
	case in == knowledge.InChain:
		pool = a.Chain
	case in == knowledge.InAttempt, in == knowledge.InStart && isStart(a):
		pool = a.Events()
	}
	var list []reading.Event
	for _, e := range pool {
		if slices.Contains(e.Hits, id) {
			list = append(list, e)
		}
	}
	return list
}

// compete turns weights into probabilities among the causes that explain the
// same thing, and that none of them is it.
func compete(
	explains string, found map[string]*Finding, weights map[string]float64, timeline *reading.Timeline, broken *boot.Link,
) []Finding {
	var list []Finding
	var kind *Finding
	failed := explains == wants(timeline.Latest()) || broken != nil
	for _, id := range slices.Sorted(maps.Keys(found)) { // in one order: sums depend on it
		f := found[id]
		if f.Explains != explains || failed && f.latent {
			continue
		}
		f.Probability = weights[id]
		switch {
		case !f.KindOnly:
			list = append(list, *f)
		case kind == nil || f.Probability > kind.Probability:
			kind = f
		}
	}
	if len(list) == 0 && !failed {
		return nil
	}
	none := unexplained
	total := none
	if kind != nil { // of what no known cause explains, the kind is known at least
		none *= kindUnknown
		kind.Probability = unexplained - none
		list, total = append(list, *kind), none
	}
	for _, f := range list {
		total += f.Probability
	}
	kept := list[:0]
	for _, f := range list {
		f.Probability = round(f.Probability / total)
		if f.Probability >= shown {
			kept = append(kept, f)
		}
	}
	if p := round(none / total); failed && p >= shown {
		kept = append(kept, unknown(p, explains, timeline.Latest(), broken))
	}
	sort.Slice(kept, func(i, k int) bool {
		if kept[i].Probability != kept[k].Probability {
			return kept[i].Probability > kept[k].Probability
		}
		return kept[i].Cause < kept[k].Cause
	})
	return kept
}

// brokenLink is the link of the chain that keeps the machine from starting; nil when
// all of them hold, or something else is to be explained.
func brokenLink(explains string, facts *bag.Facts) *boot.Link {
	if explains != knowledge.ExplainsStart || facts.State == nil {
		return nil
	}
	return facts.State.Chain.Broken()
}

// notStartedSince says what was carried out when no link is broken any more by which
// the machine starts: what its screen showed can be from before. Else it is empty.
func notStartedSince(explains string, facts *bag.Facts, k *knowledge.Knowledge) string {
	if explains != knowledge.ExplainsStart || facts.State == nil || len(facts.State.Chain) == 0 ||
		facts.State.Chain.Broken() != nil {
		return ""
	}
	for _, m := range slices.Backward(facts.Mended) {
		if what := mends(m.Remedy, k); what != "" && m.Outcome == provenOutcome {
			return fmt.Sprintf(
				"%q was carried out on %s, and no link is broken any more by which the machine starts. What its screen "+
					"shows may be from before: start it, and look anew.", what, m.At.Format("2006-01-02 15:04"),
			)
		}
	}
	return ""
}

// mends is the title of a remedy, or of one whose action a person took by itself; empty where it is neither.
func mends(done string, k *knowledge.Knowledge) string {
	if r := k.Remedies[done]; r != nil {
		return r.Title
	}
	for _, id := range slices.Sorted(maps.Keys(k.Remedies)) {
		if r := k.Remedies[id]; done != "" && string(r.Action) == done {
			return r.Title
		}
	}
	return ""
}

// wants is what has to be explained of the latest attempt: that the machine
// did not start, if a start is what failed. Nothing, if none failed.
func wants(a *reading.Attempt) string {
	switch {
	case a == nil:
		return ""
	case a.Kind == reading.Start:
		return knowledge.ExplainsStart
	}
	return knowledge.ExplainsAttempt
}

// round keeps three digits, so that equal reports are equal to the letter.
func round(p float64) float64 { return math.Round(p*1000) / 1000 }

func unknown(p float64, explains string, a *reading.Attempt, broken *boot.Link) Finding {
	f := Finding{
		Cause:       Unknown,
		Title:       "None of the known causes",
		Explains:    explains,
		Probability: p,
		For:         []Evidence{},
		Against:     []Evidence{},
		Remedies:    []string{},
		Tell:        "What is known does not explain this failure. The decisive event is the place to go on from.",
	}
	if broken != nil {
		f.For = append(f.For, Evidence{
			Kind: "fact", Text: fmt.Sprintf("%s, %s: %s", broken.Kind, broken.What, broken.Saw), Odds: 1,
		})
	}
	if a != nil && explains == wants(a) && a.Decisive != nil {
		f.For = append(f.For, Evidence{Kind: "log", Place: &a.Decisive.Place, Text: a.Decisive.Text, Odds: 1})
	}
	return f
}
