package corbel_test

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"diorthos/core/store"
	"diorthos/platform/corbel"
	"diorthos/platform/corbelfile"
)

// BenchmarkVerify verifies a store in the folder DIORTHOS_BENCH_STORE, which is
// made when it is not there: 160 components with a payload of 4 MiB each.
func BenchmarkVerify(b *testing.B) {
	folder := os.Getenv("DIORTHOS_BENCH_STORE")
	if folder == "" {
		b.Skip("DIORTHOS_BENCH_STORE names no folder; \"make bench\" does")
	}
	if _, err := os.Stat(folder); err != nil {
		makeStore(b, folder)
	}
	s := corbel.StoreOn(os.DirFS(folder))
	for b.Loop() {
		report, err := store.Verify(b.Context(), s, runtime.NumCPU(), nil)
		if err != nil || len(report.Faults) > 0 {
			b.Fatalf("%+v %v", report, err)
		}
		b.SetBytes(report.Bytes)
	}
}

func makeStore(b *testing.B, folder string) {
	b.Helper()
	r := rand.NewChaCha8([32]byte{7})
	index := corbelfile.Index{Build: 7210}
	put := func(name string, data []byte) {
		name = filepath.Join(folder, name)
		err := os.MkdirAll(filepath.Dir(name), 0o755)
		if err == nil {
			err = os.WriteFile(name, data, 0o644)
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	for i := range 160 {
		data := make([]byte, 4<<20)
		_, _ = r.Read(data)
		name := "corbel-" + string(rune('a'+i%26)) + string(rune('a'+i/26))
		m := corbelfile.Seal(corbelfile.KindManifest, corbelfile.Manifest{
			Name:    name,
			Version: "1",
			Files:   []corbelfile.File{{Path: name, Payload: corbelfile.Hash(data), Size: int64(len(data))}},
		})
		put(corbelfile.PayloadFolder+"/"+corbelfile.Hash(data), data)
		put(corbelfile.ManifestFolder+"/"+name+"-1", m)
		index.Components = append(index.Components, corbelfile.Component{
			Name:     name,
			Version:  "1",
			Manifest: corbelfile.Hash(m),
		})
	}
	put(corbelfile.IndexPath, corbelfile.Seal(corbelfile.KindIndex, index))
}
