package corbel_test

import (
	"path/filepath"
	"testing"

	"diorthos/standin/corbel"
)

// TestEveryFaultIsFelt: what a fault lets fail works on the machine before,
// and does not after; no fault touches a file of the users.
func TestEveryFaultIsFelt(t *testing.T) {
	if len(corbel.Faults) < 50 {
		t.Fatalf("%d kinds of faults", len(corbel.Faults))
	}
	v, link := vendor(t)
	for i := range corbel.Faults {
		f := &corbel.Faults[i]
		t.Run(f.Name, func(t *testing.T) {
			o := corbel.Options{Seed: uint64(i), Mode: f.Mode(uint64(i)), Name: "m", Now: now, Vendor: v, Link: link}
			m, err := corbel.Build(t.Context(), filepath.Join(t.TempDir(), "m"), o)
			if err != nil {
				t.Fatal(err)
			}
			before, err := m.UserFiles()
			if err != nil {
				t.Fatal(err)
			}
			if err := f.Break(t.Context(), m, o); err != nil {
				t.Fatal(err)
			}
			out, err := f.TryOn(t.Context(), m, now, link)
			if err != nil {
				t.Fatal(err)
			}
			if out.OK {
				t.Fatal("it is not felt")
			}
			t.Logf("0x%08x %s: %s", out.Code, out.Stage, out.Text)
			after, err := m.UserFiles()
			if f.Name != "primary-table-damaged" && (err != nil || len(after) != len(before)) {
				t.Fatalf("%d files of users, %d before: %v", len(after), len(before), err)
			}
		})
	}
}
