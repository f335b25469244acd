package iso_test

import (
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/iso"
)

// disc is made by xorriso of a small tree.
func disc(t testing.TB, args ...string) []byte {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		".disk/info": "Debian GNU/Linux 13.1.0 \"Trixie\" - Official amd64 NETINST\n",
		"pool/a rather long name of a package, with Ölhafen_1.0_all.deb": strings.Repeat("x", 5000),
		"boot/loader.bin": strings.Repeat("b", 2048),
		"empty":           "",
	} {
		path := filepath.Join(dir, "tree", name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("../.disk/info", filepath.Join(dir, "tree/pool/link")); err != nil {
		t.Fatal(err)
	}
	image := filepath.Join(dir, "disc.iso")
	if out, err := exec.Command("xorriso", append(append([]string{
		"-as", "mkisofs", "-quiet", "-V", "SKERROW",
	}, args...), "-o", image, filepath.Join(dir, "tree"))...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	raw, err := os.ReadFile(image)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func TestFilesAreThoseThatXorrisoWrote(t *testing.T) {
	const long = "pool/a rather long name of a package, with Ölhafen_1.0_all.deb"
	for names, args := range map[string][]string{
		"rock ridge": {"-R"},
		"joliet":     {"-J", "-joliet-long", "--norock"},
		"plain":      {"--norock"},
	} {
		d, err := iso.Open(bytes.NewReader(disc(t, args...)))
		if err != nil {
			t.Fatal(err)
		}
		if d.Names != names || d.Label != "SKERROW" || len(d.Boot) != 0 {
			t.Errorf("%s: %+v", names, d)
		}
		if names == "plain" {
			continue
		}
		if got, err := fs.ReadFile(d, long); err != nil || len(got) != 5000 {
			t.Errorf("%s: %d bytes, %v", names, len(got), err)
		}
		if names == "rock ridge" {
			if got, err := fs.ReadFile(d, "pool/link"); err != nil ||
				!strings.HasPrefix(string(got), "Debian GNU/Linux 13.1.0") {
				t.Errorf("%s: link: %q, %v", names, got, err)
			}
		} else if err := fstest.TestFS(d, ".disk/info", long, "empty"); err != nil {
			t.Errorf("%s: %v", names, err)
		}
	}
}

func TestWhatCanBeStartedIsListed(t *testing.T) {
	d, err := iso.Open(
		bytes.NewReader(
			disc(
				t, "-R", "-b", "boot/loader.bin", "-no-emul-boot", "-boot-load-size", "4", "-eltorito-alt-boot", "-e",
				"boot/loader.bin", "-no-emul-boot",
			),
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	if len(d.Boot) != 2 || d.Boot[0].Platform != "bios" || !d.Boot[0].Bootable || d.Boot[1].Platform != "uefi" ||
		d.Boot[0].LBA == 0 {
		t.Errorf("%+v", d.Boot)
	}
}

func FuzzOpen(f *testing.F) {
	f.Add(disc(f, "-R")[:80<<10])
	f.Fuzz(func(_ *testing.T, raw []byte) {
		d, err := iso.Open(bytes.NewReader(raw))
		if err != nil {
			return
		}
		_ = fs.WalkDir(d, ".", func(p string, _ fs.DirEntry, err error) error {
			if err != nil || strings.Count(p, "/") > 6 {
				return fs.SkipDir
			}
			return nil
		})
	})
}
