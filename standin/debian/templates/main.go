// Command templates mines from the logs of runs that succeeded what healthy machines
// print: each line without what differs from run to run, with the number of runs that
// printed it. See ../healthy.sh.
package main

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"

	"diorthos/core/reading"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: templates DIR FILE.gz")
		os.Exit(2)
	}
	if err := run(os.DirFS(os.Args[1]), os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "templates:", err)
		os.Exit(1)
	}
}

// leastRuns is in how many runs a line has to stand that sounds like nothing: what one
// package alone says is not worth keeping.
const leastRuns = 2

func run(logs fs.FS, to string) error {
	runs, err := fs.ReadDir(logs, ".")
	if err != nil {
		return err
	}
	count := map[string]int{}
	for _, r := range runs {
		seen := map[string]bool{}
		for _, name := range []string{"console.txt", "term.log", "starts.log"} {
			raw, err := fs.ReadFile(logs, path.Join(r.Name(), name))
			if errors.Is(err, fs.ErrNotExist) { // a run of the package system, or a start
				continue
			}
			if err != nil {
				return err
			}
			for line := range strings.Lines(string(raw)) {
				line = start.ReplaceAllString(line, "")
				if text := reading.Template(strings.TrimRight(line, "\n")); len(text) > 8 && !work.MatchString(text) &&
					!surroundings.MatchString(text) {
					seen[text] = true
				}
			}
		}
		for text := range seen {
			count[text]++
		}
	}
	var out bytes.Buffer
	w := bufio.NewWriter(&out)
	_, _ = fmt.Fprintf(w, "# lines that %d runs printed which succeeded, without digits and names\n", len(runs))
	for _, text := range slices.Sorted(maps.Keys(count)) {
		if count[text] >= leastRuns || sounds.MatchString(text) {
			_, _ = fmt.Fprintf(w, "%d\t%s\n", count[text], text)
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	var packed bytes.Buffer
	z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(out.Bytes()); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(to, packed.Bytes(), 0o644)
}

// start is what stands before the text of a record of a start.
var start = regexp.MustCompile(`^\d{4}-\d\d-\d\dT\S+ \S+ [^:\[\s]+(?:\[\d+\])? [a-z]+: `)

// work are lines of the package system itself about packages, and addresses.
var work = regexp.MustCompile(
	`^(?:Get:|Preparing to|Selecting|Unpacking|Setting up|Removing|Purging|Processing|Log )|://` +
		`|^(?:[a-z0-9#+.:]*[-#+.*][a-z0-9#+.:*-]* ?)+$`,
) // a list of packages

// surroundings are words of the layered folder in which the runs were made: on a machine they tell of a failure.
var surroundings = regexp.MustCompile("`overlay'")

// sounds is wider than what the reader takes for a failure: the words may grow.
var sounds = regexp.MustCompile(
	`(?i)error|fail|warn|cannot|can't|could not|couldn't|unable|not found|missing|denied|invalid|` +
		`no such|skipp|ignor|deprecat|abort|killed|broken|conflict|mismatch|unsupported|^[EWN]: `,
)
