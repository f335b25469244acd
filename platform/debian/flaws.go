package debian

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"diorthos/core/bag"
	"diorthos/core/store"
	"diorthos/core/system"
)

// A flaw is something of a system's own state that is not as it has to be, and how it is put
// right.
type flaw struct {
	bag.StateFault
	// mend puts it right and says how; nil where it takes a person to decide.
	mend func(files *os.Root) (string, error)
}

// mendable reports whether it can be put right without a person.
func (f flaw) mendable() bool { return f.mend != nil || f.tool() != nil }

// A look finds flaws of one sort.
type look func(n *inner, root fs.FS) []flaw

// looks are all of them, in the order in which they are put right: what others are read from
// comes first.
var looks = []look{
	lookAtFolders, lookAtLinks, lookAtMarks, lookAtAccounts, lookAtAccountLocks, lookAtLocks, lookAtFormat,
	lookAtStatus, lookAtAvailable, lookAtExtended, lookAtUpdates,
	lookAtFileLists, lookAtPackageFolders, lookAtScripts, lookAtOverrides, lookAtDiversions, lookAtTriggers,
	lookAtAlternatives, lookAtDebconf,
	lookAtDownloads, lookAtLists, lookAtSources, lookAtPreload, lookAtPrograms,
	lookAtConffiles, lookAtMountTable, lookAtSignIn, lookAtShells,
}

// flaws lists what is not as it has to be.
func (n *inner) flaws() (list []flaw) {
	for _, l := range looks {
		list = append(list, l(n, n.fsys)...)
	}
	return list
}

// StateFaults are what is wrong with the records of packages and what the package system works
// with.
func (n *inner) StateFaults() ([]bag.StateFault, error) {
	list := []bag.StateFault{}
	for _, f := range n.flaws() {
		if f.mendable() {
			list = append(list, f.StateFault)
		}
	}
	return list, nil
}

// StateLeft are those that take a person.
func (n *inner) StateLeft() (list []bag.StateFault) {
	for _, f := range n.flaws() {
		if !f.mendable() {
			list = append(list, f.StateFault)
		}
	}
	return list
}

// StateFlaws are those of a system wherever its files lie.
func (Adapter) StateFlaws(root fs.FS, now time.Time) (list []bag.StateFault, mended int) {
	n := &inner{fsys: root, now: now}
	for _, f := range n.flaws() {
		list = append(list, f.StateFault)
		if f.mendable() {
			mended++
		}
	}
	return list, mended
}

// VerifyPayloads holds every file of every package against its checksum.
func (Adapter) VerifyPayloads(
	ctx context.Context, root fs.FS, workers int, progress func(done, of int),
) (*store.Verification, error) {
	return VerifyPayloads(ctx, root, workers, progress)
}

// MendState puts one right.
func (n *inner) MendState(ctx context.Context, _ []store.Source, fault bag.StateFault) (said string, err error) {
	list := n.flaws()
	i := slices.IndexFunc(list, func(f flaw) bool { return f.StateFault == fault && f.mendable() })
	if i < 0 {
		return "", fmt.Errorf("%s: it is not as it was found", fault.File)
	}
	return said, n.within(ctx, func(in system.Inside) error {
		if list[i].mend != nil {
			said, err = list[i].mend(in.Files())
			return err
		}
		tool := list[i].tool()
		said = list[i].File + ": by " + tool[0]
		out, err := in.Run(ctx, system.Command{
			Args: tool, Env: []string{"DEBIAN_FRONTEND=noninteractive"}, Limit: longestTool,
		})
		if err == nil && out.Status != 0 {
			err = fmt.Errorf("%s: it ended with status %d: %s", tool[0], out.Status, out.Text)
		}
		return err
	})
}

// asides makes the mend of something that is only in the way.
func (n *inner) asides(name string) func(*os.Root) (string, error) {
	return func(files *os.Root) (string, error) {
		to, err := n.moveAside(files, name)
		return fmt.Sprintf("%s is moved aside to %s", name, to), err
	}
}

// rewrites makes the mend of a text: what was there is kept aside.
func (n *inner) rewrites(name string, text []byte, how string) func(*os.Root) (string, error) {
	return func(files *os.Root) (string, error) {
		if info, err := files.Lstat(name); err == nil && !info.Mode().IsRegular() {
			if _, err := n.moveAside(files, name); err != nil {
				return "", err
			}
		} else if err := n.keepCopy(files, name); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: %s", name, how), replace(files, name, text, 0o644)
	}
}

// damaged says in what way a text is none; empty where it is one.
func damaged(text []byte) string {
	switch {
	case len(text) == 0:
		return "it is empty"
	case strings.Trim(string(text), "\x00") == "":
		return "it is full of zeros"
	case slices.Contains(text, 0):
		return fmt.Sprintf("it has zeros from byte %d on", slices.Index(text, 0))
	}
	return ""
}

// maxRecord bounds a record that is read whole, in bytes.
const maxRecord = 128 << 20

// readWhole reads a record; a folder in its place is told apart.
func readWhole(root fs.FS, name string) ([]byte, error) {
	in, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = in.Close() }() // it was only read
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("it is %s, not a file", kindOf(info.Mode()))
	}
	if info.Size() > maxRecord {
		return nil, fmt.Errorf("it has %d bytes", info.Size())
	}
	return io.ReadAll(io.LimitReader(in, maxRecord))
}

func kindOf(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return "a folder"
	case m&fs.ModeSymlink != 0:
		return "a link"
	case m&fs.ModeDevice != 0:
		return "a device"
	case m.IsRegular():
		return "a file"
	}
	return "something else"
}
