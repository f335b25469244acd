package climb

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
)

// A Record is what climbs leave on the machine where they are done: what was
// planned, consented to, begun, proven, borrowed and owed. It is one file per
// machine, beside the journals, and only ever appended to; each entry is durable
// before what it speaks of is done. It belongs to the machine, not to a case.
type Record struct {
	Machine string
	// Damaged counts entries that cannot be read: what they said is not known.
	Damaged int

	path    string
	file    *os.File
	entries []Entry
}

// A Mark is what an entry of the record speaks of.
type Mark string

// The marks.
const (
	MarkPlanned   Mark = "planned"
	MarkConsented Mark = "consented"
	MarkBegun     Mark = "begun"
	MarkEnded     Mark = "ended"
	MarkBorrowed  Mark = "borrowed"
	MarkReturned  Mark = "returned"
	MarkAccepted  Mark = "accepted" // a loan stays as it is
	MarkOwes      Mark = "owes a restart"
	MarkRestarted Mark = "restarted"
	MarkTakenBack Mark = "taken back"
	MarkBackedUp  Mark = "backed up" // files of people; why says where they are, and how much
)

// An Entry is one line of the record.
type Entry struct {
	At      time.Time `json:"at"`
	Mark    Mark      `json:"mark"`
	Case    int64     `json:"case,omitempty"`
	Rung    int       `json:"rung,omitempty"`
	Remedy  string    `json:"remedy,omitempty"`
	By      string    `json:"by,omitempty"` // who, or which flag
	Run     *Run      `json:"run,omitempty"`
	Journal string    `json:"journal,omitempty"`
	Loan    *Loan     `json:"loan,omitempty"`
	Number  int       `json:"number,omitempty"` // of a loan, from 1
	Boot    string    `json:"boot,omitempty"`   // what the machine called its start
	Why     string    `json:"why,omitempty"`
}

// ErrBusy means that another climb goes on at the same machine, here.
var ErrBusy = errors.New("another climb of this machine is going on here")

// OpenRecord reads the record at path, or begins one, and takes over what an
// earlier version kept in a ledger beside it. Nobody else can have it open.
func OpenRecord(path, machine string) (*Record, error) {
	r, err := ReadRecord(path, machine)
	if err != nil {
		return nil, err
	}
	if r.file, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600); err != nil {
		return nil, fmt.Errorf("record: %w", err)
	}
	if err := syscall.Flock(int(r.file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = r.file.Close()
		return nil, fmt.Errorf("record %s: %w", path, ErrBusy)
	}
	// What was appended between reading and locking counts.
	again, err := ReadRecord(path, machine)
	if err != nil {
		return nil, errors.Join(err, r.file.Close())
	}
	r.entries, r.Damaged = again.entries, again.Damaged
	if err := r.endLine(); err != nil {
		return nil, errors.Join(err, r.file.Close())
	}
	return r, nil
}

// endLine ends a line that was cut off, so that the next one can be read.
func (r *Record) endLine() error {
	info, err := r.file.Stat()
	if err != nil || info.Size() == 0 {
		return err
	}
	last := make([]byte, 1)
	if _, err := r.file.ReadAt(last, info.Size()-1); err != nil || last[0] == '\n' {
		return err
	}
	_, err = r.file.Write([]byte("\n"))
	return errors.Join(err, r.file.Sync())
}

// ReadRecord reads the record at path without taking it. One that is not there
// is empty.
func ReadRecord(path, machine string) (*Record, error) {
	r := &Record{Machine: machine, path: path}
	raw, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("record: %w", err)
	}
	if len(raw) == 0 {
		return r, r.takeOver(strings.TrimSuffix(path, filepath.Ext(path)) + ".ledger")
	}
	lines := bytes.Split(raw, []byte("\n"))
	for i, line := range lines {
		if len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		var e Entry
		if json.Unmarshal(line, &e) != nil || e.Mark == "" {
			if i < len(lines)-1 { // the last may have been cut off: what it spoke of was not begun
				r.Damaged++
			}
			continue
		}
		r.entries = append(r.entries, e)
	}
	return r, nil
}

// takeOver reads the ledger of an earlier version, which was of one case.
func (r *Record) takeOver(path string) error {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("record: %w", err)
	}
	var old struct {
		Case    int64  `json:"case"`
		Runs    []Run  `json:"runs"`
		Loans   []Loan `json:"loans"`
		Restart int    `json:"restart"`
		Boot    string `json:"boot"`
	}
	if err := json.Unmarshal(raw, &old); err != nil {
		return fmt.Errorf("ledger %s: %w: it may be moved aside; loans that it noted are then forgotten", path, err)
	}
	for i := range old.Runs {
		run := &old.Runs[i]
		r.entries = append(r.entries, Entry{
			At:     run.Began,
			Mark:   MarkEnded,
			Case:   old.Case,
			Rung:   run.Rung,
			Remedy: run.Remedy,
			Run:    run,
		})
	}
	for i := range old.Loans {
		l := old.Loans[i]
		r.entries = append(r.entries, Entry{
			At:     l.Borrowed,
			Mark:   MarkBorrowed,
			Case:   old.Case,
			Rung:   l.Rung,
			Loan:   &l,
			Number: i + 1,
		})
	}
	if old.Restart > 0 {
		r.entries = append(r.entries, Entry{Mark: MarkOwes, Case: old.Case, Rung: old.Restart, Boot: old.Boot})
	}
	return nil
}

// Close lets others have the record.
func (r *Record) Close() error {
	if r.file == nil {
		return nil
	}
	return r.file.Close()
}

// Note appends an entry. It is durable when Note returns.
func (r *Record) Note(e Entry) error {
	fresh, err := r.file.Seek(0, io.SeekEnd)
	if err != nil {
		return fmt.Errorf("record: %w", err)
	}
	list := []Entry{e}
	if fresh == 0 { // the first: what was taken over comes before it
		list = append(slices.Clone(r.entries), e)
	}
	var text []byte
	for _, e := range list {
		line, err := json.Marshal(e)
		if err != nil {
			return fmt.Errorf("record: %w", err)
		}
		text = append(append(text, line...), '\n')
	}
	if _, err := r.file.Write(text); err != nil {
		return fmt.Errorf("record: %w", err)
	}
	if err := r.file.Sync(); err != nil {
		return fmt.Errorf("record: %w", err)
	}
	if fresh == 0 {
		if err := block.SyncFolder(filepath.Dir(r.path)); err != nil {
			return fmt.Errorf("record: %w", err)
		}
	}
	r.entries = append(r.entries, e)
	return nil
}

// Runs are those of a case, in the order in which they were made; what was taken
// back later is there as such.
func (r *Record) Runs(number int64) (list []Run) {
	for _, e := range r.entries {
		if e.Case != number {
			continue
		}
		switch {
		case e.Mark == MarkEnded && e.Run != nil:
			list = append(list, *e.Run)
		case e.Mark == MarkTakenBack:
			list = append(list, Run{Rung: e.Rung, Remedy: e.Remedy, Outcome: TakenBack, Began: e.At})
		}
	}
	return list
}

// Mended lists the remedies that were tried on the machine, for whatever case, with how
// each ended, without those that were taken back by a person.
func (r *Record) Mended() (list []bag.Mended) {
	for _, e := range r.entries {
		switch {
		case e.Mark == MarkEnded && e.Run != nil && e.Remedy != "" &&
			!slices.Contains([]Outcome{Planning, Stopped, CutOff}, e.Run.Outcome):
			list = append(list, bag.Mended{At: e.At.UTC(), Remedy: e.Remedy, Outcome: string(e.Run.Outcome)})
		case e.Mark == MarkTakenBack:
			list = slices.DeleteFunc(list, func(m bag.Mended) bool {
				return m.Remedy == e.Remedy && m.Outcome == string(Proven)
			})
		}
	}
	return list
}

// Backup is what the latest backup of people's files was noted as; nil where none was made here.
func (r *Record) Backup() *Entry {
	for _, e := range slices.Backward(r.entries) {
		if e.Mark == MarkBackedUp {
			return &e
		}
	}
	return nil
}

// A Debt is a loan with its number in the record.
type Debt struct {
	Number int
	Loan
}

// Owed lists the loans that nobody has returned or accepted.
func (r *Record) Owed() (list []Debt) {
	for _, e := range r.entries {
		switch e.Mark {
		case MarkBorrowed:
			if e.Loan.Owed() {
				list = append(list, Debt{e.Number, *e.Loan})
			}
		case MarkReturned, MarkAccepted:
			list = slices.DeleteFunc(list, func(d Debt) bool { return d.Number == e.Number })
		}
	}
	return list
}

// Borrow notes a loan; only then may the thing be changed. What is borrowed
// already is not borrowed twice.
func (r *Record) Borrow(number int64, l Loan) error {
	for _, have := range r.Owed() {
		if have.What == l.What {
			return nil
		}
	}
	n := 0
	for _, e := range r.entries {
		if e.Mark == MarkBorrowed {
			n = max(n, e.Number)
		}
	}
	return r.Note(Entry{At: l.Borrowed, Mark: MarkBorrowed, Case: number, Rung: l.Rung, Loan: &l, Number: n + 1})
}

// A Restart is one that is owed: before it no further rung is taken.
type Restart struct {
	Rung int
	Boot string // what the machine called its start when it became owed
}

// OwedRestart is the restart that is owed, or nil.
func (r *Record) OwedRestart() (owed *Restart) {
	for _, e := range r.entries {
		switch e.Mark {
		case MarkOwes:
			owed = &Restart{e.Rung, e.Boot}
		case MarkRestarted:
			owed = nil
		}
	}
	return owed
}

// Restarted reports whether no restart is owed any more, and notes one that was
// seen. boot is the machine's present start, and told that a person saw it.
func (r *Record) Restarted(boot string, told bool, now time.Time) (bool, error) {
	owed := r.OwedRestart()
	if owed == nil {
		return true, nil
	}
	if !told && (owed.Boot == "" || boot == "" || boot == owed.Boot) {
		return false, nil
	}
	by := "seen"
	if told {
		by = "told"
	}
	return true, r.Note(Entry{At: now, Mark: MarkRestarted, Rung: owed.Rung, Boot: boot, By: by})
}

// Unfinished is a rung that was begun and of which no end is noted, or one that
// was cut off: the last one, if nothing was heard of it since; nil when there is
// none.
func (r *Record) Unfinished() *Entry {
	var open *Entry
	for i := range r.entries {
		e := &r.entries[i]
		switch e.Mark {
		case MarkBegun:
			open = e
		case MarkEnded:
			if e.Run != nil && e.Run.Outcome == CutOff {
				open = &Entry{At: e.At, Mark: MarkBegun, Case: e.Case, Rung: e.Rung, Remedy: e.Remedy, Journal: e.Run.Journal}
				continue
			}
			if open != nil && (e.Run == nil || e.Run.Journal == open.Journal || e.Rung == open.Rung) {
				open = nil
			}
		case MarkTakenBack:
			if open != nil && e.Journal == open.Journal {
				open = nil
			}
		}
	}
	return open
}
