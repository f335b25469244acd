package upkeep_test

import (
	"context"
	"errors"
	"io/fs"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/upkeep"
)

// What fills a volume is told by whose it is: the longest path that is known above a file, people one by one, and what
// nobody knows by the folder at its top.
func TestSharesAreByOwner(t *testing.T) {
	file := func(size int) *fstest.MapFile { return &fstest.MapFile{Data: []byte(strings.Repeat("x", size))} }
	volume := fstest.MapFS{
		"var/cache/apt/archives/a.deb": file(300), "var/cache/apt/archives/partial/b": file(20), "var/log/syslog": file(7),
		"var/lib/dpkg/status": file(50), "home/anna/tides.ods": file(90), "home/bosun/x/y": file(90), "home/note": file(1),
		"vmlinuz": file(4), "charts/north": file(40), "variant/x": file(2), "proc/kcore": file(999),
	}
	owners := []upkeep.Owner{
		{Path: "var", Of: "kept by programs"}, {Path: "var/cache/apt/archives", Of: "fetched again"},
		{Path: "var/log", Of: "logs"}, {Path: "home", Of: "people's", Each: true},
	}
	got, err := upkeep.Shares(t.Context(), volume, owners, upkeep.Measure{
		Skip: func(d fs.DirEntry) bool { return d.Name() == "proc" },
	})
	if err != nil {
		t.Fatal(err)
	}
	want := &upkeep.Usage{Bytes: 604, Files: 10, Shares: []upkeep.Share{
		{Path: "var/cache/apt/archives", Of: "fetched again", Bytes: 320, Files: 2},
		{Path: "home/anna", Of: "people's", Bytes: 90, Files: 1}, {Path: "home/bosun", Of: "people's", Bytes: 90, Files: 1},
		{Path: "var", Of: "kept by programs", Bytes: 50, Files: 1}, {Path: "charts", Bytes: 40, Files: 1},
		{Path: "var/log", Of: "logs", Bytes: 7, Files: 1}, {Path: "vmlinuz", Bytes: 4, Files: 1},
		{Path: "variant", Bytes: 2, Files: 1}, {Path: "home/note", Of: "people's", Bytes: 1, Files: 1},
	}}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got %+v\nwant %+v", got, want)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := upkeep.Shares(over, volume, owners, upkeep.Measure{}); !errors.Is(err, context.Canceled) {
		t.Errorf("after the end: %v", err)
	}
}
