package debian_test

import (
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/platform/debian"
)

func tree(files map[string]string) fs.FS {
	m := fstest.MapFS{}
	for name, text := range files {
		m[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return m
}

func TestWhatIsASystemOfTheFamily(t *testing.T) {
	const status = "var/lib/dpkg/status"
	for name, c := range map[string]struct {
		files map[string]string
		want  bool
	}{
		"Debian": {map[string]string{"etc/os-release": "ID=debian\nPRETTY_NAME='Debian 12'\n", status: ""}, true},
		"a derivative": {map[string]string{
			"etc/os-release": "ID=harbour\nID_LIKE=\"ubuntu debian\"\n",
			status:           "",
		}, true},
		"usr only":         {map[string]string{"usr/lib/os-release": "ID=debian\n", status: ""}, true},
		"another family":   {map[string]string{"etc/os-release": "ID=corbel\n", status: ""}, false},
		"no database":      {map[string]string{"etc/os-release": "ID=debian\n"}, false},
		"a data volume":    {map[string]string{"charts/north.pdf": "x"}, false},
		"commented values": {map[string]string{"etc/os-release": "#ID=debian\n", status: ""}, false},
	} {
		if _, ok := (debian.Adapter{}).Find(tree(c.files)); ok != c.want {
			t.Errorf("%s: %t", name, ok)
		}
	}
}

// A crash can leave the package database without a byte, or full of zeros.
func TestADatabaseThatACrashTookIsNoticed(t *testing.T) {
	for text, want := range map[string]string{
		"":                           "empty",
		strings.Repeat("\x00", 5000): "zero-filled",
		"Package: x\n":               "sound",
	} {
		in := debian.Adapter{}.Inventory(tree(map[string]string{
			"etc/os-release":      "ID=debian\nVERSION_ID=12\n",
			"var/lib/dpkg/status": text,
		}))
		if in == nil || in.Database != want || len(in.Packages) != 0 {
			t.Errorf("%.10q: %+v", text, in)
		}
	}
}

func TestLogsAreFoundWhereTheFamilyKeepsThem(t *testing.T) {
	fsys := tree(map[string]string{
		"var/log/dpkg.log":        "",
		"var/log/dpkg.log.2.gz":   "",
		"var/log/apt/term.log":    "",
		"var/log/apt/eipp.log.xz": "",
		"var/log/syslog":          "",
		"var/log/unattended-upgrades/unattended-upgrades.log": "",
		"var/log/btmp": "",
	})
	a := debian.Adapter{}
	var got []string
	for _, name := range a.Logs(fsys) {
		got = append(got, a.LogName(name))
	}
	want := []string{
		"logs/dpkg.log", "logs/dpkg.log.2.gz", "logs/apt/term.log", "logs/unattended-upgrades/unattended-upgrades.log",
		"logs/syslog",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}
