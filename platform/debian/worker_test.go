package debian

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/volumes"
	standin "diorthos/standin/debian"
)

// A scripted system answers its commands as told, over real files in a folder.
type scripted struct {
	onFolder
	answer func(args []string) (text string, status int)
	ran    []string
}

func (s *scripted) Run(_ context.Context, c system.Command) (system.Output, error) {
	s.ran = append(s.ran, strings.Join(c.Args, " "))
	text, status := s.answer(c.Args)
	return system.Output{Text: text, Status: status}, nil
}

// working is a worker in a small system.
func working(t *testing.T, answer func(root *os.Root, args []string) (string, int)) (*worker, *scripted, string) {
	t.Helper()
	dir := smallSystem(t)
	root := openRoot(t, dir)
	s := &scripted{onFolder: onFolder{root}}
	s.answer = func(args []string) (string, int) { return answer(root, args) }
	n := &inner{fsys: root.FS(), now: time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)}
	n.ground = system.Ground{
		Contents: map[int]layout.Content{0: {UUID: "11-22"}},
		Table:    &layout.Table{},
		Volumes:  &volumes.Set{},
	}
	return &worker{n: n, in: s, say: func(string) {}, held: map[string]string{}}, s, dir
}

func lay(t *testing.T, dir, name, text string) {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o755); err != nil {
		t.Fatal(err)
	}
}

func gone(dir, name string) bool {
	_, err := os.Lstat(filepath.Join(dir, name))
	return os.IsNotExist(err)
}

// What stops a tool and belongs to no package is moved out of its way, and the tool is run
// again; what a package owns, and a user's file anywhere else, stays.
func TestWhatStopsAToolIsHeldAside(t *testing.T) {
	for name, c := range map[string]struct {
		file, says string
		stays      bool
	}{
		"a hook by its path": {file: "etc/kernel/postinst.d/local", says: "run-parts: " +
			"/etc/kernel/postinst.d/local exited with return code 1"},
		"a hook with its status": {
			file: "etc/initramfs-tools/hooks/local", says: "E: /etc/initramfs-tools/hooks/local failed with return 3.",
		},
		"a setting with its line": {file: "etc/apt/apt.conf.d/99x", says: "E: Syntax error " +
			"/etc/apt/apt.conf.d/99x:1: Extra junk"},
		"a pin": {file: "etc/apt/preferences.d/x", says: "E: Invalid record in the " +
			"preferences file /etc/apt/preferences.d/x"},
		"a program before that of dpkg":    {file: "usr/local/bin/skerrow-deck", says: "something unknown"},
		"a user's file that was named":     {file: "home/anna/letter", says: "cannot read /home/anna/letter", stays: true},
		"a package's own file by its path": {file: "usr/bin/skerrow-tide", says: "/usr/bin/skerrow-tide failed", stays: true},
	} {
		t.Run(name, func(t *testing.T) {
			var dir string
			w, s, dir := working(t, func(root *os.Root, _ []string) (string, int) {
				if _, err := root.Lstat(c.file); err != nil {
					return "done", 0
				}
				return c.says, 1
			})
			if !strings.HasPrefix(c.file, "usr/bin/") {
				lay(t, dir, c.file, "x")
			}
			_, ok, err := w.attempt(t.Context(), "dpkg", "--configure", "-a")
			if err != nil || ok == c.stays || gone(dir, c.file) == c.stays {
				t.Errorf("ended well: %v, held aside: %v, %v, %v", ok, gone(dir, c.file), err, w.did)
			}
			if !c.stays && (len(s.ran) != 2 || gone(dir, asideFolder+"/20261125-080000/"+c.file)) {
				t.Errorf("ran %v; it does not lie aside: %v", s.ran, w.did)
			}
		})
	}
}

// A package that was added by the last run and cannot be configured is removed again; one that
// was upgraded goes back to the version in the cache; nothing else is touched.
func TestWhatCannotBeConfiguredIsTakenBack(t *testing.T) {
	log := "2026-11-25 07:00:00 install skerrow-deck:all <none> 1.0\n2026-11-25 07:00:01 upgrade skerrow-tide:all " +
		"0.9 1.0\n"
	fails := true
	w, s, dir := working(t, func(_ *os.Root, args []string) (string, int) {
		switch line := strings.Join(args, " "); {
		case line == "dpkg --audit" && fails, line == "apt-get check -q" && fails:
			return "unfinished", 1
		case strings.HasPrefix(line, "dpkg --configure -a"):
			return "dpkg: error processing package skerrow-deck (--configure):\n x\ndpkg: error processing package " +
				"skerrow-tide (--configure):\n x\n", 1
		case line == "dpkg --force-remove-reinstreq --remove skerrow-deck":
			return "", 0
		case strings.HasPrefix(line, "dpkg -i --force-downgrade"):
			fails = false
			return "", 0
		case strings.HasPrefix(line, "apt-get -s"):
			return "E: x", 100
		}
		return "", 0
	})
	lay(t, dir, "var/log/dpkg.log", log)
	old, err := os.ReadFile(filepath.Join(dir, cacheFolder, "skerrow-tide_1.0_all.deb"))
	if err != nil {
		t.Fatal(err)
	}
	lay(t, dir, cacheFolder+"/skerrow-tide_0.9_all.deb", string(old))
	if err := w.finish(t.Context()); err != nil {
		t.Fatalf("%v; ran %v", err, s.ran)
	}
	said := strings.Join(w.did, "\n")
	if !strings.Contains(said, "skerrow-deck, which the last run had added") || !strings.Contains(said,
		"skerrow-tide is back at version 0.9") {
		t.Errorf("did %s", said)
	}
}

// What works is never removed to make something else fit.
func TestWhatWorksIsNotRemoved(t *testing.T) {
	w, s, _ := working(t, func(_ *os.Root, args []string) (string, int) {
		switch line := strings.Join(args, " "); {
		case strings.HasPrefix(line, "apt-get -s"):
			return "Remv skerrow-tide [1.0]\n", 0
		case line == "apt-get check -q":
			return "skerrow-deck : Depends: nothing", 100
		}
		return "", 0
	})
	err := w.meetDependencies(t.Context())
	if err == nil || !strings.Contains(err.Error(), "apt would remove skerrow-tide") {
		t.Errorf("%v", err)
	}
	for _, line := range s.ran {
		if strings.Contains(line, "-f install") && !strings.HasPrefix(line, "apt-get -s") {
			t.Errorf("ran %s", line)
		}
	}
}

// A menu is made of the kernels that can start, by us where the system's own tool comes to
// nothing; kernels that are damaged are out of the way; no kernel is an error, and changes nothing.
func TestTheMenuIsMadeOfTheKernelsThatAreThere(t *testing.T) {
	w, _, dir := working(t, func(*os.Root, []string) (string, int) { return "", 1 })
	lay(t, dir, "boot/vmlinuz-6.1.0-9-amd64", string(standin.Kernel(9000)))
	lay(t, dir, "boot/vmlinuz-6.1.0-10-amd64", string(standin.Kernel(9000)))
	lay(t, dir, "boot/vmlinuz-6.1.0-11-amd64", "cut off")
	lay(t, dir, "boot/initrd.img-6.1.0-10-amd64", "x")
	lay(t, dir, "etc/default/grub", "GRUB_CMDLINE_LINUX=\"console=ttyS0\"\nGRUB_CMDLINE_LINUX_DEFAULT=\"quiet\"\n")
	if err := w.kernelsAside(); err != nil {
		t.Fatal(err)
	}
	text, count, err := w.ownMenu()
	if err != nil || count != 2 {
		t.Fatalf("%d kernels, %v", count, err)
	}
	menu := string(text)
	first, second := strings.Index(menu, "vmlinuz-6.1.0-10-amd64"), strings.Index(menu, "vmlinuz-6.1.0-9-amd64")
	if first < 0 || second < first || strings.Contains(menu, "6.1.0-11") || strings.Contains(menu,
		"initrd.img-6.1.0-9-") ||
		!strings.Contains(menu, "root=UUID=11-22 ro console=ttyS0 quiet") {
		t.Errorf("the menu:\n%s", menu)
	}
	if !gone(dir, "boot/vmlinuz-6.1.0-11-amd64") {
		t.Error("a damaged kernel is still in the way")
	}
	none, _, empty := working(t, func(*os.Root, []string) (string, int) { return "", 0 })
	if err := none.kernelsAside(); err == nil {
		t.Errorf("a system without a kernel: %v", fmt.Sprint(os.ReadDir(empty)))
	}
}

// A twin gives only what has the checksum that the database says, from the version that is
// installed; a folder of package files and a single one do as well.
func TestSourcesGiveWhatTheDatabaseSays(t *testing.T) {
	w, _, dir := working(t, func(*os.Root, []string) (string, int) { return "", 0 })
	other := smallSystem(t)
	if err := os.RemoveAll(filepath.Join(dir, cacheFolder)); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(dir, cacheFolder), 0o755); err != nil {
		t.Fatal(err)
	}
	spoil := func() {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, "usr/bin/skerrow-deck"), []byte("altered"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	raw, err := os.ReadFile(filepath.Join(other, cacheFolder, "skerrow-deck_1.0_all.deb"))
	if err != nil {
		t.Fatal(err)
	}
	single, ok, err := Adapter{}.Medium("deck.deb", raw)
	if err != nil || !ok {
		t.Fatal(err)
	}
	folder, err := Adapter{}.Twin("packages", os.DirFS(filepath.Join(other, cacheFolder)))
	if err != nil {
		t.Fatal(err)
	}
	machine, err := Adapter{}.Twin("a twin", openRoot(t, other).FS())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := (Adapter{}).Twin("nothing", os.DirFS(t.TempDir())); err == nil {
		t.Error("an empty folder is taken for a source")
	}
	spoil()
	report, err := VerifyPayloads(t.Context(), w.files(), 1, nil)
	if err != nil || len(report.Faults) != 1 {
		t.Fatalf("%+v, %v", report, err)
	}
	want := map[string]string{"usr/bin/skerrow-deck": report.Faults[0].Want}
	p := packageOf(w.files(), "skerrow-deck")
	for name, source := range map[string]any{"one package": single, "a folder": folder, "a twin": machine} {
		spoil()
		from, put, err := w.restoreFrom(p, want, source)
		if err != nil || put != 1 {
			t.Errorf("%s: %d files from %q, %v", name, put, from, err)
		}
	}
	if err := os.WriteFile(filepath.Join(other, "usr/bin/skerrow-deck"), []byte("altered there too"), 0o755); err != nil {
		t.Fatal(err)
	}
	spoil()
	if _, put, err := w.restoreFrom(p, want, machine); put != 0 || err != nil {
		t.Errorf("of a twin that is not well: %d files, %v", put, err)
	}
}
