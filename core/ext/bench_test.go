package ext_test

import (
	"io"
	"io/fs"
	"os"
	"testing"

	"diorthos/core/ext"
)

// A whole tree is read by us, and by the kernel from the same image mounted.
func BenchmarkWalk(b *testing.B) {
	path, mounted := os.Getenv("DIORTHOS_BENCH_EXT"), os.Getenv("DIORTHOS_BENCH_MOUNTED")
	if path == "" {
		b.Skip("scripts/bench.sh makes the file system and mounts it")
	}
	f, err := os.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	v, err := ext.Open(f)
	if err != nil {
		b.Fatal(err)
	}
	for name, fsys := range map[string]fs.FS{"ours": v, "mounted": os.DirFS(mounted)} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				err := fs.WalkDir(fsys, ".", func(p string, d fs.DirEntry, err error) error {
					if err != nil || !d.Type().IsRegular() {
						return err
					}
					in, err := fsys.Open(p)
					if err != nil {
						return err
					}
					defer func() { _ = in.Close() }()
					_, err = io.Copy(io.Discard, in)
					return err
				})
				if err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
