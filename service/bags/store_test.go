package bags_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/service/bags"
)

func packed(t *testing.T) []byte { return packedWith(t, nil) }

// packedWith is a bag with a log of these bytes, if there are any.
func packedWith(t *testing.T, log []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := bag.NewWriter(&out, bag.Options{Name: "tern-1", Created: time.Unix(1_795_000_000, 0)})
	if err == nil {
		err = w.AddFacts(&bag.Facts{
			Schema:   bag.FactsVersion,
			Gathered: time.Unix(1_795_000_000, 0).UTC(),
			Machine:  bag.Machine{Name: "tern-1"},
			Disks:    []bag.Disk{},
		})
	}
	if err == nil && log != nil {
		err = w.AddFile("logs/noise.log", int64(len(log)), bytes.NewReader(log))
	}
	if err == nil {
		_, err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func open(t *testing.T) (*bags.Store, string) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "bags")
	s, err := bags.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s, dir
}

func count(t *testing.T, dir string) int {
	t.Helper()
	list, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	return len(list)
}

func TestWhatIsTakenIsWhatIsGivenBack(t *testing.T) {
	s, dir := open(t)
	raw := packed(t)
	key, info, size, err := s.Take(context.Background(), bytes.NewReader(raw), bag.DefaultLimits)
	if err != nil || size != int64(len(raw)) || info.Facts.Machine.Name != "tern-1" || count(t, dir) != 1 {
		t.Fatalf("%v: %d bytes, %d files", err, size, count(t, dir))
	}
	r, length, err := s.Open(context.Background(), key)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = r.Close() }()
	if back, err := io.ReadAll(r); err != nil || !bytes.Equal(back, raw) || length != size {
		t.Errorf("%v: %d bytes of %d", err, len(back), len(raw))
	}
}

// failing gives some bytes and then an error, as a connection that breaks.
type failing struct {
	data []byte
	err  error
}

func (f *failing) Read(p []byte) (int, error) {
	if len(f.data) == 0 {
		return 0, f.err
	}
	n := copy(p, f.data)
	f.data = f.data[n:]
	return n, nil
}

func TestNothingIsKeptOfWhatWasNotAcknowledged(t *testing.T) {
	s, dir := open(t)
	raw := packed(t)
	broken := errors.New("the connection broke")
	for name, body := range map[string]io.Reader{
		"not a bag":  bytes.NewReader([]byte("hello")),
		"cut off":    bytes.NewReader(raw[:len(raw)-20]),
		"connection": &failing{raw[:len(raw)/2], broken},
	} {
		if _, _, _, err := s.Take(context.Background(), body, bag.DefaultLimits); err == nil ||
			name == "connection" && !errors.Is(err, broken) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if n := count(t, dir); n != 0 {
		t.Errorf("%d files are left", n)
	}
	if err := os.RemoveAll(dir); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(dir, []byte("no folder any more"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := s.Take(context.Background(), bytes.NewReader(raw), bag.DefaultLimits); err == nil ||
		errors.Is(err, bag.ErrNotABag) {
		t.Errorf("a store that is gone: %v", err)
	}
}

func TestSweepDropsOnlyOldBagsOfWhichNothingIsKnown(t *testing.T) {
	s, dir := open(t)
	var keys []string
	for range 3 {
		key, _, _, err := s.Take(context.Background(), bytes.NewReader(packed(t)), bag.DefaultLimits)
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, key)
	}
	old := time.Now().Add(-48 * time.Hour)
	for _, key := range keys[:2] {
		if err := os.Chtimes(filepath.Join(dir, key), old, old); err != nil {
			t.Fatal(err)
		}
	}
	var err error
	dropped := 0
	for range 4 { // in steps of two, more than once around
		n, failed := s.Sweep(context.Background(), 24*time.Hour, 2, func(key string) (bool, error) {
			return key == keys[0], nil
		})
		dropped, err = dropped+n, errors.Join(err, failed)
	}
	if err != nil || dropped != 1 || count(t, dir) != 2 {
		t.Errorf("%v: %d dropped, %d left", err, dropped, count(t, dir))
	}
	if _, err := os.Stat(filepath.Join(dir, keys[1])); err == nil {
		t.Error("the one that nothing was recorded of is still there")
	}
}
