package journald_test

import (
	"io"
	"os"
	"testing"

	"diorthos/core/journald"
)

// BenchmarkEntries reads the journal that DIORTHOS_BENCH_JOURNAL names, and writes each of its records as a line.
func BenchmarkEntries(b *testing.B) {
	r, err := os.Open(os.Getenv("DIORTHOS_BENCH_JOURNAL"))
	if err != nil {
		b.Skip("DIORTHOS_BENCH_JOURNAL names no journal: make bench makes one")
	}
	defer func() { _ = r.Close() }()
	info, err := r.Stat()
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		f, err := journald.Open(r, info.Size())
		if err != nil {
			b.Fatal(err)
		}
		for e := range f.Entries() {
			if _, err := io.WriteString(io.Discard, e.Line()); err != nil {
				b.Fatal(err)
			}
		}
	}
}
