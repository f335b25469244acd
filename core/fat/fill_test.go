package fat_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"diorthos/core/fat"
)

// What we fill, fsck.fat finds sound and mtools reads.
func TestMtoolsReadsWhatWeFill(t *testing.T) {
	tree := fstest.MapFS{
		"EFI/BOOT/BOOTX64.EFI": {Data: []byte(strings.Repeat("loader", 20_000))},
		"README.txt": {
			Data:    []byte("for the terminals\n"),
			ModTime: time.Date(2026, 11, 22, 6, 12, 4, 0, time.UTC),
		},
		"a long name with Ölhafen.cfg": {Data: []byte("x")},
		"empty.d/.keep":                {},
	}
	for i := range 120 { // more than a cluster of entries, in the root and below
		tree[fmt.Sprintf("sailing list number %d.csv", i)] = &fstest.MapFile{Data: []byte(fmt.Sprint(i))}
		tree[fmt.Sprintf("deep/er/sailing list number %d.csv", i)] = &fstest.MapFile{Data: []byte(fmt.Sprint(i))}
	}
	path := filepath.Join(t.TempDir(), "volume")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	if err := f.Truncate(40 << 20); err != nil {
		t.Fatal(err)
	}
	var written int64
	if err := fat.Fill(t.Context(), f, 40<<20, fat.Options{
		Label:  "medium",
		Serial: 7,
	}, tree, func(n int64) { written = n }); err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if ok, out := clean(t, raw); !ok || strings.Contains(out, "ifferences") {
		t.Errorf("fsck.fat: %s", out)
	}
	if got := tool(t, "mtype", "-i", path, "::a long name with Ölhafen.cfg"); got != "x" {
		t.Errorf("mtype: %q", got)
	}
	if out := tool(t, "mdir", "-i", path, "::deep/er"); strings.Count(out, "sailing list number") != 120 {
		t.Errorf("mdir: %s", out)
	}
	v, err := fat.Open(f)
	if err != nil {
		t.Fatal(err)
	}
	var sum int64
	for name, want := range tree {
		got, err := fs.ReadFile(v, name)
		if err != nil || string(got) != string(want.Data) {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
		sum += int64(len(want.Data))
	}
	if info, err := fs.Stat(v, "README.txt"); err != nil || !info.ModTime().Equal(tree["README.txt"].ModTime) ||
		written != sum {
		t.Errorf("%v %v, %d of %d bytes told", info, err, written, sum)
	}
	big := fstest.MapFS{"big": {Data: make([]byte, 41<<20)}}
	if err := fat.Fill(context.Background(), f, 40<<20, fat.Options{}, big, nil); !errors.Is(err, fat.ErrTooLarge) {
		t.Errorf("too much: %v", err)
	}
}
