package media_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/media"
)

func TestTheWayIsTheOneThatStarts(t *testing.T) {
	for name, c := range map[string]struct {
		m    media.Medium
		mode firmware.Mode
		want media.Way
		says string
	}{
		"hybrid, bios":       {media.Medium{Stick: []firmware.Mode{"bios", "uefi"}, Files: true}, "bios", media.AsItIs, ""},
		"hybrid, uefi":       {media.Medium{Stick: []firmware.Mode{"bios", "uefi"}, Files: true}, "uefi", media.AsItIs, ""},
		"files only, uefi":   {media.Medium{Files: true, Largest: 1 << 20}, "uefi", media.Files, ""},
		"files only, bios":   {media.Medium{Files: true}, "bios", "", "start the machine by UEFI"},
		"a file too large":   {media.Medium{Files: true, Largest: 5 << 30}, "uefi", "", "too large for FAT32"},
		"for discs and bios": {media.Medium{Disc: []firmware.Mode{"bios"}}, "uefi", "", "start the machine in BIOS mode"},
	} {
		way, err := c.m.WayFor(c.mode)
		if way != c.want || (err == nil) != (c.says == "") ||
			err != nil && (!errors.Is(err, media.ErrNoWay) || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %q %v", name, way, err)
		}
	}
}

// forgetful is a stick that gives back other bytes than it was given.
type forgetful struct {
	*block.Image
	at int64
}

func (f *forgetful) ReadAt(p []byte, off int64) (int, error) {
	n, err := f.Image.ReadAt(p, off)
	if f.at >= off && f.at < off+int64(n) {
		p[f.at-off] ^= 1
	}
	return n, err
}

func image(t *testing.T, size int64, data []byte) *block.Image {
	t.Helper()
	path := filepath.Join(t.TempDir(), "image")
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(path, size); err != nil {
		t.Fatal(err)
	}
	m, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = m.Close() })
	return m
}

func TestABadStickIsNoticedWhenItIsReadBack(t *testing.T) {
	src := image(t, 9<<20, bytes.Repeat([]byte("medium"), 1_500_000))
	m := &media.Medium{Size: src.Size()}
	newGUID := func() layout.GUID { return layout.GUID{1} }
	stick := image(t, 12<<20, nil)
	var told []string
	progress := func(what string, done, total int64) {
		if done == total {
			told = append(told, what)
		}
	}
	err := m.Write(t.Context(), src, stick, media.AsItIs, newGUID, progress)
	if err == nil {
		err = m.Verify(t.Context(), src, stick, media.AsItIs, progress)
	}
	if err != nil || strings.Join(told, ", ") != "writing, reading back" {
		t.Errorf("%v, told %v", err, told)
	}
	bad := &forgetful{image(t, 12<<20, nil), 5_000_000}
	if err := m.Write(t.Context(), src, bad, media.AsItIs, newGUID, nil); err != nil {
		t.Fatal(err)
	}
	if err := m.Verify(t.Context(), src, bad, media.AsItIs, nil); err == nil ||
		!strings.Contains(err.Error(), "the medium is bad") {
		t.Errorf("%v", err)
	}
	if err := m.Write(t.Context(), src, image(t, 8<<20, nil), media.AsItIs, newGUID, nil); err == nil ||
		!strings.Contains(err.Error(), "the medium needs 9437184") {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	half := image(t, 12<<20, nil)
	if err := m.Write(ctx, src, half, media.AsItIs, newGUID, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	head := make([]byte, 512) // what was cut off must not pass for a medium
	if _, err := half.ReadAt(head, 0); err != nil || len(bytes.Trim(head, "\x00")) != 0 {
		t.Errorf("the start was written first: %v", err)
	}
	if _, err := media.Inspect(half); !errors.Is(err, media.ErrNotAMedium) {
		t.Errorf("%v", err)
	}
}
