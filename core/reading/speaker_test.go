package reading_test

import (
	"context"
	"strings"
	"testing"

	"diorthos/core/reading"
)

// read gives the latest attempt that failed, of what a screen showed.
func failureOn(t *testing.T, screen string) *reading.Attempt {
	t.Helper()
	timeline, err := load(t).Reader.Read(
		context.Background(), []reading.Source{text("console.txt", screen)}, reading.Anchor{Now: anchor}, nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	a := timeline.Latest()
	if a == nil || a.Decisive == nil {
		t.Fatalf("no failure was found in %d attempts", len(timeline.Attempts))
	}
	return a
}

const refused = "dpkg: error processing package skerrow-gate (--configure):\n" +
	" installed skerrow-gate package post-installation script subprocess returned error exit status 1\n" +
	"Errors were encountered while processing:\n skerrow-gate\n"

func TestTheDecisiveLineIsThatOfWhoFailed(t *testing.T) {
	for _, c := range []struct{ name, says, want, by string }{
		{
			"a neutral last word", "counting the gates\ngate 4 is lit\n",
			"gate 4 is lit", "what skerrow-gate runs at configure",
		},
		{
			"what healthy runs print comes after it",
			"gate 4 is lit\n(Reading database ... 1290 files and directories currently installed.)\n",
			"gate 4 is lit", "what skerrow-gate runs at configure",
		},
		{
			"who calls itself an error before who only sounds like one",
			"sign-file not found, gates are not signed\nError! The gate's drawings cannot be found.\n",
			"Error! The gate's drawings cannot be found.", "what skerrow-gate runs at configure",
		},
		{
			"who failed before who passes it on",
			"gatectl: no space left on device\nE: gates failure: gatectl 70\n",
			"gatectl: no space left on device", "gatectl, run for skerrow-gate at configure",
		},
	} {
		a := failureOn(t, "Setting up skerrow-gate (1.0) ...\n"+c.says+refused)
		if a.Decisive.Text != c.want || a.Decisive.Speaker.String() != c.by {
			t.Errorf("%s: %q by %q, want %q by %q", c.name, a.Decisive.Text, a.Decisive.Speaker, c.want, c.by)
		}
	}
}

func TestAnotherMachineThanTheAddressNamesIsKnown(t *testing.T) {
	const repository = "http://packages.skerrow.example/debian"
	for _, c := range []struct{ address, says, want string }{
		{repository, "Could not connect to 10.7.0.2:3128 (10.7.0.2). - connect", "10.7.0.2:3128"},
		{repository, "Could not resolve 'gate.skerrow.example'", "gate.skerrow.example"},
		{repository, "Could not connect to packages.skerrow.example:80 (10.7.0.9)", ""},
		{repository, "Could not connect to edge7.skerrow.example:80 (10.7.0.9)", ""}, // another name of it
		{"http://10.7.0.9:8080/debian", "Could not connect to 10.7.0.9:8080 (10.7.0.9)", ""},
	} {
		a := failureOn(t, "Err:1 "+c.address+" bookworm InRelease\n  "+c.says+"\nE: Some index files failed to download.\n")
		if a.Decisive.Peer != c.want {
			t.Errorf("%s, %s: peer %q, want %q", c.address, c.says, a.Decisive.Peer, c.want)
		}
	}
}

func TestSeveralStatesStandInOneFile(t *testing.T) {
	const df = "Filesystem      Size  Used Avail Use% Mounted on\n/dev/vda2        40G   11G   27G  29% /\n"
	const inodes = "Filesystem      Inodes  IUsed   IFree IUse% Mounted on\n" +
		"/dev/vda2      2621440 153233 2468207    6% /\n"
	for name, body := range map[string]string{
		"space.txt": df + "\n" + inodes,
		"console.txt": "E: Could not open lock file\nroot@kiosk:~# df -h; df -i\n" + df + inodes +
			"\n/dev/vda9 1 2 3 4% /no\n",
	} {
		timeline, err := load(t).Reader.Read(
			context.Background(), []reading.Source{text(name, body)}, reading.Anchor{Now: anchor}, nil,
		)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, s := range timeline.State {
			got = append(got, s.Fields["mount"]+" "+s.Fields["free"]+s.Fields["inodesFree"])
		}
		if strings.Join(got, ", ") != "/ 28991029248, / 2468207" {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func TestTemplatesAreChecked(t *testing.T) {
	got, err := reading.ReadTemplates(strings.NewReader("# of two runs\n2\tgate # is open\n"))
	if err != nil || !got.Knows("gate 12 is open") || got.Knows("gate 12 is shut") {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []string{"gate", "x\tgate", "0\tgate"} {
		if _, err := reading.ReadTemplates(strings.NewReader(bad)); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}
