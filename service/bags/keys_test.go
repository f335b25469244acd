package bags_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/service/bags"
)

func keyFile(t *testing.T, name string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := bags.MakeKeys(path, time.Now()); err != nil {
		t.Fatal(err)
	}
	return path
}

func opened(t *testing.T, dir, keys string) *bags.Store {
	t.Helper()
	var k *bags.Keys
	if keys != "" {
		var err error
		if k, err = bags.LoadKeys(keys); err != nil {
			t.Fatal(err)
		}
	}
	s, err := bags.OpenWith(t.Context(), dir, k)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func readBack(t *testing.T, s *bags.Store, key string) ([]byte, error) {
	t.Helper()
	r, _, err := s.Open(t.Context(), key)
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	return io.ReadAll(r)
}

// With keys, nothing of a bag can be found where it lies; it is given back to the last byte, is known to be
// whole by its size, and cannot be read by who has other keys or none. What was stored before there were keys,
// or with an earlier one, can still be read.
func TestBagsAreEncryptedWhereTheyLie(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "bags")
	before := opened(t, dir, "")
	early := packedWith(t, []byte("before there were keys"))
	first, _, earlySize, err := before.Take(t.Context(), bytes.NewReader(early), bag.DefaultLimits)
	if err != nil {
		t.Fatal(err)
	}
	file := keyFile(t, "keys")
	s := opened(t, dir, file)
	for _, length := range []int{1, 65_536, 300_000} { // chunks of the format are 64 KiB
		log := make([]byte, length)
		for i := range log {
			log[i] = byte(i * i >> 7)
		}
		raw := packedWith(t, log)
		key, info, size, err := s.Take(t.Context(), bytes.NewReader(raw), bag.DefaultLimits)
		if err != nil || size != int64(len(raw)) || info.Facts.Machine.Name != "tern-1" {
			t.Fatalf("%v, %d bytes of %d", err, size, len(raw))
		}
		lies, err := os.ReadFile(filepath.Join(dir, key))
		if err != nil || bytes.Contains(lies, raw[:64]) || bytes.Contains(lies, []byte("tern-1")) {
			t.Errorf("the bag can be read where it lies: %v", err)
		}
		if back, err := readBack(t, s, key); err != nil || !bytes.Equal(back, raw) {
			t.Errorf("%v: %d bytes of %d", err, len(back), len(raw))
		}
		if !s.Holds(t.Context(), key, size) || s.Holds(t.Context(), key, size+1) || s.Holds(t.Context(), key, size-1) {
			t.Errorf("whether a bag of %d bytes is whole is not known by its size", size)
		}
		if _, err := readBack(t, before, key); err == nil || !strings.Contains(err.Error(), "--bag-keys") {
			t.Errorf("without keys: %v", err)
		}
		if _, err := readBack(t, opened(t, dir, keyFile(t, "others")), key); err == nil {
			t.Error("with other keys it is read")
		}
		if err := os.Truncate(filepath.Join(dir, key), int64(len(lies)-5)); err != nil {
			t.Fatal(err)
		}
		if _, err := readBack(t, s, key); err == nil || s.Holds(t.Context(), key, size) {
			t.Errorf("one that was cut off is taken for whole: %v", err)
		}
	}
	if back, err := readBack(t, s, first); err != nil || !bytes.Equal(back, early) ||
		!s.Holds(t.Context(), first, earlySize) {
		t.Errorf("from before: %v, %d bytes", err, len(back))
	}
	made, err := s.Put(context.Background(), "given", bytes.NewReader(early))
	if err != nil || !made {
		t.Fatal(made, err)
	}
	old, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	fresh, err := os.ReadFile(keyFile(t, "fresh"))
	if err != nil {
		t.Fatal(err)
	}
	both := filepath.Join(t.TempDir(), "both")
	if err := os.WriteFile(both, append(fresh, old...), 0o600); err != nil {
		t.Fatal(err)
	}
	if back, err := readBack(t, opened(t, dir, both), "given"); err != nil || !bytes.Equal(back, early) {
		t.Errorf("with a newer key above the old one: %v", err)
	}
}

// A file of keys that others can read, or that holds none, is refused; none is written over.
func TestKeysAreLookedAfter(t *testing.T) {
	file := keyFile(t, "keys")
	if err := bags.MakeKeys(file, time.Now()); err == nil || !strings.Contains(err.Error(), "there already") {
		t.Errorf("written over: %v", err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := bags.LoadKeys(file); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("others can read it: %v", err)
	}
	for name, text := range map[string]string{"empty": "", "text": "not a key\n"} {
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := bags.LoadKeys(path); err == nil {
			t.Errorf("%s is taken for keys", name)
		}
	}
}
