package upkeep_test

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"diorthos/core/upkeep"
)

func TestWhatIsNeededIsStartedFirst(t *testing.T) {
	list := []upkeep.Service{
		{Name: "courier", Needs: []string{"line", "ledger"}},
		{Name: "ledger", Needs: []string{"line"}},
		{Name: "line"},
		{Name: "shell"},
	}
	got, err := upkeep.StartOrder(list, "courier")
	if err != nil || !slices.Equal(got, []string{"line", "ledger", "courier"}) {
		t.Errorf("%v %v", got, err)
	}
	list[2].Needs = []string{"courier"}
	if _, err := upkeep.StartOrder(list, "courier"); err == nil ||
		!strings.Contains(err.Error(), "courier needs line needs courier") {
		t.Errorf("a circle: %v", err)
	}
	list[2].Needs = []string{"harbour"}
	if _, err := upkeep.StartOrder(list, "courier"); err == nil || !strings.Contains(err.Error(), "harbour") {
		t.Errorf("a service that is not there: %v", err)
	}
}

// full is a disk without room behind its first bytes.
type full struct {
	room int
}

var errFull = errors.New("no space left")

func (f *full) Write(p []byte) (int, error) {
	if f.room -= len(p); f.room < 0 {
		return 0, errFull
	}
	return len(p), nil
}

// TestAnExcisionThatCannotEndSaysSo: a disk that fills up, a list that cannot
// be read on, and an operation without an end are errors, never a shorter list.
func TestAnExcisionThatCannotEndSaysSo(t *testing.T) {
	keep := func(data []byte, _ bool) (int, int, int) { return -1, -1, len(data) }
	if _, err := upkeep.Excise(
		t.Context(), strings.NewReader(strings.Repeat("x", 5<<20)), &full{3 << 20}, keep,
	); !errors.Is(err, errFull) {
		t.Errorf("a full disk: %v", err)
	}
	torn := io.MultiReader(strings.NewReader(strings.Repeat("x", 3<<20)), iotest.ErrReader(errFull))
	if _, err := upkeep.Excise(t.Context(), torn, io.Discard, keep); !errors.Is(err, errFull) {
		t.Errorf("a list that cannot be read: %v", err)
	}
	never := func(data []byte, atEOF bool) (int, int, int) {
		if atEOF {
			return -1, -1, len(data)
		}
		return -1, -1, 0
	}
	if _, err := upkeep.Excise(t.Context(), bytes.NewReader(make([]byte, 40<<20)), io.Discard, never); err == nil {
		t.Error("an operation of 40 MiB was held in memory")
	}
}
