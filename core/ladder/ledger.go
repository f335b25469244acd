package ladder

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// A Loan is something that was changed for the repair's sake and has to be
// given back: the clock, the network, a policy, a moved folder.
type Loan struct {
	What     string     `json:"what"`
	Back     string     `json:"back"` // how it is given back
	Rung     int        `json:"rung"`
	Borrowed time.Time  `json:"borrowed"`
	Returned *time.Time `json:"returned,omitempty"`
	Accepted string     `json:"accepted,omitempty"` // why it may stay as it is
	// Action and Params give it back; without them a person has to.
	Action string            `json:"action,omitempty"`
	Params map[string]string `json:"params,omitempty"`
}

// Owed reports whether it is still to be given back.
func (l Loan) Owed() bool { return l.Returned == nil && l.Accepted == "" }

// A Ledger is what a climb keeps on the machine where it is done: the rungs
// taken, the loans, a restart that is owed. It is on disk before anything is
// borrowed, and survives whatever happens to the climb.
type Ledger struct {
	Case    int64  `json:"case"`
	Machine string `json:"machine"`
	Runs    []Run  `json:"runs"`
	Loans   []Loan `json:"loans"`
	// Restart is the rung after which the machine has to be restarted before
	// any other is taken; 0 when none is owed. Boot is what the machine called
	// its start when the restart became owed, if it could be asked.
	Restart int    `json:"restart,omitempty"`
	Boot    string `json:"boot,omitempty"`

	path string
}

// ErrOtherClimb means that a ledger belongs to another case or machine.
var ErrOtherClimb = errors.New("the ledger belongs to another climb")

// OpenLedger reads the ledger at path, or begins one.
func OpenLedger(path string, number int64, machine string) (*Ledger, error) {
	l := &Ledger{Case: number, Machine: machine, Runs: []Run{}, Loans: []Loan{}, path: path}
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return nil, fmt.Errorf("ledger: %w", err)
	}
	if err := json.Unmarshal(raw, l); err != nil {
		return nil, fmt.Errorf("ledger %s: %w: it may be moved aside; loans that it noted are then forgotten", path, err)
	}
	if l.Case != number || l.Machine != machine {
		return nil, fmt.Errorf("ledger %s: %w: case %d of %s", path, ErrOtherClimb, l.Case, l.Machine)
	}
	return l, nil
}

// save writes the ledger beside its place and moves it there.
func (l *Ledger) save() (err error) {
	raw, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(l.path), ".ledger-")
	if err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name()) // what it was to replace is still there
		}
	}()
	_, err = f.Write(append(raw, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	return os.Rename(f.Name(), l.path)
}

// Note keeps what taking a rung came to.
func (l *Ledger) Note(r Run) error {
	l.Runs = append(l.Runs, r)
	return l.save()
}

// Borrow notes a loan. It is on disk when Borrow returns; only then may the
// thing be changed. What is borrowed already is not borrowed twice.
func (l *Ledger) Borrow(loan Loan) error {
	for _, have := range l.Loans {
		if have.What == loan.What && have.Owed() {
			return nil
		}
	}
	l.Loans = append(l.Loans, loan)
	return l.save()
}

// Owed lists the loans that nobody has returned or accepted, by their number
// in the ledger.
func (l *Ledger) Owed() map[int]Loan {
	m := map[int]Loan{}
	for i, loan := range l.Loans {
		if loan.Owed() {
			m[i] = loan
		}
	}
	return m
}

// Return notes that a loan was given back.
func (l *Ledger) Return(i int, when time.Time) error {
	l.Loans[i].Returned = &when
	return l.save()
}

// Accept notes that a loan stays as it is, and why.
func (l *Ledger) Accept(i int, why string) error {
	l.Loans[i].Accepted = why
	return l.save()
}

// OweRestart blocks all further rungs until the restart is seen. boot is what
// the machine calls its present start; empty when it cannot be asked.
func (l *Ledger) OweRestart(rung int, boot string) error {
	l.Restart, l.Boot = rung, boot
	return l.save()
}

// Restarted reports whether no restart is owed any more. boot is the machine's
// present start, and told that a person saw the restart.
func (l *Ledger) Restarted(boot string, told bool) (bool, error) {
	seen := told || l.Boot != "" && boot != "" && boot != l.Boot
	if l.Restart == 0 || !seen {
		return l.Restart == 0, nil
	}
	l.Restart, l.Boot = 0, ""
	return true, l.save()
}
