package docket_test

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"diorthos/core/bag"
	"diorthos/core/catalogue"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

// toolMessages are messages of the package tools, as their catalogues hold them, and the
// kind of failure that each tells of.
var toolMessages = map[string]map[string]string{
	"apt": {
		"Option %s requires an argument.":                                  "mistake",
		"Invalid operation %s":                                             "mistake",
		"Couldn't find task '%s'":                                          "mistake",
		"The package cache file is corrupted":                              "records",
		"Unable to parse package file %s (%d)":                             "records",
		"Unable to parse Release file %s":                                  "records",
		"Failed to open StateFile %s":                                      "records",
		"Unrecognized type abbreviation: '%c'":                             "settings",
		"Did not understand pin type %s":                                   "settings",
		"Conflicting values set for option %s regarding source %s %s":      "settings",
		"The method '%s' is explicitly disabled via configuration.":        "settings",
		"List directory %s is missing.":                                    "settings",
		"Bad header data":                                                  "network",
		"The HTTP server sent an invalid reply header":                     "network",
		"Unable to read the cdrom database %s":                             "records",
		"The repository '%s' is no longer signed.":                         "trust",
		"No Hash entry in Release file %s":                                 "trust",
		"Wow, you exceeded the number of versions this APT is capable of.": "stopped",
		"Unable to correct dependencies":                                   "dependencies",
		"Packages need to be removed but remove is disabled.":              "settings",
		"Internal error, Ordering didn't finish":                           "dependencies",
		"Internal Error, AutoRemover broke stuff":                          "stopped",
	},
	"dpkg": {
		"conflicting diversions involving '%.250s' or '%.250s'":                               "records",
		"invalid statoverride mode %s":                                                        "records",
		"updates directory contains file '%.250s' whose name is too long (length=%d, max=%d)": "records",
		"info database format (%d) is bogus or too new; try getting a newer dpkg":             "records",
		"archive contained object '%.255s' of unknown type 0x%x":                              "archive",
		"conffile name '%s' is not an absolute pathname":                                      "archive",
		"archive '%.250s' contains two control members, giving up":                            "archive",
		"trying to overwrite '%.250s', which is the diverted version of '%.250s'":             "clash",
		"alternative %s can't be slave of %s: it is a master alternative":                     "clash",
		"an override for '%s' already exists; aborting":                                       "clash",
		"old file '%.250s' is the same as several new files! (both '%.250s' and '%.250s')":    "clash",
		"no package named '%s' is installed, cannot configure":                                "mistake",
		"package architecture (%s) does not match system (%s)":                                "not-for-this",
		"package %s requires reinstallation, will not remove":                                 "unfinished",
		"cannot remove non-foreign architecture '%s'":                                         "records",
	},
}

// kernelAnswers are what the C library writes for an answer of the kernel, and its kind.
var kernelAnswers = map[string]string{
	"No space left on device":           "space",
	"Disk quota exceeded":               "space",
	"Too many open files":               "space",
	"File too large":                    "space",
	"Argument list too long":            "space",
	"Read-only file system":             "rights",
	"Permission denied":                 "rights",
	"Operation not permitted":           "rights",
	"Input/output error":                "hardware",
	"Too many levels of symbolic links": "file-system",
	"Not a directory":                   "file-system",
	"File name too long":                "file-system",
	"Stale file handle":                 "file-system",
	"Invalid cross-device link":         "file-system",
	"Device or resource busy":           "lock",
	"Text file busy":                    "lock",
}

// hold is what stands for a value in a message.
var hold = regexp.MustCompile(`%[-.*0-9]*l*[a-z]`)

// filled is the message with made-up names and numbers in it.
func filled(message string, r *rand.Rand) string {
	names := []string{"skerrow-tide", "/opt/lerrick/chart.dat", "gannet-crane", "/var/lib/kestrel/log.7"}
	return hold.ReplaceAllStringFunc(message, func(p string) string {
		if strings.HasSuffix(p, "s") {
			return names[r.IntN(len(names))]
		}
		return fmt.Sprint(r.IntN(90) + 2)
	})
}

// shown is what a screen shows when the tool says that.
func shown(tool, message string) string {
	if tool == "apt" {
		return "root@lerrick-kiosk-2:~# apt-get -y install skerrow-tide\nReading package lists... Done\nE: " + message + "\n"
	}
	return "root@lerrick-kiosk-2:~# dpkg -i /repo/skerrow-tide_1.0_all.deb\n" +
		"Preparing to unpack /repo/skerrow-tide_1.0_all.deb ...\n" +
		"dpkg: error processing archive /repo/skerrow-tide_1.0_all.deb (--install):\n " + message + "\n" +
		"Errors were encountered while processing:\n /repo/skerrow-tide_1.0_all.deb\n"
}

// kindOf is the likeliest kind of what a screen showed.
func kindOf(t *testing.T, k *knowledge.Knowledge, screen string) string {
	t.Helper()
	source := reading.Source{Name: "console.txt", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(screen)), nil
	}}
	d, err := docket.Draw(context.Background(), &bag.Facts{}, []reading.Source{source}, k, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(d.Kinds) == 0 {
		return ""
	}
	return d.Kinds[0].Kind
}

// TestTheToolsOwnMessagesTellTheirKind holds the causes against the interface of the
// tools themselves: the messages that their catalogues list, with any names in them.
func TestTheToolsOwnMessagesTellTheirKind(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	listed := map[string]bool{}
	for _, file := range []string{"apt.mo", "libapt-pkg6.0.mo", "dpkg.mo"} {
		raw, err := fs.ReadFile(shipped.Files, "catalogues/de/"+file)
		if err != nil {
			t.Fatal(err)
		}
		messages, err := catalogue.Read(raw)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range messages {
			listed[m.Original] = true
		}
	}
	r := rand.New(rand.NewPCG(7, 1260))
	for tool, table := range toolMessages {
		for message, want := range table {
			if !listed[message] {
				t.Errorf("%s has no message %q", tool, message)
				continue
			}
			said := filled(message, r)
			if got := kindOf(t, k, shown(tool, said)); got != want {
				t.Errorf("%s: %q is told as %q, want %q", tool, said, got, want)
			}
		}
	}
	fails := regexp.MustCompile(`^(?:unable to|cannot|failed to|error) .*'%\.?\d*s'$`)
	var verbs []string
	for m := range listed {
		if fails.MatchString(m) && !strings.Contains(m, "updates") && !strings.Contains(m, "architecture") {
			verbs = append(verbs, m)
		}
	}
	slices.Sort(verbs)
	if len(verbs) < 60 {
		t.Fatalf("the catalogue has %d messages that end with a path", len(verbs))
	}
	for answer, want := range kernelAnswers {
		for range 6 {
			said := filled(verbs[r.IntN(len(verbs))], r) + ": " + answer
			if got := kindOf(t, k, shown("dpkg", said)); got != want {
				t.Errorf("dpkg: %q is told as %q, want %q", said, got, want)
			}
		}
	}
}
