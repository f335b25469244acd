package docket_test

import (
	"context"
	"io"
	"slices"
	"strings"
	"testing"

	"diorthos/core/bag"
	"diorthos/core/diagnosis"
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

// TestARunThatEndsInTheMiddleOfALineFailed reads screens on which apt was ended while it said what it was doing: what ended
// it stands on the same line.
func TestARunThatEndsInTheMiddleOfALineFailed(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	for screen, cause := range map[string]string{
		"Reading package lists...File size limit exceeded\n":                 "file-too-large",
		"Reading package lists... Done\nBuilding dependency tree...Killed\n": "script-killed",
		"Paketlisten werden gelesen...Getötet\n":                             "script-killed",
	} {
		d, err := docket.Draw(context.Background(), &bag.Facts{}, []reading.Source{{
			Name: "console.txt", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(screen)), nil },
		}}, k, nil)
		if err != nil {
			t.Fatal(err)
		}
		if len(d.Attempts) != 1 || d.Attempts[0].Outcome != reading.Failed || len(d.Why) == 0 || d.Why[0].Cause != cause {
			t.Errorf("%q: %+v, because of %+v", screen, d.Attempts, d.Why)
		}
	}
}

// TestARunAndWhatItStartedAreOneAttempt reads what an unattended run left: its own log, that of the dpkg which it
// started, and apt's history, all within a second. It had said that it failed: it was not cut off. The same run beside
// the log of its own alone cannot be told, and is not cut off either.
func TestARunAndWhatItStartedAreOneAttempt(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	logs := map[string]string{
		"unattended-upgrades.log": "2026-12-02 08:57:10,241 INFO Starting unattended upgrades script\n" +
			"2026-12-02 08:57:10,304 INFO Packages that will be upgraded: skerrow-buoy\n" +
			"2026-12-02 08:57:10,777 ERROR Installing the upgrades failed!\n" +
			"2026-12-02 08:57:10,777 ERROR error message: installArchives() failed\n",
		"unattended-upgrades-dpkg.log": "Log started: 2026-12-02  08:57:10\n" +
			"Preparing to unpack .../skerrow-buoy_1.7_all.deb ...\nUnpacking skerrow-buoy (1.7) over (1.6) ...\n" +
			"Setting up skerrow-buoy (1.7) ...\nbuoy: calibration data missing\n" +
			"dpkg: error processing package skerrow-buoy (--configure):\n" +
			" installed skerrow-buoy package post-installation script subprocess returned error exit status 4\n" +
			"Log ended: 2026-12-02  08:57:10\n",
		"history.log": "\nStart-Date: 2026-12-02  08:57:10\nCommandline: /usr/bin/unattended-upgrade\n" +
			"Upgrade: skerrow-buoy:amd64 (1.6, 1.7)\nError: Sub-process /usr/bin/dpkg returned an error code (1)\n" +
			"End-Date: 2026-12-02  08:57:10\n",
	}
	read := func(names ...string) *docket.Docket {
		t.Helper()
		var sources []reading.Source
		for _, name := range names {
			sources = append(sources, reading.Source{Name: name, Open: func() (io.ReadCloser, error) {
				return io.NopCloser(strings.NewReader(logs[name])), nil
			}})
		}
		d, err := docket.Draw(context.Background(), &bag.Facts{}, sources, k, nil)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	d := read("unattended-upgrades.log", "unattended-upgrades-dpkg.log", "history.log")
	if len(d.Attempts) != 1 || d.Attempts[0].Outcome != reading.Failed || d.Attempts[0].Kind != reading.Update {
		t.Fatalf("%d attempts: %+v", len(d.Attempts), d.Attempts)
	}
	if d.Failure == nil || d.Failure.Decisive.Text != "buoy: calibration data missing" {
		t.Errorf("it broke at %+v", d.Failure)
	}
	if d := read("unattended-upgrades.log"); len(d.Attempts) != 1 || d.Attempts[0].Outcome != reading.Failed ||
		slices.ContainsFunc(d.Why, func(f diagnosis.Finding) bool { return f.Cause == "run-cut-off" }) {
		t.Errorf("its own log alone: %+v, %+v", d.Attempts, d.Why)
	}
}
