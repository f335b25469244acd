package bag_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"diorthos/core/bag"
)

// Whatever is altered in a bag, it is the bag that is refused: a service must not take it
// for a fault of its own.
func TestEveryAlteredByteIsTheBagsOwnFault(t *testing.T) {
	for _, zstd := range []bool{false, true} {
		whole := pack(t, zstd, map[string]string{"logs/dpkg.log": strings.Repeat("a line of a log\n", 300)})
		for at := range whole {
			for _, mask := range []byte{0x01, 0x80, 0xff} {
				bad := bytes.Clone(whole)
				bad[at] ^= mask
				_, err := bag.Read(context.Background(), bytes.NewReader(bad), bag.DefaultLimits, nil)
				var own *bag.Error
				if err != nil && !errors.As(err, &own) {
					t.Fatalf("zstd %t, byte %d: %v", zstd, at, err)
				}
			}
		}
	}
}

// A few megabytes must not take hundreds.
func TestSmallBagsThatUnpackToMuchAreRefusedEarly(t *testing.T) {
	const declaration = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
	whole := func(facts string) []entry {
		return []entry{
			{"b/bagit.txt", declaration, tar.TypeReg},
			{"b/manifest-sha256.txt", fmt.Sprintf("%x  data/facts.json\n", sha256.Sum256([]byte(facts))), tar.TypeReg},
			{"b/data/facts.json", facts, tar.TypeReg},
		}
	}
	var tags, folders []entry
	for i := range 60 {
		tags = append(tags, entry{fmt.Sprintf("b/tag%d.txt", i), strings.Repeat("x", 1<<20), tar.TypeReg})
	}
	for i := range 70_000 {
		folders = append(folders, entry{fmt.Sprintf("b/data/%d/", i), "", tar.TypeDir})
	}
	for name, entries := range map[string][]entry{
		"tag files":    tags,
		"folders":      folders,
		"nested facts": whole(strings.Repeat("[", 6<<20)),
		"many values":  whole("[" + strings.Repeat("[],", 2<<20) + "[]]"),
	} {
		raw := archive(entries...)
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		_, err := bag.Read(context.Background(), bytes.NewReader(raw), bag.DefaultLimits, nil)
		runtime.ReadMemStats(&after)
		if !errors.Is(err, bag.ErrTooLarge) {
			t.Errorf("%s: %v", name, err)
		}
		if took := (after.TotalAlloc - before.TotalAlloc) >> 20; took > 80 {
			t.Errorf("%s: %d MiB were allocated", name, took)
		}
	}
}
