package tarn_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/docket"
	"diorthos/core/fat"
	"diorthos/core/knowledge"
	"diorthos/core/system"
	tarn "diorthos/docs/own-system"
	"diorthos/host"
	shipped "diorthos/knowledge"
)

// TestATaughtSystemIsDiagnosed takes the example's machine the whole way: found
// on its disk by the adapter, read by the dialect, explained by the signature,
// given a rung by the remedy.
func TestATaughtSystemIsDiagnosed(t *testing.T) {
	k, err := knowledge.Load(shipped.Files, os.DirFS("knowledge"))
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 22, 9, 0, 0, 0, time.UTC)
	var packed bytes.Buffer
	_, err = host.Gather(t.Context(), &packed, host.GatherOptions{
		Image:    disk(t, now),
		Adapters: []system.Adapter{tarn.Adapter{}},
		Now:      now,
	})
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	info, err := bag.Unpack(t.Context(), &packed, bag.DefaultLimits, folder)
	if err != nil {
		t.Fatal(err)
	}
	if info.Facts.Machine.Name != "brough-gate-1" || info.Facts.Installed.Version != "3.1" || len(info.Facts.Owed) != 1 {
		t.Errorf("facts: %+v %+v", info.Facts.Machine, info.Facts.Installed)
	}
	logs, _ := docket.Logs(info, folder)
	d, err := docket.Draw(t.Context(), info.Facts, logs, k, nil)
	if err != nil {
		t.Fatal(err)
	}
	if d.Failure == nil || d.Failure.Decisive.Line != 5 || d.Attempts[0].Kind != "update" {
		t.Errorf("tried %+v, broke %+v", d.Attempts, d.Failure)
	}
	if len(d.Why) == 0 || d.Why[0].Cause != "tarn-mirror-unknown" || d.Why[0].Probability < 0.8 {
		t.Errorf("why: %+v", d.Why)
	}
	if len(d.ToDo) != 1 || d.ToDo[0].Remedy != "give-tarn-the-certificate" {
		t.Errorf("to do: %+v", d.ToDo)
	}
	if e := k.Codes.Explain("result 4031"); len(e.Taken) == 0 || len(e.Taken[0].Readings) == 0 ||
		e.Taken[0].Readings[0].Family != "tarn-result" {
		t.Errorf("the code is not explained: %+v", e)
	}
}

// disk makes a disk that is one FAT volume with a Tarn on it, of which the
// second update failed.
func disk(t *testing.T, now time.Time) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "gate.img")
	f, err := os.Create(path)
	if err == nil {
		err = f.Truncate(40 << 20)
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	dev, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	table := make([]byte, 512) // one FAT partition from LBA 2048 on
	copy(table[446:], []byte{0x80, 0, 0, 0, 0x0c, 0, 0, 0, 0, 8, 0, 0, 0, 0x30, 1, 0})
	table[510], table[511] = 0x55, 0xaa
	if _, err := dev.WriteAt(table, 0); err != nil {
		t.Fatal(err)
	}
	part := block.NewWriteRange(dev, 2048*512, 0x13000*512)
	if err := fat.Format(part, part.Size(), fat.Options{Label: "TARN"}); err != nil {
		t.Fatal(err)
	}
	e, err := fat.Edit(part, now)
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"tarn/release": "system: tarn\nversion: 3.1\narchitecture: amd64\nhost: brough-gate-1\n",
		"tarn/restart": "",
		"tarn/log/update.log": "2026-10-22T06:12:03Z . begin harbour-6\n" +
			"2026-10-22T06:12:09Z ! cannot draw the clock face\n" +
			"2026-10-22T06:13:00Z . end well\n" +
			"2026-11-22T06:12:03Z . begin harbour-7\n" +
			"2026-11-22T06:12:05Z ! mirror refused, result 4031\n" +
			"2026-11-22T06:12:06Z ! cannot draw the clock face\n" +
			"2026-11-22T06:12:07Z ! end badly\n",
	} {
		if err := e.Mkdir(filepath.Dir(name)); err != nil {
			t.Fatal(err)
		}
		if err := e.WriteFile(name, []byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	return path
}
