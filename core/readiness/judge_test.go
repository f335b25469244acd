package readiness_test

import (
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/core/firmware"
	"diorthos/core/knowledge"
	"diorthos/core/readiness"
	shipped "diorthos/knowledge"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func release(t *testing.T, id string) (*knowledge.Release, *knowledge.Knowledge) {
	t.Helper()
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range k.Releases {
		if r.ID == id {
			return r, k
		}
	}
	t.Fatalf("no release %s", id)
	return nil, nil
}

// sound is a machine that is fit for the next release.
func sound() *bag.Facts {
	return &bag.Facts{
		Gathered: now, Surveyed: true, Machine: bag.Machine{Name: "fulmar-office-1"},
		Hardware: &bag.Hardware{Architecture: "amd64", Memory: 8 << 30}, Firmware: &bag.Firmware{Mode: "uefi"},
		Clock: &bag.Clock{Synchronised: true}, Network: &bag.Network{Route: true, Metered: "no"},
		Disks: []bag.Disk{{Size: 256 << 30, Style: "gpt", Partitions: []bag.Partition{
			{Role: "esp", Size: 512 << 20},
			{Role: "system"},
		}}},
		Volumes: []bag.Volume{
			{Mount: "/", Size: 200 << 30, Free: 50 << 30},
			{Mount: "/boot", Size: 1 << 30, Free: 600 << 20},
		},
		Installed: &bag.Installed{
			Family:       "debian",
			Name:         "Debian 12",
			Version:      "12",
			Architecture: "amd64",
			Packages:     []bag.Package{{Name: "dpkg", Version: "1", State: "installed"}},
			Sources:      []bag.Source{},
		},
	}
}

func plan() *readiness.Plan {
	return &readiness.Plan{Upgrades: 94, New: 35, Download: 80 << 20, Basis: "Packages", Needs: []readiness.Need{
		{
			Mount: "/var/cache/apt/archives",
			Terms: []readiness.Term{{What: "download", Bytes: 80 << 20}},
		}, {Mount: "/usr", Terms: []readiness.Term{{What: "grows", Bytes: 300 << 20}}},
		{Mount: "/boot", Terms: []readiness.Term{{What: "kernel", Bytes: 60 << 20}}},
	}}
}

// Each case changes one thing of a sound machine and expects one verdict to
// change.
func TestEachRequirementIsJudgedByItsOwnFacts(t *testing.T) {
	debian13, k := release(t, "debian-13")
	for name, c := range map[string]struct {
		change func(*readiness.Question)
		id     string
		want   readiness.Rating
		says   string
	}{
		"nothing": {func(*readiness.Question) {}, "", readiness.Fit, ""},
		"little memory": {func(q *readiness.Question) {
			q.Facts.Hardware.Memory = 600 << 20
		}, "memory", readiness.Doubtful, "600.0 MiB"},
		"hardly any memory": {func(q *readiness.Question) {
			q.Facts.Hardware.Memory = 200 << 20
		}, "memory", readiness.Unfit, "200.0 MiB"},
		"memory not measured": {func(q *readiness.Question) {
			q.Facts.Hardware.Memory = 0
		}, "memory", readiness.Unknown, "not measured"},
		"old processor": {func(q *readiness.Question) {
			q.Facts.Hardware.Architecture = "i386"
		}, "architecture", readiness.Unfit, "i386"},
		"no ESP": {func(q *readiness.Question) {
			q.Facts.Disks[0].Partitions[0].Role = "data"
		}, "loader-place", readiness.Unfit, "no EFI system partition"},
		"root full": {func(q *readiness.Question) {
			q.Facts.Volumes[0].Free = 300 << 20
		}, "space/", readiness.Unfit, "300.0 MiB free"},
		"root nearly full": {func(q *readiness.Question) {
			q.Facts.Volumes[0].Free = 390 << 20
		}, "space/", readiness.Doubtful, "390.0 MiB free"},
		"boot full": {func(q *readiness.Question) {
			q.Facts.Volumes[1].Free = 50 << 20
		}, "space/boot", readiness.Unfit, "50.0 MiB free"},
		"boot small": {func(q *readiness.Question) {
			q.Facts.Volumes[1].Size = 300 << 20
			q.Facts.Volumes[1].Free = 290 << 20
		}, "boot-volume", readiness.Doubtful, "300.0 MiB"},
		"no plan": {func(q *readiness.Question) { q.Plan = nil }, "space", readiness.Unknown, "not computed"},
		"two releases back": {func(q *readiness.Question) {
			q.Facts.Installed.Version = "11"
		}, "path", readiness.Unfit, "from 11"},
		"support ends soon": {func(q *readiness.Question) {
			q.Now = time.Date(2028, 6, 1, 0, 0, 0, 0, time.UTC)
		}, "support", readiness.Doubtful, "until 2028-08-09"},
		"support has ended": {func(q *readiness.Question) {
			q.Now = time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)
		}, "support", readiness.Unfit, "2028-08-09"},
		"restart owed": {func(q *readiness.Question) {
			q.Facts.Owed = []bag.RestartReason{{By: "/boot", Text: "kernel 2 is installed, 1 runs"}}
		}, "restart", readiness.Unfit, "kernel 2"},
		"half configured": {func(q *readiness.Question) {
			q.Facts.Installed.Packages[0].State = "half-configured"
		}, "unfinished", readiness.Unfit, "dpkg half-configured"},
		"clock behind": {func(q *readiness.Question) {
			q.Facts.Clock.Referenced, q.Facts.Clock.ReferenceOff, q.Facts.Clock.Reference = true, -7200, "the service"
		}, "clock", readiness.Unfit, "2h0m0s behind by the service"},
		"clock years behind": {func(q *readiness.Question) {
			q.Facts.Clock.Referenced, q.Facts.Clock.ReferenceOff, q.Facts.Clock.Reference = true, -1165*86400, "the service"
		}, "clock", readiness.Unfit, "1165 days behind by the service"},
		"the offer finds no room": {func(q *readiness.Question) {
			r := *q.Release
			r.Version = "8.0.8000"
			q.Release, q.Plan = &r, nil
			q.Facts.Installed.Version = "12"
			q.Facts.State = &bag.State{Update: &bag.UpdateClient{Offers: []bag.Offer{{
				Kind:  "upgrade",
				Build: 8000,
				Lacks: []bag.Lack{{Kind: "system-space", Want: "4.0 MiB", Got: "1.5 MiB"}},
			}}}}
		}, "space", readiness.Unfit, "1.5 MiB"},
		"lists of tomorrow": {func(q *readiness.Question) {
			q.Facts.Installed.Sources = []bag.Source{{Suite: "trixie", Dated: now.AddDate(0, 0, 2)}}
		}, "lists", readiness.Unfit, "in the future"},
		"metered": {func(q *readiness.Question) {
			q.Facts.Network.Metered = "yes"
		}, "network", readiness.Doubtful, "metered"},
		"a stick is in": {func(q *readiness.Question) {
			q.Facts.Devices = []bag.Device{{Name: "sdb", Bus: "usb", Size: 16 << 30, Removable: true}}
		}, "devices", readiness.Doubtful, "sdb (usb, 16.0 GiB)"},
		"medium of the other mode": {func(q *readiness.Question) {
			q.Medium = &readiness.Medium{Title: "netinst", Modes: []firmware.Mode{"bios"}}
		}, "medium", readiness.Unfit, "starts by bios"},
		"a disk that is failing": {func(q *readiness.Question) {
			q.Facts.State = &bag.State{Health: &bag.Health{Reallocated: 3, Unreadable: []int64{4711}}}
		}, "health", readiness.Unfit, "1 cannot be read"},
		"an application is gone": {func(q *readiness.Question) {
			q.Needed, q.Plan.Gone = []string{"skerrow-crew"}, []string{"skerrow-crew"}
		}, "applications", readiness.Unfit, "skerrow-crew"},
	} {
		q := readiness.Question{
			Facts:   sound(),
			Release: debian13,
			Plan:    plan(),
			Family:  k.Families["debian"],
			Limits:  k.Limits,
			Now:     now,
		}
		c.change(&q)
		report, err := readiness.Judge(q)
		if err != nil {
			t.Fatal(err)
		}
		if report.Verdict != c.want {
			t.Errorf("%s: all in all %s, want %s", name, report.Verdict, c.want)
		}
		for _, v := range report.Verdicts {
			switch {
			case v.ID == c.id && (v.Verdict != c.want || !strings.Contains(v.Measured, c.says)):
				t.Errorf("%s: %+v", name, v)
			case v.ID != c.id && v.Verdict != readiness.Fit:
				t.Errorf("%s: %s changed too: %+v", name, v.ID, v)
			}
		}
	}
}

func TestTheReleaseToGoToIsPickedWithReasons(t *testing.T) {
	_, k := release(t, "debian-13")
	for name, c := range map[string]struct {
		change func(*bag.Facts)
		want   string
		why    string // of debian-13
	}{
		"fit for the newest": {func(*bag.Facts) {}, "debian-13", "newest that nothing speaks against"},
		"with a wrong clock": {func(f *bag.Facts) {
			f.Clock.Referenced, f.Clock.ReferenceOff, f.Clock.Reference = true, -7200, "the service"
		}, "debian-13", "once this is put right: Clock: 2h0m0s behind"},
		"restart owed, all alike": {func(f *bag.Facts) {
			f.Owed = []bag.RestartReason{{
				By:   "x",
				Text: "y",
			}}
		}, "debian-13", "newest"},
		"a processor left behind": {func(f *bag.Facts) {
			f.Hardware.Architecture = "i386"
		}, "debian-12", "Architecture: i386"},
		"two releases behind": {func(f *bag.Facts) { f.Installed.Version = "11" }, "debian-12", "from 11"},
	} {
		facts := sound()
		c.change(facts)
		choices, err := readiness.Recommend(readiness.Question{
			Facts:  facts,
			Family: k.Families["debian"],
			Now:    now,
		}, k.Releases, func(*knowledge.Release) *readiness.Plan { return nil })
		if err != nil {
			t.Fatal(err)
		}
		picked := ""
		for _, x := range choices {
			if x.Picked {
				picked += x.Report.Release
			}
			if x.Report.Release == "debian-13" && !strings.Contains(x.Why, c.why) {
				t.Errorf("%s: %s", name, x.Why)
			}
		}
		if picked != c.want {
			t.Errorf("%s: picked %s, want %s", name, picked, c.want)
		}
	}
}

func TestAnUpdateIsHeldAgainstWhatIsInstalled(t *testing.T) {
	sys := &bag.Installed{Architecture: "amd64", Foreign: []string{"i386"}, Packages: []bag.Package{
		{Name: "gate", Version: "20", State: "installed"},
		{Name: "crew", Version: "20", State: "installed", Held: true},
	}}
	byText := func(a, b string) int { return strings.Compare(a, b) }
	for _, c := range []struct {
		name, version, arch string
		want                readiness.Rating
	}{
		{"gate", "30", "amd64", readiness.Fit},
		{"gate", "20", "all", readiness.Doubtful},
		{"gate", "10", "amd64", readiness.Unfit},
		{"gate", "30", "arm64", readiness.Unfit},
		{"gate", "30", "i386", readiness.Fit},
		{"crew", "30", "amd64", readiness.Unfit},
		{"new", "1", "amd64", readiness.Fit},
	} {
		if v := readiness.Applicable(sys, bag.Package{
			Name:         c.name,
			Version:      c.version,
			Architecture: c.arch,
		}, nil, byText); v.Verdict != c.want {
			t.Errorf("%+v: %+v", c, v)
		}
	}
}
