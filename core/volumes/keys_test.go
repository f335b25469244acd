package volumes_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"diorthos/core/volumes"
)

// A key file is tried as it is, and without the end of a line; what is typed at the machine is the first secret
// that is a line of text; nobody is asked where a secret is at hand.
func TestKeysAreTakenFromFilesAndAskedFor(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	k := &volumes.Keys{}
	for _, path := range []string{write("binary", "\x00\x01\x02"), write("line", "harbour light\n")} {
		if err := k.AddFile(path); err != nil {
			t.Fatal(err)
		}
	}
	if len(k.Secrets) != 3 || string(k.Secrets[1]) != "harbour light\n" || string(k.Secrets[2]) != "harbour light" {
		t.Errorf("%q", k.Secrets)
	}
	asked := 0
	k.Ask = func(string) ([]byte, error) { asked++; return []byte("asked"), nil }
	if got := k.Typed("x"); string(got) != "harbour light" || asked != 0 {
		t.Errorf("typed %q, asked %d times", got, asked)
	}
	none := &volumes.Keys{Ask: k.Ask}
	if got := none.Typed("x"); string(got) != "asked" {
		t.Errorf("typed %q", got)
	}
	if (*volumes.Keys)(nil).Typed("x") != nil {
		t.Error("without keys something is typed")
	}
	if err := k.AddFile(filepath.Join(dir, "gone")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a file that is not there: %v", err)
	}
	big := filepath.Join(dir, "big")
	if err := errors.Join(os.WriteFile(big, nil, 0o600), os.Truncate(big, 9<<20)); err != nil {
		t.Fatal(err)
	}
	if err := k.AddFile(big); err == nil {
		t.Error("a file of 9 MiB is taken for a key")
	}
}
