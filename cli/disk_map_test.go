package cli

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"

	"diorthos/core/bag"
	"diorthos/core/layout"
)

// randomDisk lays up to seven partitions on a disk, with holes or without.
func randomDisk(r *rand.Rand) bag.Disk {
	d := bag.Disk{
		Source:     "x",
		Size:       1 << (24 + r.IntN(20)),
		SectorSize: 512,
		Style:      "gpt",
		Primary:    bag.TableCopy{State: "damaged"},
		Backup:     bag.TableCopy{State: "sound"},
	}
	at := int64(1 << 20)
	for n := r.IntN(7); n > 0; n-- {
		size := r.Int64N(d.Size/8) + 1
		if at+size > d.Size {
			break
		}
		d.Partitions = append(d.Partitions, bag.Partition{
			Number:  len(d.Partitions) + 1,
			Offset:  at,
			Size:    size,
			Role:    []layout.Role{"", "data", "system", "esp"}[r.IntN(4)],
			Content: bag.Content{Kind: "ext4"},
		})
		at += size
		if r.IntN(2) == 0 {
			at += r.Int64N(d.Size / 8)
		}
	}
	return d
}

func TestTheStripFitsWhateverTheDisk(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for range 500 {
		d := randomDisk(r)
		for _, width := range []int{72, 100, 120} {
			var out bytes.Buffer
			(&page{w: &out, width: width}).diskMap(d)
			lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
			if len(lines) != 4 {
				t.Fatalf("%d lines", len(lines))
			}
			for _, l := range lines[1:] {
				if got := text.StringWidthWithoutEscSequences(l); got != width-2 {
					t.Fatalf("a line of %d columns, want %d:\n%s%+v", got, width-2, out.String(), d.Partitions)
				}
			}
			for _, p := range d.Partitions {
				if !strings.Contains(lines[2], "│ "+string(rune('0'+p.Number))) {
					t.Fatalf("partition %d lost its label:\n%s", p.Number, out.String())
				}
			}
			if !strings.HasPrefix(lines[2], "  ▲") || !strings.HasSuffix(lines[2], "█") {
				t.Fatalf("the copies of the table are not marked:\n%s", out.String())
			}
		}
	}
}

func TestTextHangsBehindItsLead(t *testing.T) {
	var out bytes.Buffer
	(&page{w: &out, width: 30}).hangingIndent("  why ", "a sentence that is longer than the page is wide")
	for i, l := range strings.Split(strings.TrimRight(out.String(), "\n"), "\n") {
		if len(l) > 30 || i == 0 && !strings.HasPrefix(l, "  why a") || i > 0 && !strings.HasPrefix(l, "      ") {
			t.Errorf("line %d: %q", i, l)
		}
	}
}
