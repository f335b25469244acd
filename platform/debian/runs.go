package debian

import (
	"compress/gzip"
	"io"
	"io/fs"
	"regexp"
	"strings"
)

// A run is one of apt's, as its own history has it (apt.conf(5), Dir::Log::History).
type run struct {
	when    string // as it stands there: in the machine's own time
	command string
	failed  bool // it says so, or does not say that it ended
	changes []packageChange
}

// A packageChange is what a run was to do to a package. An empty version stands for none.
type packageChange struct{ name, architecture, was, now string }

// mends marks runs of Diorthos in apt's history.
const mends = "Diorthos::Mends"

const aptHistory = "var/log/apt/history.log"

// changedPackage is one of a list of packages: "libc6:amd64 (2.36-9, 2.36-10)", "tree:amd64 (2.1.0-1, automatic)".
var changedPackage = regexp.MustCompile(`([a-z0-9][a-z0-9+.-]*):([a-z0-9-]+) \(([^,)]+)(?:, ([^)]+))?\)`)

// latestRun is the last run of apt that people or timers began, and that changed anything; ok is false where apt's
// history tells of none.
func latestRun(root fs.FS) (r run, ok bool) {
	for _, name := range []string{aptHistory, aptHistory + ".1", aptHistory + ".1.gz"} {
		text, err := readEnd(root, name, 4<<20)
		if err != nil {
			continue // there is none
		}
		if strings.HasSuffix(name, ".gz") {
			plain, err := gzip.NewReader(strings.NewReader(text))
			if err != nil {
				continue // damaged, or too long: what is known is what can be read
			}
			raw, _ := io.ReadAll(io.LimitReader(plain, 16<<20)) // what is there of it
			text = string(raw)
		}
		if list := runsIn(text); len(list) > 0 {
			return list[len(list)-1], true
		}
	}
	return run{}, false
}

// runsIn reads apt's history: a block of lines a run. Those of Diorthos, and those that changed no package, are left out.
func runsIn(text string) (list []run) {
	for block := range strings.SplitSeq(text, "\n\n") {
		r := run{failed: true}
		for line := range strings.Lines(block) {
			field, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), ": ")
			switch field {
			case "Start-Date":
				r.when = value
			case "Commandline":
				r.command = value
			case "End-Date":
				r.failed = false
			case "Install":
				r.add(value, func(c *packageChange, first, _ string) { c.now = first })
			case "Upgrade", "Downgrade":
				r.add(value, func(c *packageChange, first, second string) { c.was, c.now = first, second })
			case "Remove", "Purge":
				r.add(value, func(c *packageChange, first, _ string) { c.was = first })
			}
		}
		r.failed = r.failed || strings.Contains(block, "\nError: ")
		if r.when != "" && len(r.changes) > 0 && !strings.Contains(r.command, mends) {
			list = append(list, r)
		}
	}
	return list
}

// add reads a list of packages.
func (r *run) add(value string, set func(c *packageChange, first, second string)) {
	for _, m := range changedPackage.FindAllStringSubmatch(value, -1) {
		c := packageChange{name: m[1], architecture: m[2]}
		set(&c, m[3], m[4])
		r.changes = append(r.changes, c)
	}
}
