package docket_test

import (
	"io"
	"strings"
	"testing"

	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

// A package that dpkg's log saw installed and that its database does not know
// any more speaks for a damaged database; one that was taken away does not.
func TestPackagesThatVanishAreNoticed(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	log := "2026-11-20 07:19:41 status installed skerrow-berth:all 1.3\n" +
		"2026-11-20 07:19:42 status installed skerrow-crew:all 2.6\n" +
		"2026-11-20 07:19:43 status installed less:amd64 590-2.1\n" +
		"2026-11-21 07:00:00 status not-installed skerrow-crew:all <none>\n"
	draw := func(names ...string) *docket.Docket {
		facts := &bag.Facts{Installed: &bag.Installed{Family: "debian", Packages: []bag.Package{}, Sources: []bag.Source{}}}
		for _, n := range names {
			facts.Installed.Packages = append(facts.Installed.Packages, bag.Package{Name: n, Version: "1", State: "installed"})
		}
		d, err := docket.Draw(t.Context(), facts, []reading.Source{{
			Name: "dpkg.log",
			Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(log)), nil },
		}}, k, nil)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	d := draw("less")
	if len(d.Why) == 0 || d.Why[0].Cause != "package-database-damaged" ||
		!strings.Contains(d.Why[0].For[0].Text, "skerrow-berth 1.3, installed by dpkg.log line 1") {
		t.Errorf("%+v", d.Why)
	}
	if d := draw("less", "skerrow-berth"); len(d.Why) > 0 {
		t.Errorf("nothing vanished: %+v", d.Why)
	}
}
