package bag_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/core/layout"
)

// What tells of people is replaced, the same by the same; what only looks like it is not, or a diagnosis would suffer.
func TestAMaskReplacesPeopleAndAddressesAlone(t *testing.T) {
	for said, want := range map[string]string{
		"Requested-By: eivind (1000)":                                           "Requested-By: person-1 (1000)",
		"Eivind Skerrow <eivind@skerrow.example> wrote":                         "person-1 <mail-1@people.example> wrote",
		"Err:1 http://10.20.30.40:3142 connect to 10.20.30.41 (no)":             "Err:1 http://192.0.2.1:3142 connect to 192.0.2.2 (no)",
		"eth0 52:54:00:12:34:56 inet6 fe80::5054:ff:fe12:3456/64":               "eth0 00:00:5e:00:53:01 inet6 2001:db8::1/64",
		"again 10.20.30.40 and 10.20.30.40":                                     "again 192.0.2.1 and 192.0.2.1",
		"127.0.0.1 ::1 0.0.0.0 255.255.255.255":                                 "127.0.0.1 ::1 0.0.0.0 255.255.255.255",
		"Unpacking tide (2.36.9.1) over (2.36.9.0-1) ...":                       "Unpacking tide (2.36.9.1) over (2.36.9.0-1) ...",
		"libtide-2.36.9.1.so tide_1:2.3.4.5-6+deb12u1_all.deb":                  "libtide-2.36.9.1.so tide_1:2.3.4.5-6+deb12u1_all.deb",
		"at 12:04:05 on 2026-11-17 12:04:05.123456":                             "at 12:04:05 on 2026-11-17 12:04:05.123456",
		"eivindson is somebody else":                                            "eivindson is somebody else",
		"Could not connect to 10.2.3.4:80 (10.2.3.4). - connect (111: refused)": "Could not connect to 192.0.2.1:80 (192.0.2.1). - connect (111: refused)",
		"inet addr:10.2.3.4, 10.2.3.4-10.2.3.9":                                 "inet addr:192.0.2.1, 192.0.2.1-192.0.2.2",
		"Upgrade: tide:amd64 (2.36.9.0, 2.36.9.1)":                              "Upgrade: tide:amd64 (2.36.9.0, 2.36.9.1)",
		"999.1.2.3 is no address":                                               "999.1.2.3 is no address",
	} {
		m := bag.NewMask([]string{"eivind", "Eivind Skerrow", "eivind", "ed"})
		if got := m.Text(said); got != want {
			t.Errorf("%q\n got %q\nwant %q", said, got, want)
		}
		var copied bytes.Buffer
		n, err := m.Copy(&copied, strings.NewReader(said+"\n"+said))
		if err != nil || copied.String() != want+"\n"+want || n != int64(copied.Len()) {
			t.Errorf("%q copied: %q, %d, %v", said, copied.String(), n, err)
		}
	}
}

// Facts keep by what a machine and its disks are known.
func TestMaskedFactsKeepWhatAMachineIsKnownBy(t *testing.T) {
	facts := &bag.Facts{
		Schema: bag.FactsVersion, Gathered: time.Unix(1_795_000_000, 0).UTC(),
		Machine: bag.Machine{Name: "eivind-laptop", Site: "Lerrick"},
		Disks: []bag.Disk{
			{ID: "disk0", Marks: []string{"disk 10.20.30.40"}, Problems: []layout.Problem{}, Partitions: []bag.Partition{}},
		},
		Owed: []bag.RestartReason{{By: "/run", Text: "asked for by eivind at 10.20.30.40"}},
	}
	if err := bag.NewMask([]string{"eivind"}).Facts(facts); err != nil {
		t.Fatal(err)
	}
	if facts.Machine.Name != "eivind-laptop" || facts.Disks[0].Marks[0] != "disk 10.20.30.40" || !facts.Masked {
		t.Errorf("%+v", facts)
	}
	if got := facts.Owed[0].Text; got != "asked for by person-1 at 192.0.2.1" {
		t.Errorf("%q", got)
	}
}
