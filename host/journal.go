package host

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/journald"
)

// Bounds on what is taken of binary journals, in bytes: how much of them is read, the newest
// first, and how much of one start is written.
const (
	mostJournals = 1 << 30
	mostOfStart  = 4 << 20
	mostStarts   = 6
)

// startsName is what the starts that journals tell of are called in a bag.
const startsName = "logs/journal/starts.log"

// startsOf writes the latest starts that a system's binary journals tell of as one log. Journals
// that cannot be read are named in the facts.
func (l *Looked) startsOf(files fs.FS, names []string, current string) (log, error) {
	list := l.journals(files, names)
	if len(list) == 0 {
		return log{}, nil
	}
	defer func() {
		for _, j := range list {
			_ = j.close() // it was only read
		}
	}()
	var opened []*journald.File
	for _, j := range list {
		opened = append(opened, j.File)
	}
	boots := journald.Boots(opened, strings.ReplaceAll(current, "-", ""))
	boots = boots[max(0, len(boots)-mostStarts):]
	dir, err := os.MkdirTemp("", "diorthos-starts-")
	if err != nil {
		return log{}, err
	}
	l.scratch = append(l.scratch, dir)
	root, err := l.folder(dir)
	if err != nil {
		return log{}, err
	}
	out, err := os.OpenFile(dir+"/starts.log", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return log{}, err
	}
	if err := errors.Join(journald.WriteBoots(out, opened, boots, mostOfStart), out.Close()); err != nil {
		return log{}, fmt.Errorf("write the starts that the journal tells of: %w", err)
	}
	for _, j := range list {
		if j.Damaged > 0 {
			l.leaveOut(j.name, fmt.Sprintf("%d bytes of it are damaged, and are left out", j.Damaged))
		}
	}
	return log{fsys: root, name: "starts.log", as: startsName}, nil
}

// A journal is an open one, with its name on the machine.
type journal struct {
	*journald.File
	name  string
	close func() error
}

// journals opens those that are read: the newest, up to a bound.
func (l *Looked) journals(files fs.FS, names []string) (list []journal) {
	type found struct {
		name string
		info fs.FileInfo
	}
	var all []found
	for _, name := range names {
		if info, err := fs.Stat(files, name); err == nil {
			all = append(all, found{name, info})
		}
	}
	slices.SortStableFunc(all, func(a, b found) int { return b.info.ModTime().Compare(a.info.ModTime()) })
	total := int64(0)
	for _, f := range all {
		if total += f.info.Size(); total > mostJournals {
			l.leaveOut(f.name, fmt.Sprintf("newer journals have %d bytes already", int64(mostJournals)))
			continue
		}
		file, err := files.Open(f.name)
		if err != nil {
			l.leaveOut(f.name, err.Error())
			continue
		}
		at, ok := file.(io.ReaderAt)
		if !ok {
			l.leaveOut(f.name, "it cannot be read from its middle")
			_ = file.Close() // it was only read
			continue
		}
		j, err := journald.Open(at, f.info.Size())
		if err != nil {
			l.leaveOut(f.name, err.Error())
			_ = file.Close() // it was only read
			continue
		}
		list = append(list, journal{File: j, name: f.name, close: file.Close})
	}
	slices.Reverse(list)
	return list
}

func (l *Looked) leaveOut(name, why string) {
	l.Facts.LeftOut = append(l.Facts.LeftOut, bag.LeftOut{Name: name, Why: why})
}

// isJournal reports whether a file is a binary journal, by its first bytes.
func isJournal(files fs.FS, name string) bool {
	if !strings.HasSuffix(name, ".journal") && !strings.HasSuffix(name, ".journal~") {
		return false
	}
	f, err := files.Open(name)
	if err != nil {
		return false
	}
	defer func() { _ = f.Close() }() // it was only read
	head := make([]byte, 8)
	_, err = io.ReadFull(f, head)
	return err == nil && journald.IsJournal(head)
}
