package corbel_test

import (
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"diorthos/core/bag"
	"diorthos/core/system"
	"diorthos/host"
	"diorthos/platform/corbel"
	standin "diorthos/standin/corbel"
)

// TestTheChainBreaksWhereTheMachineStops holds the chain that is followed by
// reading against the one that the stand-in follows by starting, for every
// fault by which a machine does not start.
func TestTheChainBreaksWhereTheMachineStops(t *testing.T) {
	v, err := standin.NewVendor(now)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(v)
	t.Cleanup(server.Close)
	link := standin.Link{Base: server.URL, Client: http.DefaultClient}
	tried := 0
	for i := range standin.Faults {
		f := &standin.Faults[i]
		if f.Try != standin.TryStart {
			continue
		}
		tried++
		t.Run(f.Name, func(t *testing.T) {
			o := standin.Options{Seed: uint64(60 + i), Mode: f.Mode(uint64(i)), Name: "chain", Now: now, Vendor: v, Link: link}
			m, err := standin.Build(t.Context(), filepath.Join(t.TempDir(), "m"), o)
			if err != nil {
				t.Fatal(err)
			}
			if before := looked(t, m); before.State.Chain.Broken() != nil ||
				len(before.State.Store.Faults)+len(before.State.Settings)+len(before.State.FileSystems) > 0 {
				t.Fatalf("a machine that is well: %+v", before.State)
			}
			if err := f.Break(t.Context(), m, o); err != nil {
				t.Fatal(err)
			}
			out, err := m.Start(now)
			if err != nil || out.OK {
				t.Fatalf("%+v %v", out, err)
			}
			facts := looked(t, m)
			if facts.State.Chain.Broken() == nil {
				t.Errorf("it stops at %q, and no link is broken: %+v", out.Text, facts.State.Chain)
			}
		})
	}
	if tried < 18 {
		t.Errorf("%d faults", tried)
	}
}

func looked(t *testing.T, m *standin.Machine) *bag.Facts {
	t.Helper()
	l, err := host.Look(host.GatherOptions{Image: m.Folder, Adapters: []system.Adapter{corbel.Adapter{}}, Now: now})
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	return l.Facts
}
