package readiness

import (
	"fmt"
	"strings"
	"time"

	"diorthos/core/units"
)

// restart says whether one is owed, from every place where the system notes it.
func (q Question) restart() Verdict {
	v := Verdict{ID: "restart", Title: "Restart owed", Required: "none", Measured: "none", Verdict: Fit}
	switch {
	case len(q.Facts.Owed) > 0:
		var list []string
		for _, o := range q.Facts.Owed {
			list = append(list, o.Text+" ("+o.By+")")
		}
		v.Measured = strings.Join(list, "; ")
		v.Verdict = Unfit
		v.Do = "Restart first: steps after an owed restart may do nothing, silently."
	case !q.Facts.Surveyed:
		v.Measured, v.Verdict, v.Do = "not measured", Unknown, "Gather on the machine itself."
	}
	return v
}

func (q Question) unfinished() Verdict {
	sys := q.Facts.Installed
	if sys == nil {
		return Verdict{}
	}
	if q.Family == nil {
		return Verdict{
			ID: "unfinished", Title: "Earlier work", Required: "finished", Verdict: Unknown,
			Measured: "not judged: it is not known in which states such packages may be left",
		}
	}
	v := Verdict{
		ID:       "unfinished",
		Title:    "Earlier work",
		Required: "finished",
		Measured: fmt.Sprintf("all of %d packages are at rest", len(sys.Packages)),
		Verdict:  Fit,
	}
	var list []string
	for _, p := range q.Family.Unfinished(sys.Packages) {
		list = append(list, p.Name+" "+p.State)
	}
	if len(list) > 0 {
		v.Measured, v.Verdict, v.Do = strings.Join(list[:min(len(list), 5)], ", "), Unfit, q.Family.Finish
		if len(list) > 5 {
			v.Measured += fmt.Sprintf(" and %d more", len(list)-5)
		}
	}
	return v
}

// tolerance is how wrong a clock may be without a word, in seconds.
const tolerance = 60

func (q Question) clock() Verdict {
	c := q.Facts.Clock
	v := Verdict{ID: "clock", Title: "Clock", Required: fmt.Sprintf("right to %d s", tolerance)}
	switch {
	case c == nil:
		v.Measured, v.Verdict, v.Do = "not measured", Unknown, "Gather on the machine itself."
	case c.Referenced && abs(c.ReferenceOff) > tolerance:
		v.Measured, v.Verdict = fmt.Sprintf("%s by %s", off(c.ReferenceOff), c.Reference), Unfit
		v.Do = "Set the clock right: signatures are judged by it."
	case c.Referenced || c.Synchronised:
		v.Measured, v.Verdict = "kept right by the network", Fit
		if c.Referenced {
			v.Measured = fmt.Sprintf("%s by %s", off(c.ReferenceOff), c.Reference)
		}
	case abs(c.HardwareOff) > tolerance && abs(c.HardwareOff)%900 > 2: // not a mere difference of zones
		v.Measured = "the hardware clock is " + off(c.HardwareOff) + " of the system's; nothing keeps either right"
		v.Verdict = Doubtful
		v.Do = "Compare with a clock that is right."
	default:
		v.Measured = "nothing keeps it right"
		v.Verdict = Doubtful
		v.Do = "Compare with a clock that is right, or let the network keep it."
	}
	return v
}

func abs(n int64) int64 { return max(n, -n) }

func off(seconds int64) string {
	d := (time.Duration(abs(seconds)) * time.Second).String()
	if days := abs(seconds) / 86400; days >= 2 {
		d = fmt.Sprintf("%d days", days)
	}
	switch {
	case seconds > 0:
		return d + " ahead"
	case seconds < 0:
		return d + " behind"
	}
	return "right"
}

// lists holds the dates of the repositories' signed lists against the clock.
func (q Question) lists() Verdict {
	if q.Facts.Installed == nil || len(q.Facts.Installed.Sources) == 0 {
		return Verdict{}
	}
	now := q.machineTime()
	v := Verdict{
		ID:       "lists",
		Title:    "Signed package lists",
		Required: "valid at " + now.UTC().Format("2006-01-02 15:04") + ", by the machine's clock",
		Verdict:  Fit,
	}
	dated := 0
	for _, s := range q.Facts.Installed.Sources {
		if !s.Dated.IsZero() {
			dated++
		}
		switch {
		case !s.Dated.IsZero() && s.Dated.After(now.Add(time.Minute)):
			v.Measured, v.Verdict = fmt.Sprintf("%s is dated %s, in the future", s.Suite, s.Dated.Format(time.DateOnly)), Unfit
			v.Do = "The clock is behind: set it right."
			return v
		case !s.ValidUntil.IsZero() && s.ValidUntil.Before(now):
			v.Measured, v.Verdict = fmt.Sprintf("%s was valid until %s", s.Suite, s.ValidUntil.Format(time.DateOnly)), Doubtful
			v.Do = "Fetch the lists anew; if they are still too old, the repository is no longer kept up, or the clock is ahead."
		}
	}
	if v.Verdict == Fit {
		v.Measured = fmt.Sprintf("all of %d", dated)
	}
	if dated == 0 {
		return Verdict{}
	}
	return v
}

func (q Question) network() Verdict {
	n := q.Facts.Network
	v := Verdict{ID: "network", Title: "Network", Required: "a way out, not metered"}
	if q.Plan != nil {
		v.Required += ", for " + units.FormatBytes(q.Plan.Download)
	}
	switch {
	case n == nil:
		v.Measured, v.Verdict, v.Do = "not measured", Unknown, "Gather on the machine itself."
	case !n.Route:
		v.Measured = "no way out of the local network"
		v.Verdict = Unfit
		v.Do = "Connect it, or bring the packages on a medium."
	case n.Metered == "yes":
		v.Measured, v.Verdict, v.Do = "metered", Doubtful, "Wait for another network, or accept the cost."
	default:
		v.Measured, v.Verdict = "there, metered: "+n.Metered, Fit
	}
	return v
}

// devices lists what to take away for the attempt: an installer may take it
// for its target, and a firmware may start from it.
func (q Question) devices() Verdict {
	v := Verdict{
		ID:       "devices",
		Title:    "Attached storage",
		Required: "none that can be unplugged",
		Measured: "none",
		Verdict:  Fit,
	}
	if !q.Facts.Surveyed {
		v.Measured, v.Verdict, v.Do = "not measured", Unknown, "Gather on the machine itself."
		return v
	}
	var list []string
	for _, d := range q.Facts.Devices {
		if d.Removable || d.Bus == "usb" {
			list = append(list, strings.TrimSpace(fmt.Sprintf("%s (%s, %s)", d.Name, d.Bus, units.FormatBytes(d.Size))))
		}
	}
	if len(list) > 0 {
		v.Measured = strings.Join(list, ", ")
		v.Verdict = Doubtful
		v.Do = "Unplug it for the attempt, unless the attempt is from it or onto it."
	}
	return v
}
