package layout_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"diorthos/core/block"
	"diorthos/core/layout"
)

// parted is what parted reads of a disk: the style of its table, and number,
// first and last sector of each partition, extended ones included.
func parted(t *testing.T, path string) (style string, list []string) {
	t.Helper()
	out := oracle(t, "", "parted", "--machine", "--script", path, "unit", "s", "print")
	if strings.Contains(out, "Error") || strings.Contains(out, "Warning") {
		t.Fatalf("parted is not content:\n%s", out)
	}
	for line := range strings.Lines(out) {
		f := strings.Split(strings.TrimSuffix(strings.TrimSpace(line), ";"), ":")
		switch {
		case strings.HasPrefix(line, path):
			style = f[5]
		case len(f) > 3:
			list = append(list, fmt.Sprintf("%s %s %s", f[0], strings.TrimSuffix(f[1], "s"), strings.TrimSuffix(f[2], "s")))
		}
	}
	return style, list
}

func TestReadsWhatPartedMade(t *testing.T) {
	for style, steps := range map[string][]string{
		"gpt": {
			"mklabel", "gpt", "mkpart", "ESP", "fat32", "1MiB", "33MiB", "mkpart", "system", "ext4", "33MiB", "150MiB",
			"mkpart", "rest", "linux-swap", "160MiB", "100%", "set", "1", "esp", "on",
		},
		"msdos": {
			"mklabel", "msdos", "mkpart", "primary", "ext4", "1MiB", "33MiB", "mkpart", "extended", "33MiB", "190MiB",
			"mkpart", "logical", "ext4", "34MiB", "90MiB", "mkpart", "logical", "fat32", "91MiB", "189MiB", "set", "1",
			"boot", "on",
		},
	} {
		path := blank(t, 200<<20)
		oracle(t, "", "parted", append([]string{"--script", path}, steps...)...)
		table := readTable(t, path, 512)
		_, want := parted(t, path)
		if style == "msdos" { // the extended one only holds the others
			want = slices.Delete(want, 1, 2)
		}
		if got := ours(table); !slices.Equal(got, want) {
			t.Errorf("%s: %v, parted says %v", style, got, want)
		}
		for _, p := range table.Check() {
			if p.Severity == layout.Broken && p.ID != "boot-code-missing" {
				t.Errorf("%s: %+v", style, p)
			}
		}
	}
}

// Whatever we make of a disk, parted reads without complaint and as we do.
func TestPartedReadsWhatWeMade(t *testing.T) {
	for name, c := range map[string]struct {
		disk  string
		plan  planner
		style string
	}{
		"restyled to GPT": {dosDisk(t, 1<<30), func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
			r, err := t.Restyle(layout.Restyling{To: layout.StyleGPT, Firmware: "bios", NewGUID: guids(1)})
			if err != nil {
				return nil, err
			}
			return r.Writes, nil
		}, "gpt"},
		"restyled to MBR": {gptDisk(t, 8<<20), func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
			r, err := t.Restyle(layout.Restyling{To: layout.StyleMBR})
			if err != nil {
				return nil, err
			}
			return r.Writes, nil
		}, "msdos"},
		"carved": {blank(t, 64<<20), func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
			entries, err := t.Allocate([]layout.PartitionRequest{
				{Name: "ESP", Type: layout.TypeESP, Min: 8 << 20},
				{Name: "system", Type: layout.TypeLinux, Min: 16 << 20, Share: 1},
			}, guids(3))
			if err != nil {
				return nil, err
			}
			return t.Rebuild(entries, guids(1))
		}, "gpt"},
		"mended": {
			damaged(t, 8<<20, map[int64][]byte{512: make([]byte, 4096)}, "sgdisk", "-n1:2048:+1M", "-n2:0:+1M"),
			func(t *layout.Table, _ *block.Image) ([]block.Write, error) {
				return t.MendAll(layout.Mending{NewGUID: guids(1)})
			},
			"gpt",
		},
	} {
		image, err := block.OpenImage(c.disk, 512, true)
		if err != nil {
			t.Fatal(err)
		}
		writes, err := c.plan(readTable(t, c.disk, 512), image)
		_ = image.Close()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		apply(t, c.disk, 512, writes)
		style, list := parted(t, c.disk)
		got := ours(readTable(t, c.disk, 512))
		slices.Sort(list) // parted goes by place, we by number
		slices.Sort(got)
		if style != c.style || !slices.Equal(got, list) || len(got) < 2 {
			t.Errorf("%s: %s with %v, we read %v", name, style, list, got)
		}
	}
}
