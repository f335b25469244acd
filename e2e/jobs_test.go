package e2e

import (
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"diorthos/standin/jobs"
)

// A walk is one of the jobs that technicians come with, from the first word to the proof, by the
// commands that a person has.
type walk struct {
	number int
	title  string
	said   string // what the person at the counter says
	try    string // what fails, and has to succeed in the end
	steps  func(w *walker)
}

// A walker walks one, counts what it takes, and writes the page.
type walker struct {
	*stage
	walk
	folder   string
	medium   string // install medium of the machine's build
	page     strings.Builder
	commands int
	cause    int // commands until the cause was named
	asked    int // questions that were answered
	began    time.Time

	how     string        // by which flag the machine is named: --image by default
	attempt func() bool   // what failed; nil where the stand-in tries it
	kept    func() string // a digest of the users' files; nil where the stand-in's volumes hold them
	before  string        // what that was
	undone  int           // undos that were tried
	found   int           // exit status of the last command
}

// jobRows are the lines of the table, by job and by what it was walked on.
var jobRows = map[string]string{}

// closes says what the walk took, and keeps its page.
func (w *walker) closes(dir, page, on string) {
	w.t.Helper()
	status := "walked"
	if w.t.Failed() {
		status = "not to its end"
	}
	w.tells(
		fmt.Sprintf("Commands until the cause: %d; until it works: %d. Questions answered: %d. Undos tried on the way: %d.",
			w.cause, w.commands, w.asked, w.undone),
	)
	jobRows[fmt.Sprintf("%02d %s", w.number, on)] = fmt.Sprintf("| [%d](%s) | %s | %s | %d | %d | %d | %.0f s | %s |",
		w.number, page, on, w.title, w.cause, w.commands, w.asked, time.Since(w.began).Seconds(), status)
	if dir != "" {
		put(w.t, filepath.Join(dir, page), []byte(w.page.String()))
	}
}

// backsUp copies the files of people, before anything is changed that they could be lost by.
func (w *walker) backsUp() {
	w.t.Helper()
	to := filepath.Join(filepath.Dir(w.folder), "people.tar.zst")
	wants(w.t, w.does(0, "", "upkeep", "backup", w.folder, "--to", to), "every file has its sum")
}

// does runs a command of the technician and puts it onto the page.
func (w *walker) does(status int, answers string, args ...string) string {
	w.t.Helper()
	w.commands++
	shown := slices.Clone(args)
	for i, a := range shown {
		a = strings.ReplaceAll(strings.ReplaceAll(a, w.folder, "kiosk"), filepath.Dir(w.folder)+"/", "")
		if a = strings.ReplaceAll(a, w.medium, "medium.pack"); strings.ContainsAny(a, " '\"") {
			a = "'" + a + "'"
		}
		shown[i] = a
	}
	r := w.answering(answers, args...)
	w.found = r.status
	if status >= 0 && r.status != status {
		w.t.Errorf("diorthos %s: status %d, want %d\n%s%s", strings.Join(args, " "), r.status, status, r.out, r.errout)
	}
	w.asked += strings.Count(answers, "\n")
	text := strings.ReplaceAll(strings.ReplaceAll(r.out+r.errout, w.folder, "kiosk"), w.medium, "medium.pack")
	text = strings.ReplaceAll(text, filepath.Dir(w.folder)+"/", "")
	answered := 0
	for a := range strings.Lines(answers) { // a terminal would show what is typed
		if at := question.FindStringIndex(text[answered:]); at != nil {
			answered += at[1]
			text = text[:answered] + a + text[answered:]
		}
	}
	fmt.Fprintf(&w.page, "\n```\n$ diorthos %s\n%s```\n", strings.Join(shown, " "), shortened(text))
	return r.out + r.errout
}

// question is what can be answered.
var question = regexp.MustCompile(`(?:\[y/n\]|\[y\]es, \[n\]ot yet[^:]*:) ?`)

const mostLines = 24 // of one output on a page

var stamps = regexp.MustCompile(
	`\b20\d\d-\d\d-\d\d( \d\d:\d\d(:\d\d)?)?|\b20\d{6}-\d{6}|\b\d+(\.\d+)?(ms|µs|s)\b|/tmp/\S+`,
)

func shortened(text string) string {
	if here, err := os.Hostname(); err == nil {
		text = strings.ReplaceAll(text, "read here by "+here, "read here by rescue")
	}
	text = stamps.ReplaceAllStringFunc(text, func(s string) string {
		switch {
		case strings.HasPrefix(s, "/tmp/"):
			return "…"
		case strings.HasSuffix(s, "s"):
			return "a moment"
		}
		return "today"
	})
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if len(lines) > mostLines {
		lines = append(lines[:mostLines:mostLines], fmt.Sprintf("… %d lines more", len(lines)-mostLines))
	}
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, " ")
	}
	return strings.Join(lines, "\n") + "\n"
}

func (w *walker) tells(text string) { fmt.Fprintf(&w.page, "\n%s\n", text) }

// finds looks for the cause, which is the first thing that a person wants to know.
func (w *walker) finds(words ...string) {
	w.t.Helper()
	args := []string{"diagnose", cmp.Or(w.how, "--image"), w.folder}
	if _, err := os.Stat(w.folder + ".screen.txt"); err == nil {
		args = append(args, "--with", w.folder+".screen.txt")
	}
	wants(w.t, w.does(1, "", args...), words...)
	w.cause = w.commands
}

// tries does what failed: the person's attempt, not a command of ours.
func (w *walker) tries() bool {
	if w.attempt != nil {
		return w.attempt()
	}
	return w.run("standin", "try", w.folder, w.try).status == 0
}

// mends climbs until what failed succeeds, and says how.
func (w *walker) mends(answers string, more ...string) {
	w.t.Helper()
	for i := range 9 {
		if w.tries() {
			w.tells(fmt.Sprintf("The %s is tried again: it succeeds.", w.try))
			return
		}
		if i > 0 && w.attempt != nil {
			w.tells(fmt.Sprintf("The %s is tried again and fails; it may be by something else now.", w.try))
			found := w.cause
			w.finds()
			w.cause = found
		}
		w.asks(answers, more...)
	}
	if !w.tries() {
		w.t.Errorf("job %d: the %s still fails\n%s", w.number, w.try, w.page.String())
	}
}

// oneUndo is how a command says that what it did is taken back.
var oneUndo = regexp.MustCompile(`diorthos undo\s+(\S+\.journal)`)

// takesBack tries the undo that a command has named, looks whether the machine stands as it did before, if that is
// known, and puts the machine back as the command had left it. What was given back meanwhile has changed it once more.
func (w *walker) takesBack(said, before string) {
	w.t.Helper()
	m := oneUndo.FindStringSubmatch(said)
	if m == nil || strings.Contains(said, "given back") {
		return
	}
	parent, kept := filepath.Dir(w.folder), w.t.TempDir()
	witness(w.t, "cp", "-a", "--sparse=always", parent+"/.", kept)
	w.must(0, "undo", m[1])
	if now := w.standsAs(); before != "" && now != before {
		w.t.Errorf("undo of %s: the machine is not as it was\n%s", m[1], firstDifference(before, now))
	}
	w.undone++
	witness(w.t, "sh", "-ec", `cd "$0"
		for f in * .[!.]*; do
			if [ "$f" = "$2" ] && [ -d "$f" ]; then find "$f" -mindepth 1 -delete; else rm -rf "$f"; fi
		done
		cp -a --sparse=always "$1/." .`, parent, kept, filepath.Base(w.folder))
}

// standsAs is a digest of all of the machine: of each of its disks, or of every file of its folder with mode, owner and
// time, but for what apt makes anew of what it has read.
func (w *walker) standsAs() string {
	w.t.Helper()
	return witness(w.t, "sh", "-ec", `cd "$(dirname "$0")"; b=$(basename "$0")
		if [ -d "$b/etc" ]; then
			cd "$b"
			find . -xdev ! -name pkgcache.bin ! -name 'lock*' ! -name 'Lock' -printf '%p %y %m %U %G %s %T@ %l\n' | sort
			find . -xdev -type f ! -name pkgcache.bin -print0 | sort -z | xargs -0 sha256sum
		else
			find "$b" -type f \( -name "$b" -o -name '*.img' -o -name nameplate.json \) -print0 | sort -z | xargs -0 sha256sum
		fi`, w.folder)
}

// climbs takes a rung, and tries the undo that it names.
func (w *walker) climbs(status int, more ...string) {
	w.t.Helper()
	if w.asks("", more...); status >= 0 && w.found != status {
		w.t.Errorf("climb %v: status %d, want %d", more, w.found, status)
	}
}

// asks is climbs with somebody who answers.
func (w *walker) asks(answers string, more ...string) {
	w.t.Helper()
	before := w.standsAs()
	w.takesBack(w.does(-1, answers, append([]string{"climb", cmp.Or(w.how, "--image"), w.folder}, more...)...), before)
}

// hands is what only a person can do at the machine.
func (w *walker) hands(what string) {
	w.t.Helper()
	w.must(0, "standin", "hands", w.folder, what)
	w.tells("At the machine: " + strings.ReplaceAll(what, "-", " ") + ".")
}

// data is a digest of the users' files on every volume, by mtools.
func (w *walker) data() string {
	w.t.Helper()
	var layout struct {
		Partitions []struct {
			Number int   `json:"number"`
			Off    int64 `json:"offset"`
		} `json:"partitions"`
	}
	out := w.run("layout", "show", "--json", w.folder).out
	_ = json.Unmarshal([]byte(out), &layout)
	sum := sha256.New()
	for _, p := range layout.Partitions {
		dir := w.t.TempDir()
		image := fmt.Sprintf("%s/disk.img@@%d", w.folder, p.Off)
		if exec.CommandContext(w.t.Context(), "mcopy", "-s", "-n", "-i", image, "::/users", dir).Run() != nil {
			continue
		}
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				raw, _ := os.ReadFile(path)
				fmt.Fprintf(sum, "%s %x\n", strings.TrimPrefix(path, dir), sha256.Sum256(raw))
			}
			return nil
		})
	}
	return fmt.Sprintf("%x", sum.Sum(nil))
}

const aboutJobs = `# Jobs that technicians came with

Each page is a walk from the first word to the proof, by the commands that a person has, and but for job 19 without a
service; the pages are written by the run itself ("make prove-jobs"). A walk ends when the very thing that failed
succeeds and the users' files are the same by digest. After each climb the undo that it names is tried, and held against
every byte of the machine as it stood before; then the walk goes on from where the climb had left it.

"make demo" has a machine waiting for each job that is walked on Corbel, in jobs/NUMBER of its folder: go there, and
type what the page says. Those on Debian wait in jobs/NUMBER-debian, where it
runs as root (some minutes after its first start), and are made anew by standin/debian/job.sh.

Corbel is the stand-in; Debian is a real system, in a folder with the real dpkg and apt, or on a disk that is started in
an emulator in the end. Job 14 could be walked on both and is walked on Corbel alone: nothing here is a metered network.

`

// Each job is walked from the first word to the proof.
func TestJobs(t *testing.T) {
	s := newStage(t, boundsOfBags)
	dir := os.Getenv("DIORTHOS_JOBS")
	stories, err := jobs.Stories()
	if err != nil {
		t.Fatal(err)
	}
	for _, j := range jobs.List {
		if dir == "" && !slices.Contains([]int{1, 2, 12, 16, 21}, j.Number) {
			continue // "make prove-jobs" walks all
		}
		t.Run(fmt.Sprintf("%02d", j.Number), func(t *testing.T) {
			one := *s
			one.t, one.url = t, "http://127.0.0.1:1" // everything goes without a service
			folder := t.TempDir()
			w := &walker{
				stage: &one, folder: filepath.Join(folder, "kiosk"), medium: filepath.Join(folder, "medium.pack"),
				walk: walk{
					number: j.Number, title: stories[j.Number].Title, said: stories[j.Number].Said, try: j.Try,
					steps: steps[j.Number],
				},
			}
			w.must(0, "standin", "job", fmt.Sprint(j.Number), w.folder)
			data := w.data()
			w.began = time.Now()
			fmt.Fprintf(
				&w.page,
				"# %d. %s\n\n> %s\n\nThe machine waits in jobs/%02d of the demo's folder; this makes it anew:\n"+
					"\n```\n$ diorthos standin job %d kiosk\n```\n",
				j.Number,
				w.title,
				w.said,
				j.Number,
				j.Number,
			)
			w.steps(w)
			if now := w.data(); now != data {
				t.Error("users' files are not what they were")
			}
			w.closes(dir, fmt.Sprintf("%02d.md", j.Number), "Corbel")
		})
	}
}

// The table of all that was walked.
func TestJobsAreCounted(t *testing.T) {
	walked := map[string]bool{}
	table := "| job | on | what | commands until the cause | until it works | questions | time here | |\n|" +
		strings.Repeat("---|", 8) + "\n"
	for _, key := range slices.Sorted(maps.Keys(jobRows)) {
		table += jobRows[key] + "\n"
		walked[key[:2]] = walked[key[:2]] || strings.HasSuffix(jobRows[key], "| walked |")
	}
	count := 0
	for _, ok := range walked {
		if ok {
			count++
		}
	}
	t.Logf("%d of 21 jobs walked to their end\n\n%s", count, table)
	dir := os.Getenv("DIORTHOS_JOBS")
	if dir == "" {
		return
	}
	if count != 21 {
		t.Errorf("%d of 21", count)
	}
	put(t, filepath.Join(dir, "README.md"), []byte(aboutJobs+fmt.Sprintf("%d of 21:\n\n", count)+table))
}
