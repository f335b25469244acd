package docket_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

// A variation is the same failure with other evidence around it.
type variation struct {
	name  string
	part  bool // something is missing: that it cannot be told from this is an answer too
	files map[string][]byte
}

// leftOut gives the failure with every single file left out, and with each alone.
func leftOut(files map[string][]byte) (list []variation) {
	if len(files) < 2 {
		return nil
	}
	for name := range files {
		rest := map[string][]byte{}
		for other, raw := range files {
			if other != name {
				rest[other] = raw
			}
		}
		list = append(list, variation{
			"without " + name, true, rest,
		}, variation{name + " alone", true, map[string][]byte{name: files[name]}})
	}
	return list
}

// added gives the failure with files beside it that a colleague would add.
func added(files map[string][]byte) (list []variation) {
	more := func(name string, extra map[string]string) {
		all := map[string][]byte{}
		for n, raw := range files {
			all[n] = raw
		}
		for n, text := range extra {
			if _, there := all[n]; !there {
				all[n] = []byte(text)
			}
		}
		list = append(list, variation{"with " + name, false, all})
	}
	more("dpkg -l", map[string]string{"dpkg-l.txt": listed})
	more(
		"the package states",
		map[string]string{"status.txt": "Package: tzdata\n" +
			"Status: install ok installed\n" +
			"Architecture: all\n" +
			"Version: 2024a-0+deb12u1\n\n" +
			"Package: zlib1g\n" +
			"Status: install ok installed\n" +
			"Architecture: amd64\n" +
			"Version: 1:1.2.13.dfsg-1\n"},
	)
	more("df -h and df -i in one file", map[string]string{"space.txt": room})
	more("a journal", map[string]string{"journal.txt": kernelNoise()})
	more("a healthy run of before", map[string]string{"apt/term.log.1": wentWell, "apt/history.log.1": wentWellHistory})
	more("all of these", map[string]string{
		"dpkg-l.txt":        listed,
		"space.txt":         room,
		"journal.txt":       kernelNoise(),
		"apt/term.log.1":    wentWell,
		"apt/history.log.1": wentWellHistory,
	})
	return list
}

// dressed gives the failure in other letters: names of hosts, ends of lines,
// colours, the order of files.
func dressed(files map[string][]byte) (list []variation) {
	change := func(name string, f func([]byte) []byte) {
		all := map[string][]byte{}
		for n, raw := range files {
			all[n] = f(bytes.Clone(raw))
		}
		list = append(list, variation{name, false, all})
	}
	change("CR LF", func(raw []byte) []byte { return bytes.ReplaceAll(raw, []byte("\n"), []byte("\r\n")) })
	change("in colours", func(raw []byte) []byte {
		raw = regexp.MustCompile(`(?m)^(E|W):`).ReplaceAll(raw, []byte("\x1b[1;31m$1:\x1b[0m"))
		return raw
	})
	change("other names", func(raw []byte) []byte {
		for from, to := range map[string]string{
			"skerrow":        "lerrick",
			"kestrel":        "gannet",
			"deb.debian.org": "mirror.lerrick.example",
			"/dev/loop0":     "/dev/nvme0n1p3",
			"/dev/vda":       "/dev/sdb",
		} {
			raw = bytes.ReplaceAll(raw, []byte(from), []byte(to))
		}
		return raw
	})
	change("a day later", func(raw []byte) []byte {
		return regexp.MustCompile(`\b(20\d\d)-(\d\d)-(\d\d)\b`).ReplaceAllFunc(raw, func(day []byte) []byte {
			t, err := time.Parse(time.DateOnly, string(day))
			if err != nil {
				return day
			}
			return []byte(t.AddDate(0, 0, 1).Format(time.DateOnly))
		})
	})
	return list
}

const room = `Filesystem      Size  Used Avail Use% Mounted on
/dev/vda2        40G   11G   27G  29% /
tmpfs           2.0G     0  2.0G   0% /dev/shm
/dev/vda1       511M  6.1M  505M   2% /boot/efi

Filesystem      Inodes  IUsed   IFree IUse% Mounted on
/dev/vda2      2621440 153233 2468207    6% /
tmpfs           503119      1  503118    1% /dev/shm
/dev/vda1            0      0       0     - /boot/efi
`

const listed = `Desired=Unknown/Install/Remove/Purge/Hold
| Status=Not/Inst/Conf-files/Unpacked/halF-conf/Half-inst/trig-aWait/Trig-pend
|/ Err?=(none)/Reinst-required (Status,Err: uppercase=bad)
||/ Name           Version          Architecture Description
+++-==============-================-============-=================================
ii  adduser        3.134            all          add and remove users and groups
ii  tzdata         2024a-0+deb12u1  all          time zone and daylight-saving time data
ii  zlib1g:amd64   1:1.2.13.dfsg-1  amd64        compression library - runtime
`

const wentWell = `
Log started: 2024-03-01  08:00:00
Selecting previously unselected package harbour-lamps.
Preparing to unpack .../harbour-lamps_1.0_all.deb ...
Unpacking harbour-lamps (1.0) ...
Setting up harbour-lamps (1.0) ...
Log ended: 2024-03-01  08:00:02
`

const wentWellHistory = `
Start-Date: 2024-03-01  08:00:00
Commandline: apt-get install harbour-lamps
Install: harbour-lamps:amd64 (1.0)
End-Date: 2024-03-01  08:00:02
`

// A tally counts how variations of one kind were judged.
type tally struct{ all, same, open, other int }

// TestADiagnosisDoesNotDependOnWhatElseIsInTheBag varies the evidence of every
// captured failure. With less, the cause is the same or cannot be told; with more,
// and in other letters, it is the same.
func TestADiagnosisDoesNotDependOnWhatElseIsInTheBag(t *testing.T) {
	all := captures(t)
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	names, err := fs.Glob(all, "*/label.yaml")
	if err != nil || len(names) < 40 {
		t.Fatalf("%d failures: %v", len(names), err)
	}
	if os.Getenv("DIORTHOS_CAPTURED") == "" { // a slice: make prove-reading takes all
		r := rand.New(rand.NewPCG(17, 7))
		r.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
		names = names[:24]
	}
	counts := map[string]*tally{}
	for _, name := range names {
		files, want := captured(t, all, path.Dir(name))
		for kind, list := range map[string][]variation{
			"less":          leftOut(files),
			"more":          added(files),
			"other letters": dressed(files),
		} {
			c := counts[kind]
			if c == nil {
				c = &tally{}
				counts[kind] = c
			}
			for _, v := range list {
				c.all++
				switch got, p := first(t, k, v.files); {
				case got == want:
					c.same++
				case v.part && (got == "" || got == "none-known" || p < 0.5):
					c.open++
				default:
					c.other++
					t.Logf("%s, %s: %s (%.0f %%), want %s", path.Dir(name), v.name, got, 100*p, want)
				}
			}
		}
	}
	for kind, c := range counts {
		t.Logf("%-14s %4d: the same cause %d, cannot be told %d, another %d", kind, c.all, c.same, c.open, c.other)
		if c.other*100 > c.all*2 {
			t.Errorf("%s: another cause in %d of %d", kind, c.other, c.all)
		}
	}
}

// captured are the files of one failure, and its cause.
func captured(t *testing.T, all fs.FS, name string) (map[string][]byte, string) {
	t.Helper()
	files := map[string][]byte{}
	var l label
	err := fs.WalkDir(all, name, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := fs.ReadFile(all, at)
		if path.Base(at) == "label.yaml" {
			return yaml.Unmarshal(raw, &l)
		}
		files[strings.TrimPrefix(at, name+"/")] = raw
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return files, l.Cause
}

// first is the first cause and how probable it is; none where the kind alone is
// told.
func first(t *testing.T, k *knowledge.Knowledge, files map[string][]byte) (string, float64) {
	t.Helper()
	var list []reading.Source
	for name, raw := range files {
		list = append(list, reading.Source{
			Name: name,
			Size: int64(len(raw)),
			Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil },
		})
	}
	slices.SortFunc(list, func(a, b reading.Source) int { return strings.Compare(a.Name, b.Name) })
	d, err := docket.Draw(context.Background(), &bag.Facts{}, list, k, nil)
	if err != nil {
		t.Fatal(fmt.Errorf("%v: %w", list, err))
	}
	if len(d.Why) == 0 || d.Why[0].KindOnly {
		return "", 0
	}
	return d.Why[0].Cause, d.Why[0].Probability
}
