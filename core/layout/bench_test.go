package layout_test

import (
	"os"
	"testing"

	"diorthos/core/block"
	"diorthos/core/layout"
)

// counting counts what is read.
type counting struct {
	*block.Image
	bytes int64
}

func (c *counting) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Image.ReadAt(p, off)
	c.bytes += int64(n)
	return n, err
}

// How long a check of a large disk takes, and how much of it is read.
func BenchmarkCheck(b *testing.B) {
	path := os.Getenv("DIORTHOS_BENCH_DISK")
	if path == "" {
		b.Skip("scripts/bench.sh makes the disk")
	}
	image, err := block.OpenImage(path, 512, true)
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = image.Close() }()
	for b.Loop() {
		c := &counting{Image: image}
		table, err := layout.Read(c)
		if err != nil {
			b.Fatal(err)
		}
		for _, p := range table.Partitions() {
			layout.Recognise(block.NewReadRange(c, p.Off, p.Length))
		}
		table.Check()
		b.ReportMetric(float64(c.bytes), "bytes-read")
	}
}
