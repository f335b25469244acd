// Package units reads and writes sizes, in one way everywhere.
//
//	n, err := units.ParseBytes("512 MiB") // 536870912
//	units.FormatBytes(n)                  // 512.0 MiB
package units

import (
	"fmt"
	"strconv"
	"strings"
)

// FormatBytes writes a size in powers of 1024 with three digits at the most
// before the point: 512 B, 24.0 KiB, 1.5 GiB.
func FormatBytes(n int64) string {
	const units = "KMGTPE"
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	f, i := float64(n)/1024, 0
	for f >= 1000 && i < len(units)-1 {
		f, i = f/1024, i+1
	}
	return fmt.Sprintf("%.1f %ciB", f, units[i])
}

// ParseBytes reads a plain number, or a size in powers of 1024 such as
// "512 MiB".
func ParseBytes(s string) (int64, error) {
	number, unit, _ := strings.Cut(strings.TrimSpace(s), " ")
	f, err := strconv.ParseFloat(number, 64)
	if err != nil || f < 0 {
		return 0, fmt.Errorf("size %q: want a number, or a size such as 512 MiB", s)
	}
	shift, ok := map[string]uint{"": 0, "B": 0, "KiB": 10, "MiB": 20, "GiB": 30, "TiB": 40}[unit]
	if !ok || f*float64(int64(1)<<shift) > 1<<62 {
		return 0, fmt.Errorf("size %q: want B, KiB, MiB, GiB or TiB", s)
	}
	return int64(f * float64(int64(1)<<shift)), nil
}

// Count is a number of things in words: "1 partition", "2 partitions".
func Count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}
