package knowledge

import "fmt"

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
