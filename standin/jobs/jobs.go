// Package jobs has a broken machine of the stand-in system for each of the jobs that technicians come with, which
// docs/jobs walks: for learning, and for the tests that walk them.
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

	"github.com/goccy/go-yaml"

	shipped "diorthos/knowledge"
	"diorthos/standin/corbel"
)

// A Job is what is wrong with a machine.
type Job struct {
	Number int
	Mode   string   // of the firmware; uefi where it is empty
	Breaks []string // faults, in their order
	Try    string   // what fails: update, upgrade, driver, feature, install or start
}

// A Story is what somebody comes with.
type Story struct {
	Number int    `yaml:"number"`
	Title  string `yaml:"title"`
	Said   string `yaml:"said"` // by the person at the counter
}

// Stories are those of all jobs, by number.
func Stories() (map[int]Story, error) {
	raw, err := shipped.Files.ReadFile("jobs.yaml")
	if err != nil {
		return nil, err
	}
	var doc struct {
		Jobs []Story `yaml:"jobs"`
	}
	if err := yaml.Unmarshal(raw, &doc); err != nil {
		return nil, fmt.Errorf("jobs.yaml: %w", err)
	}
	all := map[int]Story{}
	for _, s := range doc.Jobs {
		all[s.Number] = s
	}
	return all, nil
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

// Prepare builds the machine in a folder, breaks it, and makes the attempt that fails. The vendor's medium of its build
// is put beside the folder, as "medium.pack".
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
		Seed: uint64(
			700 + j.Number,
		), Mode: mode, Name: filepath.Base(folder), Site: Site, Now: now.UTC(), Vendor: v, //nolint:gosec // small
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
		Number: 1, Try: "update",
		Breaks: []string{"start-type-wrong", "cache-package-damaged", "leftover-work-folder", "payload-missing"},
	},
	{
		Number: 2, Try: "update",
		Breaks: []string{"signature-expired"},
	},
	{
		Number: 3, Try: "install", Mode: "bios",
		Breaks: []string{"external-disk-first"},
	},
	{
		Number: 4, Try: "start", Mode: "bios",
		Breaks: []string{"active-flag-wrong"},
	},
	{
		Number: 5, Try: "update",
		Breaks: []string{"source-other-build"},
	},
	{
		Number: 6, Try: "upgrade",
		Breaks: []string{"system-volume-full"},
	},
	{
		Number: 7, Try: "update",
		Breaks: []string{"branch-owner-wrong", "restart-owed"},
	},
	{
		Number: 8, Try: "start",
		Breaks: []string{"update-stops-start"},
	},
	{
		Number: 10, Try: "update",
		Breaks: []string{"service-need-stopped", "payload-altered"},
	},
	{
		Number: 11, Try: "feature",
		Breaks: []string{"feature-source-forbidden"},
	},
	{
		Number: 12, Try: "start",
		Breaks: []string{"pending-many-gone"},
	},
	{
		Number: 13, Try: "update",
		Breaks: []string{"start-type-wrong", "leftover-work-folder"},
	},
	{
		Number: 14, Try: "update",
		Breaks: []string{"network-metered"},
	},
	{
		Number: 15, Try: "driver",
		Breaks: []string{"driver-older"},
	},
	{
		Number: 16, Try: "install", Mode: "bios",
		Breaks: []string{"style-against-firmware"},
	},
	{
		Number: 18, Try: "update",
		Breaks: []string{"rights-missing", "payload-altered"},
	},
	{
		Number: 20, Try: "install",
		Breaks: []string{"medium-other-mode"},
	},
	{
		Number: 21, Try: "start",
		Breaks: []string{"loader-gone"},
	},
}
