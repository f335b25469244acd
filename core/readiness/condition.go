package readiness

import (
	"fmt"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/knowledge"
	"diorthos/core/upkeep"
)

// Conditions say how the parts of a system stand. Fit is said of what was looked
// at and of nothing else; what could not be looked at is unknown, with the
// reason.
func Conditions(s *bag.State, limits knowledge.Limits) []Verdict {
	if s == nil {
		s = &bag.State{}
	}
	return []Verdict{
		condition(s, "chain", "How it starts", "no link broken", chainFaults(s)),
		condition(s, "lists", "Lists of its state", "each can be read, and goes with the others", listFaults(s)),
		condition(s, "services", "Services", "as the release ships them", serviceFaults(s.Services)),
		condition(s, "store", "Component store", "every file as its manifest says", storeFaults(s)),
		condition(s, "pending", "Pending work", "none that refers to what is gone", pendingFaults(s.Pending)),
		condition(s, "settings", "Settings", "sound, owned as shipped, with values that work", settingFaults(s.Settings)),
		condition(s, "update", "Update client", "neither paused, locked nor in the way of itself", updateFaults(s.Update)),
		condition(s, "volumes", "File systems", "nothing found by their check", volumeFaults(s)),
		condition(
			s, "disk", "Disk", fmt.Sprintf("nothing unreadable, at most %d sectors replaced", limits.ReallocatedSectors),
			diskFaults(s, limits),
		),
		condition(s, "history", "History", "can be read", nil),
		condition(s, "drivers", "Drivers", "can be read", nil),
		condition(s, "features", "Optional features", "can be read", nil),
		condition(s, "programs", "Programs", "can be read", nil),
	}
}

// Worst is the gravest of some verdicts; unknown when there are none.
func Worst(list []Verdict) Rating {
	if len(list) == 0 {
		return Unknown
	}
	worst := Fit
	for _, v := range list {
		worst = worse(worst, v.Verdict)
	}
	return worst
}

func condition(s *bag.State, part, title, required string, faults []string) Verdict {
	v := Verdict{ID: part, Title: title, Required: required, Findings: faults}
	saw, problem := looked(s, part)
	switch {
	case problem != "":
		v.Verdict, v.Measured = Unfit, "could not be read: "+problem
	case len(faults) > 0:
		v.Verdict, v.Measured = Unfit, faults[0]
		if more := len(faults) - 1; more > 0 {
			v.Measured += fmt.Sprintf("; and %d more", more)
		}
	case saw == "":
		v.Verdict, v.Measured = Unknown, "not measured"
	default:
		v.Verdict, v.Measured = Fit, saw
	}
	return v
}

// looked says what was looked at of a part. Bags of earlier versions do not list
// it: there, what was found counts.
func looked(s *bag.State, part string) (saw, problem string) {
	if l := s.LookedAt(part); l != nil {
		return l.Saw, l.Problem
	}
	switch {
	case part == "chain" && len(s.Chain) > 0:
		return fmt.Sprintf("%d links followed, to %s", len(s.Chain), s.Chain[len(s.Chain)-1].Kind), ""
	case part == "services" && len(s.Services) > 0:
		return fmt.Sprintf("%d services", len(s.Services)), ""
	case part == "store" && s.Store != nil:
		return fmt.Sprintf("%d components, %d files", s.Store.Components, s.Store.Files), ""
	case part == "disk" && s.Health != nil:
		return fmt.Sprintf("%d sectors replaced, %d unreadable", s.Health.Reallocated, len(s.Health.Unreadable)), ""
	case part == "volumes" && s.Store != nil:
		return "those of the boot and the system volume", ""
	}
	return "", ""
}

func chainFaults(s *bag.State) []string {
	if b := s.Chain.Broken(); b != nil {
		return []string{fmt.Sprintf("%s: %s: %s (%s)", b.Kind, b.What, b.Saw, b.Fault)}
	}
	return nil
}

func listFaults(s *bag.State) (list []string) {
	for _, f := range s.Lists {
		list = append(list, f.File+": "+f.Text)
	}
	return list
}

// ServiceFault says what is wrong with a service; nothing when it is as shipped.
func ServiceFault(v upkeep.Service) string {
	switch {
	case v.Broken != "":
		return fmt.Sprintf("service %s of %s: %s", v.Name, v.Program, v.Broken)
	case v.Missing:
		return fmt.Sprintf("service %s: the release ships it, and it is not there", v.Name)
	case v.Update && (v.Start != v.Shipped || v.Running != v.Runs):
		return fmt.Sprintf(
			"service %s: start type %s, the release ships %s; running: %t", v.Name, v.Start, v.Shipped, v.Running,
		)
	}
	return ""
}

// JudgeServices says of each service what is wrong with it.
func JudgeServices(s *bag.State) *bag.State {
	if s == nil {
		return nil
	}
	judged := *s
	judged.Services = slices.Clone(s.Services)
	for i := range judged.Services {
		judged.Services[i].Fault = ServiceFault(judged.Services[i])
	}
	return &judged
}

func serviceFaults(services []upkeep.Service) (list []string) {
	for _, v := range services {
		if f := ServiceFault(v); f != "" {
			list = append(list, f)
		}
	}
	return list
}

func storeFaults(s *bag.State) (list []string) {
	if s.Store == nil {
		return nil
	}
	for _, f := range s.Store.Faults {
		list = append(list, f.String())
	}
	return list
}

func pendingFaults(p *bag.Pending) (list []string) {
	if p == nil {
		return nil
	}
	if !p.Whole {
		list = append(list, fmt.Sprintf("pending work %s breaks off after %d operations", p.Transaction, p.Operations))
	}
	for _, g := range p.Gone {
		list = append(list, fmt.Sprintf("pending work %s: %d of %d operations refer to %s %s, which is gone",
			p.Transaction, g.Operations, p.Operations, g.Component, g.Version))
	}
	return list
}

func settingFaults(faults []bag.SettingFault) (list []string) {
	for _, f := range faults {
		list = append(list, fmt.Sprintf("setting %s %s: %s: want %s, got %s", f.Branch, f.Name, f.Kind, f.Want, f.Got))
	}
	return list
}

func updateFaults(u *bag.UpdateClient) (list []string) {
	if u == nil {
		return nil
	}
	if u.PausedUntil != "" {
		list = append(list, "updates are paused until "+u.PausedUntil)
	}
	if u.CacheLocked {
		list = append(list, "the download cache cannot be written")
	}
	for _, d := range u.CacheDamaged {
		list = append(list, d.Name+" is not what the catalogue says")
	}
	for _, l := range u.Leftovers {
		list = append(list, l+" is left of an earlier attempt")
	}
	return list
}

func volumeFaults(s *bag.State) (list []string) {
	for _, f := range s.FileSystems {
		list = append(list, fmt.Sprintf("partition %d: %s", f.Partition, f.Text))
	}
	return list
}

// Failing says why a disk counts as failing; nothing when it does not.
func Failing(h *bag.Health, limits knowledge.Limits) string {
	if h == nil || len(h.Unreadable) == 0 && int64(h.Reallocated) <= limits.ReallocatedSectors {
		return ""
	}
	return fmt.Sprintf(
		"%d sectors were replaced, %d cannot be read: the disk is failing", h.Reallocated, len(h.Unreadable),
	)
}

func diskFaults(s *bag.State, limits knowledge.Limits) []string {
	if f := Failing(s.Health, limits); f != "" {
		return []string{f}
	}
	return nil
}

// health says whether the disk is failing: then nothing is to be installed on it.
func (q Question) health() Verdict {
	s := q.Facts.State
	if s == nil || s.Health == nil {
		return Verdict{}
	}
	v := condition(s, "disk", "Disk's health", "not failing", diskFaults(s, q.Limits))
	if v.ID = "health"; v.Verdict == Unfit {
		v.Do = "Save the user's files and replace the disk first."
	}
	return v
}
