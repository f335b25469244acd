package fleet

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
	"time"

	"diorthos/standin/corbel"
)

// A Member is a machine of the fleet that runs Corbel.
type Member struct {
	Name, Site, Model string
	Mode              string   // of the firmware: uefi or bios
	Faults            []string // by name; none for a healthy machine
}

// places of Skerrow Ferries, by the first word of a machine's name.
var places = []struct{ word, site string }{
	{
		"lerrick", "Lerrick terminal",
	}, {"skerrow", "Skerrow terminal"}, {"tarvoe", "Tarvoe terminal"}, {"brough", "Brough terminal"},
	{
		"kestrel", "MV Kestrel",
	}, {"fulmar", "MV Fulmar"}, {"petrel", "MV Petrel"}, {"skua", "MV Skua"}, {"gannet", "MV Gannet"}, {"tern", "MV Tern"},
}

// kinds of machines at a place, ashore and aboard.
var ashore = []struct{ word, model, mode string }{
	{
		"kiosk", "Havnar K1 kiosk", "uefi",
	}, {
		"kiosk", "Havnar K1 kiosk", "uefi",
	}, {"office", "Havnar D4 desktop", "uefi"}, {"office", "Havnar D4 desktop", "bios"},
	{"freight", "Havnar L3 laptop", "uefi"}, {"signage", "Havnar S2 signage player", "bios"},
}

var aboard = []struct{ word, model, mode string }{
	{
		"bridge", "Havnar B2 bridge computer", "uefi",
	}, {
		"crew", "Havnar L3 laptop", "uefi",
	}, {
		"crew", "Havnar L3 laptop", "uefi",
	}, {"shop", "Havnar K1 kiosk", "bios"}, {"signage", "Havnar S2 signage player", "bios"},
}

// broken are the machines of the fleet that failed, with what is wrong with
// them: the update of November stops every kiosk that took it, and a few
// others have troubles of their own.
var broken = map[string][]string{
	"lerrick-kiosk-1": {"update-stops-start"}, "lerrick-kiosk-3": {"update-stops-start"},
	"skerrow-kiosk-1": {"update-stops-start"}, "skerrow-kiosk-2": {"update-stops-start"},
	"tarvoe-kiosk-1": {"update-stops-start"}, "brough-kiosk-2": {"update-stops-start"},
	"tarvoe-office-1": {"payload-missing"}, "brough-office-1": {"payload-altered"},
	"petrel-crew-1": {"signature-expired"},
	"skua-bridge-1": {"pending-many-gone"},
	"gannet-crew-2": {"leftover-work-folder"}, "tern-shop-1": {"active-flag-wrong"},
	"fulmar-crew-1": {"service-disabled", "cache-package-damaged"}, "lerrick-freight-1": {"feature-source-forbidden"},
	"kestrel-bridge-1": {"firmware-variables-stale"},
	"skerrow-office-2": {"disk-dying"},
	"petrel-bridge-1":  {"memory-short"}, "tern-crew-1": {"clock-wrong"},
}

// Members are all machines of the fleet that run Corbel, those that failed
// last.
func Members() []Member {
	var healthy, failed []Member
	for i, p := range places {
		kinds := aboard
		if i < 4 {
			kinds = ashore
		}
		count := map[string]int{}
		for _, k := range kinds {
			count[k.word]++
			m := Member{Name: fmt.Sprintf("%s-%s-%d", p.word, k.word, count[k.word]), Site: p.site, Model: k.model, Mode: k.mode}
			if m.Name == "lerrick-kiosk-2" { // that one is a Debian machine
				m.Name = "lerrick-kiosk-3"
			}
			if m.Faults = broken[m.Name]; m.Faults != nil {
				failed = append(failed, m)
			} else {
				healthy = append(healthy, m)
			}
		}
	}
	return append(healthy, failed...)
}

// Make builds the machine in folder, breaks it, and tries what fails by that.
func (m Member) Make(
	ctx context.Context, folder string, now time.Time, v *corbel.Vendor, link corbel.Link,
) (err error) {
	partial := folder + ".making"
	if err := os.RemoveAll(partial); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(partial), 0o755); err != nil {
		return err
	}
	h := fnv.New64a()
	_, _ = h.Write([]byte(m.Name)) // never fails
	o := corbel.Options{
		Seed:   h.Sum64(),
		Mode:   m.Mode,
		Name:   m.Name,
		Site:   m.Site,
		Model:  m.Model,
		Now:    now,
		Vendor: v,
		Link:   link,
	}
	machine, err := corbel.Build(ctx, partial, o)
	if err != nil {
		return err
	}
	try := corbel.TryUpdate
	for i, name := range m.Faults {
		f := corbel.FaultNamed(name)
		if f == nil {
			return fmt.Errorf("%s: no fault is called %q", m.Name, name)
		}
		if i == 0 {
			try = f.Try
		}
		if err := f.Break(ctx, machine, o); err != nil {
			return err
		}
	}
	out, err := corbel.TryOn(ctx, machine, try, now, link)
	if err == nil && out.OK == (len(m.Faults) > 0) {
		err = fmt.Errorf("%s: %s came out otherwise than meant: %s", m.Name, try, out.Text)
	}
	if err != nil {
		return errors.Join(err, os.RemoveAll(partial))
	}
	return os.Rename(partial, folder)
}

// Climbing is a machine on which somebody is at work.
const Climbing = "tern-crew-1"

// Damaged is a machine whose bag was damaged on the service's disk before it was
// read.
const Damaged = "gannet-shop-1"

// Mended are machines on which a climb was made already, with the rung that
// helped.
var Mended = []string{"gannet-crew-2", "tern-shop-1", "tarvoe-kiosk-1"}
