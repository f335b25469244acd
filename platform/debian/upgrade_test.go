package debian_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"diorthos/core/bag"
	"diorthos/platform/debian"
)

// dpkg itself is asked.
func TestVersionsAreOrderedAsDpkgOrdersThem(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	pieces := []string{"1", "0", "10", "9", "~", "~rc1", "+deb12u1", ".", "a", "B", "-1", "-0", "00"}
	version := func() string {
		v := strconv.Itoa(r.IntN(3))
		for range r.IntN(5) {
			v += pieces[r.IntN(len(pieces))]
		}
		if r.IntN(4) == 0 {
			v = strconv.Itoa(r.IntN(2)) + ":" + v
		}
		return v
	}
	for range 150 {
		a, b := version(), version()
		got := debian.CompareVersions(a, b)
		for word, want := range map[string]bool{"lt": got < 0, "eq": got == 0, "gt": got > 0} {
			if holds := exec.Command("dpkg", "--compare-versions", a, word, b).Run() == nil; holds != want {
				t.Fatalf("%q %s %q: dpkg says %t, we say %d", a, word, b, holds, got)
			}
		}
	}
}

// A made-up release is offered to a made-up system, and apt itself plans the
// upgrade.
func TestTheUpgradeIsPlannedAsAptPlansIt(t *testing.T) {
	for seed := range uint64(4) {
		dir := t.TempDir()
		status, packages := world(rand.New(rand.NewPCG(seed, 7)))
		for name, text := range map[string]string{
			"status":                 status,
			"repo/Packages":          packages,
			"sources.list":           "deb [trusted=yes] file:" + filepath.Join(dir, "repo") + " ./\n",
			"lists/partial/.keep":    "",
			"archives/partial/.keep": "",
			"parts/.keep":            "",
		} {
			path := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		apt := func(args ...string) string {
			own := []string{
				"-o", "Dir::State=" + dir, "-o", "Dir::State::status=" + dir + "/status", "-o",
				"Dir::State::lists=" + dir + "/lists", "-o", "Dir::Cache=" + dir, "-o",
				"Dir::Etc::sourcelist=" + dir + "/sources.list", "-o", "Dir::Etc::sourceparts=" + dir + "/parts", "-o",
				"APT::Architecture=amd64", "-o", "APT::Architectures::=amd64", "-o", "APT::Sandbox::User=root", "-o",
				"Debug::NoLocking=true",
			}
			out, err := exec.Command("apt-get", append(own, args...)...).CombinedOutput()
			if err != nil {
				t.Fatalf("apt-get %v: %v: %s", args, err, out)
			}
			return string(out)
		}
		apt("update")
		counts := regexp.MustCompile(`(\d+) upgraded, (\d+) newly installed`).FindStringSubmatch(apt("-s", "dist-upgrade"))
		var download int64
		for _, m := range regexp.MustCompile(
			`(?m)^'\S+' \S+ (\d+) `,
		).FindAllStringSubmatch(apt("--print-uris", "-y", "dist-upgrade"), -1) {
			n, _ := strconv.ParseInt(m[1], 10, 64)
			download += n
		}
		index, err := debian.ReadIndex("amd64", strings.NewReader(packages))
		if err != nil {
			t.Fatal(err)
		}
		plan := index.Plan(&bag.Installed{Packages: debian.ReadDatabase(strings.NewReader(status))}, "Packages")
		if got := []string{strconv.Itoa(plan.Upgrades), strconv.Itoa(plan.New)}; got[0] != counts[1] ||
			got[1] != counts[2] || plan.Download != download || download == 0 {
			t.Errorf("world %d: %v, %d bytes; apt: %v, %d bytes", seed, got, plan.Download, counts[1:], download)
		}
	}
}

// world makes a system of old packages and a release that has newer ones, some
// of which need or recommend packages that are new.
func world(r *rand.Rand) (status, packages string) {
	var s, p strings.Builder
	for i := range 120 {
		old := fmt.Sprintf(
			"Package: skerrow-%d\n"+
				"Architecture: amd64\n"+
				"Version: 1.0\n"+
				"Installed-Size: 100\n"+
				"Depends: skerrow-%d\n"+
				"Maintainer: x\n"+
				"Description: x\n",
			i, r.IntN(120),
		)
		fmt.Fprintf(&s, "%sStatus: install ok installed\n\n", old)
		if r.IntN(2) == 0 { // the same in the release: apt must leave it alone
			fmt.Fprintf(&p, "%sFilename: ./s%d.deb\nSize: %d\nSHA256: %064d\n\n", old, i, 1000+i, i)
			continue
		}
		needs := fmt.Sprintf("skerrow-%d", r.IntN(120))
		if r.IntN(6) == 0 {
			needs += fmt.Sprintf(", new-%d (>= 1.0) | skerrow-%d (>> 9)", r.IntN(30), r.IntN(120))
		}
		fmt.Fprintf(
			&p,
			"Package: skerrow-%d\n"+
				"Architecture: amd64\n"+
				"Version: 2.0\n"+
				"Installed-Size: 150\n"+
				"Depends: %s\n"+
				"Filename: ./s%d.deb\n"+
				"Size: %d\n"+
				"SHA256: %064d\n"+
				"Maintainer: x\n"+
				"Description: x\n\n",
			i, needs, i, 1000+i, i,
		)
	}
	for i := range 30 {
		more := ""
		if i < 25 {
			more = fmt.Sprintf("Depends: new-%d\n", i+1+r.IntN(4))
		}
		if r.IntN(3) == 0 && i < 28 {
			more += fmt.Sprintf("Recommends: new-%d\n", i+1)
		}
		fmt.Fprintf(
			&p,
			"Package: new-%d\n"+
				"Architecture: amd64\n"+
				"Version: 1.0\n"+
				"Installed-Size: 70\n"+
				"%sFilename: ./n%d.deb\n"+
				"Size: %d\n"+
				"SHA256: %064d\n"+
				"Maintainer: x\n"+
				"Description: x\n\n",
			i, more, i, 500+i, 900+i,
		)
	}
	return s.String(), p.String()
}

func TestAPackageFileTellsWhatItIs(t *testing.T) {
	tree := filepath.Join(t.TempDir(), "skerrow-gate")
	if err := os.MkdirAll(filepath.Join(tree, "DEBIAN"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(
		filepath.Join(tree, "DEBIAN/control"),
		[]byte("Package: skerrow-gate\nVersion: 2:1.0-3\nArchitecture: arm64\nMaintainer: x\nDescription: gate\n the gate\n"),
		0o644,
	); err != nil {
		t.Fatal(err)
	}
	for _, how := range []string{"xz", "gzip", "zstd", "none"} {
		file := filepath.Join(t.TempDir(), "p.deb")
		if out, err := exec.Command(
			"dpkg-deb", "-Z"+how, "--root-owner-group", "--build", tree, file,
		).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		p, err := debian.ReadPackage(strings.NewReader(string(raw)))
		if err != nil || p.Name != "skerrow-gate" || p.Version != "2:1.0-3" || p.Architecture != "arm64" {
			t.Errorf("%s: %+v %v", how, p, err)
		}
		if _, err := debian.ReadPackage(strings.NewReader(string(raw[:100]))); err == nil {
			t.Errorf("%s: a package that is cut off was read", how)
		}
	}
}

func FuzzReadPackage(f *testing.F) {
	f.Add([]byte("!<arch>\n" +
		"debian-binary   0           0     0     100644  4         `\n" +
		"2.0\n" +
		"control.tar     0           0     0     100644  10        `\n" +
		"0123456789"))
	f.Fuzz(func(_ *testing.T, raw []byte) { _, _ = debian.ReadPackage(strings.NewReader(string(raw))) })
}
