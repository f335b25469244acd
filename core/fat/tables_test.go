package fat_test

import (
	"bytes"
	"io/fs"
	"math/rand/v2"
	"slices"
	"testing"

	"diorthos/core/fat"
)

// Whatever happened to some sectors of one copy of the allocation table, and to
// others of the other, zeros too: as long as each sector is whole in one of them, no
// file loses a byte by the repair.
func TestNoFileIsLostWhereACopyOfTheTableKnowsIt(t *testing.T) {
	for _, k := range kinds {
		raw, files := made(t, k.bits, k.size)
		v, err := fat.Open(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		at := func(copy, sector int64) int64 {
			return v.Reserved*v.Sector + copy*v.TableSize*v.Sector + sector*v.Sector
		}
		used := min(v.TableSize, 3) // sectors that tell of files
		for seed := range uint64(60) {
			r := rand.New(rand.NewPCG(seed, uint64(v.Bits)))
			d := slices.Clone(raw)
			for sector := range used {
				which := r.Int64N(3) // 2: the sector is left alone
				if which == 2 || used == 1 && which == 1 {
					continue
				}
				to := d[at(which, sector) : at(which, sector)+v.Sector]
				for i := range to {
					to[i] = 0
					if seed%2 == 1 {
						to[i] = byte(r.Uint32())
					}
				}
			}
			report, err := fat.Check(bytes.NewReader(d))
			if err != nil {
				t.Errorf("%s bits, seed %d: %v", k.bits, seed, err)
				continue
			}
			after, err := fat.Open(bytes.NewReader(repaired(t, d, report)))
			if err != nil {
				t.Fatal(err)
			}
			for name, want := range files {
				if got, err := fs.ReadFile(after, name); err != nil || !bytes.Equal(got, want) {
					t.Errorf("%s bits, seed %d: %s has %d of %d bytes: %v\n%+v", k.bits, seed, name, len(got), len(want), err,
						report.Findings)
				}
			}
		}
	}
}
