package readiness

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/firmware"
	"diorthos/core/knowledge"
	"diorthos/core/system"
	"diorthos/core/units"
)

// A Rating is what is judged of one requirement, or of all together.
type Rating string

// The words, the best first.
const (
	Fit      Rating = "fit"
	Unknown  Rating = "unknown"  // it was not measured
	Doubtful Rating = "doubtful" // it will go, and somebody may be sorry
	Unfit    Rating = "unfit"
)

// Ratings lists those that there are.
func Ratings() []Rating { return []Rating{Fit, Unknown, Doubtful, Unfit} }

var gravity = map[Rating]int{Fit: 0, Unknown: 1, Doubtful: 2, Unfit: 3}

// A Verdict is one requirement with what was measured.
type Verdict struct {
	ID       string `json:"id"`
	Title    string `json:"title"`
	Required string `json:"required"`
	Measured string `json:"measured"`
	Verdict  Rating `json:"verdict"`
	Sum      []Term `json:"sum,omitempty"` // how a number came about
	Why      string `json:"why,omitempty"` // it is required
	Do       string `json:"do,omitempty"`  // what helps, or how to measure
	// Findings are all that is wrong, in words.
	Findings []string `json:"findings,omitempty"`
}

// What an upgrade consists of, and the room that it needs, is computed by who
// knows the family's packages.
type (
	Plan = system.UpgradePlan
	Need = system.Need
	Term = system.Term
)

// A Medium is an install medium, by what is on it.
type Medium struct {
	Title        string          `json:"title"`
	Modes        []firmware.Mode `json:"modes"` // firmware modes that can start it: bios, uefi
	Architecture string          `json:"architecture,omitempty"`
}

// A Question is what is to be judged.
type Question struct {
	Facts   *bag.Facts
	Release *knowledge.Release
	Plan    *Plan             // nil when the release's packages are not at hand
	Medium  *Medium           // nil when it is not asked about
	Family  *knowledge.Family // of the machine's system; nil when it is not known
	Limits  knowledge.Limits
	Needed  []string // packages that the user cannot do without
	Now     time.Time
}

// A Report is everything judged of one machine for one release.
type Report struct {
	Release  string    `json:"release"`
	Title    string    `json:"title"`
	Verdict  Rating    `json:"verdict"` // the gravest of all
	Verdicts []Verdict `json:"verdicts"`
	Plan     *Plan     `json:"plan,omitempty"`
	Source   string    `json:"source"` // where the requirements are published
}

// Judge measures the machine against the release.
func Judge(q Question) (*Report, error) {
	asked, err := q.Facts.AsMap()
	if err != nil {
		return nil, err
	}
	r := &Report{Release: q.Release.ID, Title: q.Release.Title, Plan: q.Plan, Source: q.Release.Source, Verdict: Fit}
	add := func(list ...Verdict) {
		for _, v := range list {
			if v.Verdict != "" {
				r.Verdicts = append(r.Verdicts, v)
				r.Verdict = worse(r.Verdict, v.Verdict)
			}
		}
	}
	for i := range q.Release.Requires {
		if req := &q.Release.Requires[i]; req.Applies(asked) {
			add(measured(req, asked))
		}
	}
	add(q.space()...)
	add(q.path(), q.support(), q.signature(), q.applications(), q.medium())
	add(General(q)...)
	return r, nil
}

// General gives the verdicts that do not depend on a release.
func General(q Question) []Verdict {
	var list []Verdict
	for _, v := range []Verdict{q.restart(), q.unfinished(), q.clock(), q.lists(), q.network(), q.devices(), q.health()} {
		if v.Verdict != "" {
			list = append(list, v)
		}
	}
	return list
}

func worse(a, b Rating) Rating {
	if gravity[b] > gravity[a] {
		return b
	}
	return a
}

func measured(req *knowledge.Requirement, facts map[string]any) Verdict {
	m := req.Take(facts)
	v := Verdict{ID: req.ID, Title: req.Title, Required: req.Wanted(), Measured: m.Text, Why: req.Why, Do: req.Do}
	switch {
	case !m.Known:
		v.Measured, v.Verdict, v.Do = "not measured", Unknown, req.Ask
	case !m.Meets:
		v.Verdict = Unfit
	case !m.Enough:
		v.Verdict = Doubtful
	default:
		v.Verdict, v.Do = Fit, ""
	}
	return v
}

// offered is what the update client itself holds against the room for a release
// that it has on offer; nothing when it has not.
func offered(u *bag.UpdateClient, r *knowledge.Release) (list []Verdict) {
	if u == nil {
		return nil
	}
	for _, o := range u.Offers {
		if o.Kind != "upgrade" || !strings.HasSuffix(r.Version, "."+strconv.Itoa(o.Build)) {
			continue
		}
		list = []Verdict{{
			ID:       "space",
			Title:    "Room for the upgrade",
			Required: "as the offer asks",
			Measured: "there",
			Verdict:  Fit,
		}}
		for _, l := range o.Lacks {
			if l.Kind == "system-space" || l.Kind == "boot-space" {
				list[0].Required, list[0].Measured, list[0].Verdict, list[0].Do = l.Want, l.Got, Unfit, "Make room on that volume."
			}
		}
	}
	return list
}

// space compares what the plan needs on each volume with what is free there.
func (q Question) space() []Verdict {
	if q.Facts.Installed == nil {
		return nil
	}
	if q.Plan == nil && q.Facts.State != nil {
		return offered(q.Facts.State.Update, q.Release)
	}
	if q.Plan == nil {
		return []Verdict{{
			ID:       "space",
			Title:    "Room for the upgrade",
			Required: "computed from the release's packages",
			Measured: "not computed",
			Verdict:  Unknown,
			Do: "Hand in the release's package index with --index, or name the release in the machine's sources and " +
				"fetch its lists.",
		}}
	}
	needs := map[string][]Term{} // by volume: several needs may fall on one
	var order []string
	for _, n := range q.Plan.Needs {
		mount := ""
		if v := volumeOf(q.Facts.Volumes, n.Mount); v != nil {
			mount = v.Mount
		}
		if _, ok := needs[mount]; !ok {
			order = append(order, mount)
		}
		needs[mount] = append(needs[mount], n.Terms...)
	}
	var list []Verdict
	for _, mount := range order {
		need := Need{Mount: mount, Terms: needs[mount]}
		v := Verdict{
			ID:       "space" + mount,
			Title:    "Room on " + mount,
			Required: units.FormatBytes(need.Bytes()),
			Sum:      need.Terms,
			Why: fmt.Sprintf(
				"%d packages to upgrade and %d new ones, computed from %s", q.Plan.Upgrades, q.Plan.New, q.Plan.Basis,
			),
		}
		volume := volumeOf(q.Facts.Volumes, mount)
		switch {
		case mount == "" || volume == nil:
			v.Title = "Room for the upgrade"
			v.Measured = "free space not measured"
			v.Verdict = Unknown
			v.Do = "Gather on the machine itself, or from its whole disk."
		case volume.Free < need.Bytes():
			v.Measured, v.Verdict = units.FormatBytes(volume.Free)+" free", Unfit
			v.Do = fmt.Sprintf("Free at least %s on %s.", units.FormatBytes(need.Bytes()-volume.Free), mount)
		case volume.Free < need.Bytes()+need.Bytes()/10:
			v.Measured = units.FormatBytes(volume.Free) + " free"
			v.Verdict = Doubtful
			v.Do = "It is enough by less than a tenth: logs and mail grow meanwhile."
		default:
			v.Measured, v.Verdict = units.FormatBytes(volume.Free)+" free", Fit
		}
		list = append(list, v)
	}
	return list
}

// volumeOf finds the volume on which a path lies.
func volumeOf(volumes []bag.Volume, path string) *bag.Volume {
	var best *bag.Volume
	for i := range volumes {
		v := &volumes[i]
		under := v.Mount == "/" || path == v.Mount || strings.HasPrefix(path, strings.TrimSuffix(v.Mount, "/")+"/")
		if under && (best == nil || len(v.Mount) > len(best.Mount)) {
			best = v
		}
	}
	return best
}

// path says whether the release can be reached in one step.
func (q Question) path() Verdict {
	v := Verdict{
		ID:       "path",
		Title:    "Way from the installed release",
		Required: "from " + strings.Join(q.Release.UpgradeFrom, " or "),
	}
	sys := q.Facts.Installed
	switch {
	case sys == nil || len(q.Release.UpgradeFrom) == 0:
		return Verdict{}
	case sys.Family != q.Release.Family:
		v.Measured, v.Verdict, v.Do = sys.Name, Unfit, "It is a system of another family: only a clean install leads there."
	case sys.Version == "":
		v.Measured, v.Verdict, v.Do = "version not stated", Unknown, "Look at what the system says of its own release."
	case sys.Version == q.Release.Version:
		v.Measured, v.Verdict = sys.Version+" is installed already", Fit
	case slices.ContainsFunc(q.Release.UpgradeFrom, func(from string) bool { return leadsFrom(from, sys.Version) }):
		v.Measured, v.Verdict = "from "+sys.Version, Fit
	default:
		v.Measured, v.Verdict = "from "+sys.Version, Unfit
		v.Do = "Go to " + strings.Join(q.Release.UpgradeFrom, " or ") + " first: releases may not be left out."
	}
	return v
}

// leadsFrom reports whether an upgrade from one version is one from another. A
// + behind it means that version, or a later one that differs in its last part.
func leadsFrom(from, version string) bool {
	least, later := strings.CutSuffix(from, "+")
	if !later {
		return from == version
	}
	at, of := strings.LastIndex(least, "."), strings.LastIndex(version, ".")
	m, errLeast := strconv.Atoi(least[at+1:])
	n, errGot := strconv.Atoi(version[of+1:])
	return errLeast == nil && errGot == nil && least[:at+1] == version[:of+1] && n >= m
}

// soon is within what time an end of support is worth a warning.
const soon = 180 * 24 * time.Hour

func (q Question) support() Verdict {
	until, _ := knowledge.Day(q.Release.SupportUntil) // checked when it was loaded
	extended, err := knowledge.Day(q.Release.ExtendedUntil)
	v := Verdict{
		ID:       "support",
		Title:    "Security support",
		Required: "on " + q.Now.Format(time.DateOnly),
		Measured: "until " + q.Release.SupportUntil,
	}
	end := until.Add(24 * time.Hour)
	switch {
	case q.Now.Before(end.Add(-soon)):
		v.Verdict = Fit
	case q.Now.Before(end):
		v.Verdict, v.Do = Doubtful, "It ends within half a year: a later release saves a second upgrade."
	case err == nil && q.Now.Before(extended.Add(24*time.Hour)):
		v.Measured += ", extended until " + q.Release.ExtendedUntil
		v.Verdict, v.Do = Doubtful, "Only part of the packages still gets security updates."
	default:
		v.Verdict, v.Do = Unfit, "Its security support has ended: choose a later release."
	}
	return v
}

// signature holds the validity of the installer's signature against the
// machine's clock.
func (q Question) signature() Verdict {
	from, errFrom := knowledge.Day(q.Release.SignedFrom)
	until, errUntil := knowledge.Day(q.Release.SignedUntil)
	if errFrom != nil || errUntil != nil {
		return Verdict{}
	}
	now := q.machineTime()
	v := Verdict{
		ID:       "signature",
		Title:    "Signature of the installer",
		Required: "valid at " + now.Format(time.DateOnly) + ", by the machine's clock",
		Measured: q.Release.SignedFrom + " to " + q.Release.SignedUntil,
		Verdict:  Fit,
	}
	switch {
	case now.Before(from):
		v.Verdict, v.Do = Unfit, "It is not valid yet: the machine's clock is behind, or the medium is too new."
	case !now.Before(until.Add(24 * time.Hour)):
		v.Verdict, v.Do = Unfit, "It has expired: fetch a newer medium. If the clock is ahead, set it right."
	}
	return v
}

// machineTime is the time as the machine's clock showed it.
func (q Question) machineTime() time.Time {
	if !q.Facts.Gathered.IsZero() {
		return q.Facts.Gathered
	}
	return q.Now
}

func (q Question) applications() Verdict {
	if len(q.Needed) == 0 {
		return Verdict{}
	}
	v := Verdict{
		ID:       "applications",
		Title:    "Needed applications",
		Required: strings.Join(q.Needed, ", "),
		Measured: "all there",
		Verdict:  Fit,
	}
	var lost []string
	for _, name := range q.Needed {
		for _, l := range q.Release.Lacks {
			if l.Package == name {
				lost = append(lost, name+": "+l.Why)
			}
		}
		if q.Plan != nil && slices.Contains(q.Plan.Gone, name) {
			lost = append(lost, name+": the release does not have it")
		}
	}
	switch {
	case len(lost) > 0:
		v.Measured, v.Verdict, v.Do = strings.Join(lost, "; "), Unfit, "Find what takes its place first, or stay."
	case q.Plan == nil:
		v.Measured = "none is known to be missing"
		v.Verdict = Unknown
		v.Do = "Hand in the release's package index with --index to be sure."
	}
	return v
}

// Starts says whether a machine can start an install medium.
func Starts(facts *bag.Facts, m Medium) Verdict {
	return Question{Facts: facts, Medium: &m}.medium()
}

// medium says whether this machine can start the install medium.
func (q Question) medium() Verdict {
	if q.Medium == nil {
		return Verdict{}
	}
	v := Verdict{
		ID:       "medium",
		Title:    "Install medium",
		Measured: q.Medium.Title + " starts by " + joined(q.Medium.Modes),
		Verdict:  Fit,
	}
	if len(q.Medium.Modes) == 0 {
		v.Measured = q.Medium.Title + " has nothing that a firmware starts"
	}
	if q.Facts.Firmware == nil {
		v.Required = "the machine's firmware mode"
		v.Verdict = Unknown
		v.Do = "Look in the firmware's settings whether it starts by UEFI or BIOS."
		return v
	}
	mode := q.Facts.Firmware.Mode
	v.Required = "starts by " + string(mode)
	arch := ""
	if q.Facts.Hardware != nil {
		arch = q.Facts.Hardware.Architecture
	}
	switch {
	case !slices.Contains(q.Medium.Modes, mode):
		v.Verdict = Unfit
		v.Do = "Take a medium that starts by " + string(mode) + ", or write this image so that it does: diorthos media fit."
	case arch != "" && q.Medium.Architecture != "" && arch != q.Medium.Architecture:
		v.Verdict, v.Do = Unfit, fmt.Sprintf("The medium is for %s, the machine is %s.", q.Medium.Architecture, arch)
	}
	return v
}

func joined(modes []firmware.Mode) string {
	var words []string
	for _, m := range modes {
		words = append(words, string(m))
	}
	return strings.Join(words, " and ")
}
