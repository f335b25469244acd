package docket_test

import (
	"io/fs"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
	"diorthos/standin/debian"
)

// The terminal's log has a time only for the start and the end of a run;
// dpkg's log has one for each step. Together they say when it broke.
func TestRecordsWithoutATimeStandWhereAnotherLogPutsThem(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	folder, err := fs.Sub(debian.Captured, "captured/full-boot-volume")
	if err != nil {
		t.Fatal(err)
	}
	d, err := docket.Draw(t.Context(), &bag.Facts{}, logs(t, folder), k, nil)
	if err != nil {
		t.Fatal(err)
	}
	began, ended := d.Attempts[0].Began, d.Attempts[0].Ended
	last := time.Time{}
	decisive := 0
	for _, p := range d.Line {
		if p.Time.Before(last) || p.Time.IsZero() {
			t.Fatalf("%s follows %s: %+v", p.Time, last, p)
		}
		last = p.Time
		if p.Decisive {
			decisive++
			// dpkg.log: the kernel's package is configured from 07:19:32 on.
			if !p.About || p.Time.Before(began.Add(10*time.Second)) || !p.Time.Before(ended) {
				t.Errorf("the decisive record is put at %s, the run was from %s to %s", p.Time, began, ended)
			}
		}
	}
	if decisive != 1 {
		t.Errorf("%d decisive points", decisive)
	}
}
