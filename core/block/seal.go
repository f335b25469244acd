package block

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"strings"
)

// A seal is a small file beside a journal that says how far the journal came: it is
// made durable before the disk is touched. A journal that lost its end, by a full or
// damaged file system or a bad copy, looks like one that was cut off before anything
// was written; held against its seal it does not.
type seal struct {
	State  State  `json:"state"`
	Writes int    `json:"writes"` // how many the journal noted
	End    int64  `json:"end"`    // bytes of the journal up to and with the last of them
	Chain  uint32 `json:"chain"`  // checksum of that record
	Digest []byte `json:"digest,omitempty"`
}

// SealFile is what a seal is kept in; *os.File is one.
type SealFile interface {
	io.WriterAt
	Sync() error
	Close() error
}

const (
	sealMagic = "diorthos seal 1 "
	sealSize  = 512 // bytes: one sector, so that it is written whole or not at all
	// SealSuffix is what the name of a seal has more than its journal's.
	SealSuffix = ".seal"
)

// bytes is the seal as it is written: the magic, a checksum over what follows, JSON.
func (s seal) bytes() ([]byte, error) {
	body, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	text := fmt.Sprintf("%s%08x %s\n", sealMagic, crc32.Checksum(body, castagnoli), body)
	return []byte(text + strings.Repeat(" ", max(0, sealSize-len(text)))), nil
}

// errSeal means that a seal cannot be read: it says nothing then.
var errSeal = errors.New("the seal is damaged")

// readSeal reads the seal of the journal at path; nil if there is none.
func readSeal(path string) (*seal, error) {
	raw, err := os.ReadFile(path + SealSuffix)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("seal of journal %s: %w", path, err)
	}
	text, ok := strings.CutPrefix(strings.TrimRight(string(raw), " \n"), sealMagic)
	sum, body, _ := strings.Cut(text, " ")
	s := &seal{}
	if !ok || sum != fmt.Sprintf("%08x", crc32.Checksum([]byte(body), castagnoli)) ||
		json.Unmarshal([]byte(body), s) != nil {
		return nil, errSeal
	}
	return s, nil
}

// sealAs writes how far the journal has come, and makes it durable.
func (j *Journal) sealAs(state State, digest []byte) error {
	if j.seal == nil {
		return nil
	}
	if err := j.writeSeal(state, digest); err != nil {
		return err
	}
	if err := j.seal.Sync(); err != nil {
		return fmt.Errorf("seal of journal %s: make durable: %w", j.name, err)
	}
	return nil
}

func (j *Journal) writeSeal(state State, digest []byte) error {
	if j.seal == nil {
		return nil
	}
	raw, err := seal{State: state, Writes: len(j.writes), End: j.notesEnd, Chain: j.notesChain, Digest: digest}.bytes()
	if err == nil {
		_, err = j.seal.WriteAt(raw, 0)
	}
	if err != nil {
		return fmt.Errorf("seal of journal %s: %w", j.name, err)
	}
	return nil
}

// heldAgainst puts right what a journal that was read lost of its end, or says that
// more is lost than its marks.
func (j *Journal) heldAgainst(s *seal, err error) error {
	switch {
	case err != nil && (j.state == Recorded || j.head.Keeps && j.state == Committed):
		return fmt.Errorf(
			"journal %s: %w, and the journal itself does not tell whether it is whole: %w",
			j.name,
			err,
			ErrDamaged,
		)
	case err != nil || s == nil:
		j.unsealed = s == nil
		return nil
	}
	if len(j.writes) < s.Writes || len(j.writes) == s.Writes && j.notesChain != s.Chain {
		return fmt.Errorf(
			"journal %s: lost its end: %d of the %d changes that it noted can still be read: %w",
			j.name, min(len(j.writes), s.Writes), s.Writes, ErrDamaged,
		)
	}
	if rank[s.State] > rank[j.state] { // the mark was lost, or not yet written
		j.marks = append(j.marks, marksBetween(j.state, s.State)...)
		j.state, j.finalDigest = s.State, s.Digest
	}
	return nil
}

// rank orders the states as a journal passes through them.
var rank = map[State]int{Recorded: 0, Committed: 1, Applied: 2, Undone: 3}

// marksBetween are the records that bring a journal from one state to a later one.
func marksBetween(from, to State) (kinds []byte) {
	for _, m := range []struct {
		state State
		kind  byte
	}{{Committed, kindCommitted}, {Applied, kindApplied}, {Undone, kindUndone}} {
		if rank[m.state] > rank[from] && rank[m.state] <= rank[to] {
			kinds = append(kinds, m.kind)
		}
	}
	return kinds
}
