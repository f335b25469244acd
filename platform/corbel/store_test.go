package corbel_test

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/host"
	"diorthos/platform/corbel"
	standin "diorthos/standin/corbel"
)

var now = time.Date(2026, 11, 22, 8, 0, 0, 0, time.UTC)

// TestRepairTakesNothingOfAnotherBuild breaks a store in every way that it can
// be broken, and repairs it from each kind of source. A source of another
// build, whatever it holds, is refused; afterwards every payload is what its
// own name says, by another implementation of the hash.
func TestRepairTakesNothingOfAnotherBuild(t *testing.T) {
	v, err := standin.NewVendor(now)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(v)
	t.Cleanup(server.Close)
	link := standin.Link{Base: server.URL, Client: http.DefaultClient}
	twin, err := standin.Build(t.Context(), filepath.Join(t.TempDir(), "twin"), standin.Options{
		Seed:   2,
		Mode:   "bios",
		Name:   "twin",
		Now:    now,
		Vendor: v,
		Link:   link,
	})
	if err != nil {
		t.Fatal(err)
	}
	volume, err := host.SystemVolume(twin.Disk(), []system.Adapter{corbel.Adapter{}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	twinSource, err := corbel.TwinSource("the twin", volume)
	if err != nil {
		t.Fatal(err)
	}
	medium, err := corbel.PackSource("the medium", v.Medium())
	if err != nil {
		t.Fatal(err)
	}
	other := corbel.VendorSource(server.URL, standin.BuildRelease)
	for i, name := range []string{
		"payload-missing", "payload-altered", "manifest-damaged", "protected-file-altered", "dependency-missing",
	} {
		for _, source := range []store.Source{twinSource, medium, corbel.VendorSource(server.URL, standin.BuildBase)} {
			t.Run(name+" from "+source.Title(), func(t *testing.T) {
				o := standin.Options{Seed: uint64(20 + i), Mode: "uefi", Name: "m", Now: now, Vendor: v, Link: link}
				m, err := standin.Build(t.Context(), filepath.Join(t.TempDir(), "m"), o)
				if err == nil {
					err = standin.FaultNamed(name).Break(t.Context(), m, o)
				}
				if err != nil {
					t.Fatal(err)
				}
				sys, draft := open(t, m)
				report, err := store.Verify(t.Context(), sys.Components(), 2, nil)
				if err != nil || len(report.Faults) == 0 {
					t.Fatalf("%+v %v", report, err)
				}
				done, err := store.Repair(t.Context(), sys.Components(), report, []store.Source{other})
				if err == nil { // then the machine had all of it itself
					for _, d := range done {
						if !strings.HasSuffix(d, "own copy") && !strings.HasSuffix(d, "from its payload") {
							t.Errorf("from a source of another build: %s", d)
						}
					}
				} else if !errors.Is(err, store.ErrOtherBuild) {
					t.Errorf("another build: %v", err)
				} else if done, err = store.Repair(t.Context(), sys.Components(), report, []store.Source{
					other, source,
				}); err != nil ||
					len(done) == 0 {
					t.Fatalf("%v %v", done, err)
				}
				keep(t, draft, m.Disk())
				payloadsAreWhatTheyAreCalled(t, m)
			})
		}
	}
}

func open(t *testing.T, m *standin.Machine) (*corbel.System, *block.Draft) {
	t.Helper()
	image, err := block.OpenImage(m.Disk(), 512, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = image.Close() })
	draft := block.NewDraft(image)
	mode := firmware.Mode(m.Plate.Firmware.Mode)
	list, err := system.OpenAll([]system.Adapter{corbel.Adapter{}}, draft, system.Options{Mode: mode, Now: now})
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	return list[0].System.(*corbel.System), draft
}

func keep(t *testing.T, draft *block.Draft, path string) {
	t.Helper()
	writes, err := draft.Writes()
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range writes {
		if _, err := f.WriteAt(w.Data, w.Off); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
}

func payloadsAreWhatTheyAreCalled(t *testing.T, m *standin.Machine) {
	t.Helper()
	files, err := m.Payloads()
	if err != nil || len(files) < 40 {
		t.Fatalf("%d payloads: %v", len(files), err)
	}
	var wrong []string
	for name, data := range files {
		sum := sha256.Sum256(data)
		if got := hex.EncodeToString(sum[:8]); got != name {
			wrong = append(wrong, fmt.Sprintf("%s is %s", name, got))
		}
	}
	if len(wrong) > 0 {
		t.Errorf("%s", strings.Join(wrong, ", "))
	}
}
