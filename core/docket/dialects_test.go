package docket_test

import (
	"context"
	"io"
	"strings"
	"testing"

	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

// TestAnotherPackageManagersLogTellsTheKind reads the log of a package tool that no platform
// here works on: to the depth of the kind.
func TestAnotherPackageManagersLogTellsTheKind(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	for said, want := range map[string]string{
		"Error: Transaction test error:\n  file /usr/bin/tide from install of skerrow-tide-2-1.x86_64 " +
			"conflicts with file from package gannet-tide-1-1.x86_64": "clash",
		"Error: \n Problem: conflicting requests\n" +
			"  - nothing provides libhemp.so.3()(64bit) needed by skerrow-rope-1-4.x86_64": "dependencies",
		"Error: Failed to download metadata for repo 'skerrow': " +
			"Cannot download repomd.xml: All mirrors were tried": "network",
		"Error: GPG check FAILED": "trust",
		"Error: Transaction test error:\n" +
			"  installing package skerrow-charts-9-1.noarch needs 212MB more space on the / filesystem\n" +
			"  at least 212MB more space needed on the / filesystem.": "space",
		"Error: rpmdb open failed": "records",
	} {
		var log strings.Builder
		log.WriteString("2026-11-22T06:12:00+0100 INFO --- logging initialized ---\n" +
			"2026-11-22T06:12:00+0100 DEBUG Command: dnf install skerrow-tide\n")
		for line := range strings.SplitSeq(said, "\n") {
			log.WriteString("2026-11-22T06:12:03+0100 CRITICAL " + line + "\n")
		}
		source := reading.Source{Name: "dnf.log", Open: func() (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(log.String())), nil
		}}
		d, err := docket.Draw(context.Background(), &bag.Facts{}, []reading.Source{source}, k, nil)
		if err != nil {
			t.Fatal(err)
		}
		if len(d.Kinds) == 0 || d.Kinds[0].Kind != want {
			t.Errorf("%.60q is told as %+v, want %s", said, d.Kinds, want)
		}
		if len(d.Attempts) == 0 || d.Attempts[0].Kind != reading.Install {
			t.Errorf("%.60q: the attempt is told as %+v", said, d.Attempts)
		}
	}
}
