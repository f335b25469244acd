// Package jobs has a broken machine of the stand-in system for each of the jobs that technicians come with, which docs/jobs
// walks: for learning, and for the tests that walk them.
//
//	job, ok := jobs.Of(7)
//	machine, err := job.Prepare(ctx, "kiosk", time.Now())
package jobs

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"time"

	"diorthos/standin/corbel"
)

// A Job is what somebody comes with, and what is wrong with the machine.
type Job struct {
	Number int
	Title  string
	Said   string   // what the person at the counter says
	Mode   string   // of the firmware; uefi where it is empty
	Breaks []string // faults, in their order
	Try    string   // what fails: update, upgrade, driver, feature, install or start
}

// Of finds a job.
func Of(number int) (Job, bool) {
	i := slices.IndexFunc(List, func(j Job) bool { return j.Number == number })
	if i < 0 {
		return Job{}, false
	}
	return List[i], true
}

// Site is where the machines stand.
const Site = "Lerrick terminal"

// Prepare builds the machine in a folder, breaks it, and makes the attempt that fails. The vendor's medium of its build is
// put beside the folder, as "medium.pack".
func (j Job) Prepare(ctx context.Context, folder string, now time.Time) error {
	v, err := corbel.NewVendor(now)
	if err != nil {
		return err
	}
	served := httptest.NewServer(v)
	defer served.Close()
	mode := j.Mode
	if mode == "" {
		mode = "uefi"
	}
	o := corbel.Options{
		Seed: uint64(700 + j.Number), Mode: mode, Name: filepath.Base(folder), Site: Site, Now: now.UTC(), Vendor: v, //nolint:gosec // small
		Link: corbel.Link{Base: served.URL, Client: http.DefaultClient},
	}
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return err
	}
	m, err := corbel.Build(ctx, folder, o)
	if err != nil {
		return err
	}
	o.Seed = 1
	for _, name := range j.Breaks {
		f := corbel.FaultNamed(name)
		if f == nil {
			return fmt.Errorf("job %d: no fault is called %q", j.Number, name)
		}
		if err := f.Break(ctx, m, o); err != nil {
			return fmt.Errorf("job %d: %s: %w", j.Number, name, err)
		}
	}
	out, err := corbel.TryOn(ctx, m, j.Try, now.UTC(), o.Link)
	if err == nil && out.OK {
		err = fmt.Errorf("job %d: the %s does not fail", j.Number, j.Try)
	}
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(filepath.Dir(folder), "medium.pack"), v.Medium(), 0o644) //nolint:gosec // no secret
}

// List has all that are walked on the stand-in system. Job 19 is job 7 on twelve machines: those of the demo.
var List = []Job{
	{
		Number: 1, Title: "The monthly update is refused", Try: "update",
		Said:   "It says it could not finish the update, and then a number. I have switched it off and on.",
		Breaks: []string{"start-type-wrong", "cache-package-damaged", "leftover-work-folder", "payload-missing"},
	},
	{
		Number: 2, Title: "The installer is too old for today", Try: "update",
		Said:   "It worked on the others last year. On this one it finds nothing that it may use.",
		Breaks: []string{"signature-expired"},
	},
	{
		Number: 3, Title: "A code about the target disk", Try: "install", Mode: "bios",
		Said:   "It says there is something about the disk, and I cannot go on. There are three of them in the list.",
		Breaks: []string{"external-disk-first"},
	},
	{
		Number: 4, Title: "The upgrade helper gives up before it has measured anything", Try: "start", Mode: "bios",
		Said:   "It closes at once. I have set the big partition active, as it said on a page, and now nothing starts.",
		Breaks: []string{"active-flag-wrong"},
	},
	{
		Number: 5, Title: "An upgrade stops in an early offline stage, copying optional parts", Try: "update",
		Said:   "It comes to eleven per cent and goes back.",
		Breaks: []string{"source-other-build"},
	},
	{
		Number: 6, Title: "A new release will not go on", Try: "upgrade",
		Said:   "There is not enough room, it says, but I have emptied the bin.",
		Breaks: []string{"system-volume-full"},
	},
	{
		Number: 7, Title: "An upgrade stops in a late stage", Try: "update",
		Said:   "At ninety-three per cent it says that it takes the changes back. It wanted a restart before, I did not have the time.",
		Breaks: []string{"branch-owner-wrong", "restart-owed"},
	},
	{
		Number: 8, Title: "The repair loop", Try: "start",
		Said:   "It starts into its repair page, again and again.",
		Breaks: []string{"update-stops-start"},
	},
	{
		Number: 10, Title: "A preview update will not install", Try: "update",
		Said:   "It is only the preview, but the manager wants it. It stops with a long number.",
		Breaks: []string{"service-need-stopped", "payload-altered"},
	},
	{
		Number: 11, Title: "An optional feature without payload", Try: "feature",
		Said:   "I tick the box, it turns for a while and says no. The office has no way out to the network.",
		Breaks: []string{"feature-source-forbidden"},
	},
	{
		Number: 12, Title: "Pending work poisons the start", Try: "start",
		Said:   "It says it works on something, at nought per cent, since this morning.",
		Breaks: []string{"pending-many-gone"},
	},
	{
		Number: 13, Title: "Two updates fail", Try: "update",
		Said:   "Two of them fail since the summer, the others went in.",
		Breaks: []string{"start-type-wrong", "leftover-work-folder"},
	},
	{
		Number: 14, Title: "A build fails on a metered network", Try: "update",
		Said:   "On board we have the satellite only. It does not even begin.",
		Breaks: []string{"network-metered"},
	},
	{
		Number: 15, Title: "An older driver is offered than is installed", Try: "driver",
		Said:   "Every week it wants to put the old screen driver on, and fails.",
		Breaks: []string{"driver-older"},
	},
	{
		Number: 16, Title: "The disk's table is of the other style", Try: "install", Mode: "bios",
		Said:   "The new board starts by UEFI. The installer says the disk is of the wrong style.",
		Breaks: []string{"style-against-firmware"},
	},
	{
		Number: 18, Title: "The upgrade helper ends with a code near the end", Try: "update",
		Said:   "It said 4010-0008, or something like it, one digit I could not read.",
		Breaks: []string{"rights-missing", "payload-altered"},
	},
	{
		Number: 20, Title: "A medium made for the other firmware mode", Try: "install",
		Said:   "The installer complains of the disk. But the disk is new.",
		Breaks: []string{"medium-other-mode"},
	},
	{
		Number: 21, Title: "The loader is missing", Try: "start",
		Said:   "It says that it has mended itself, and it does not start all the same.",
		Breaks: []string{"loader-gone"},
	},
}
