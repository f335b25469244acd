package grub_test

import (
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/platform/grub"
)

const uuid = "3f1c7a52-8a0b-4d52-9f5e-2b6f0c9d1e44"

// volumes of a machine with one partition, whose menu is text.
func volumes(text string) []grub.Volume {
	files := fstest.MapFS{
		"boot/grub/grub.cfg":                   {Data: []byte(text)},
		"boot/vmlinuz-6.1.0-50-cloud-amd64":    {Data: []byte("kernel")},
		"boot/initrd.img-6.1.0-50-cloud-amd64": {Data: []byte("early")},
		"boot/vmlinuz-6.1.0-49-amd64":          {Data: []byte("kernel")},
		"boot/grub/i386-pc/normal.mod":         {Data: []byte("x")},
		"boot/grub/grubenv":                    {Data: []byte("# GRUB Environment Block\nsaved_entry=older\n####")},
		"boot/grub/more.cfg": {
			Data: []byte("menuentry more --id more { linux /boot/vmlinuz-6.1.0-49-amd64 from=more }\n"),
		},
		"EFI/debian/grub.cfg": {
			Data: []byte("search.fs_uuid " + uuid + " root\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
		},
	}
	return []grub.Volume{
		{Device: "hd0,msdos1", UUID: uuid, Label: "harbour", Files: files},
		{Device: "hd0,msdos2", UUID: "77aa-0001", Label: "data", Files: fstest.MapFS{"readme": {Data: []byte("x")}}},
	}
}

func begin() grub.Begin { return grub.Begin{Device: "hd0,msdos1", Prefix: "/boot/grub"} }

// TestAGenuineConfigurationIsRunAsGRUBRunsIt runs what Debian's own scripts wrote.
func TestAGenuineConfigurationIsRunAsGRUBRunsIt(t *testing.T) {
	raw, err := os.ReadFile("testdata/debian-bios.cfg")
	if err != nil {
		t.Fatal(err)
	}
	menu, err := grub.Run(volumes(string(raw)), begin())
	if err != nil || menu.Problem != nil {
		t.Fatal(err, menu.Problem)
	}
	if len(menu.Entries) != 2 || len(menu.Starts()) != 3 {
		t.Errorf("%d entries, %d with submenus", len(menu.Entries), len(menu.Starts()))
	}
	s := menu.Default()
	if s.Missing != nil || s.Kernel.Path != "boot/vmlinuz-6.1.0-50-cloud-amd64" || len(s.Early) != 1 ||
		!strings.HasPrefix(s.Arguments, "root=UUID="+uuid+" ro") || s.ID != "gnulinux-simple-"+uuid {
		t.Errorf("%+v", s)
	}
	if s = menu.Try("gnulinux-advanced-" + uuid + ">1"); s == nil || !strings.Contains(s.Arguments, " single ") {
		t.Errorf("recovery: %+v", s)
	}
	gone := strings.ReplaceAll(string(raw), "vmlinuz-6.1.0-50", "vmlinuz-6.1.0-51")
	if menu, err = grub.Run(volumes(gone), begin()); err != nil {
		t.Fatal(err)
	}
	if s = menu.Default(); s.Missing == nil || !strings.Contains(s.Missing.Why, "vmlinuz-6.1.0-51") ||
		s.Missing.Line == 0 {
		t.Errorf("a kernel that is gone: %+v", s.Missing)
	}
	lost := strings.ReplaceAll(string(raw), uuid, "00000000-1111-4222-8333-444444444444")
	if menu, err = grub.Run(volumes(lost), begin()); err != nil {
		t.Fatal(err)
	}
	// the root stays where the menu lies, as it does in GRUB
	if s = menu.Default(); s.Kernel.Volume == nil || s.Missing == nil || !strings.Contains(s.Missing.What, "search") {
		t.Errorf("a volume that is gone: %+v", s)
	}
}

// TestTheLanguageDecidesAsInGRUB tries its parts one by one.
func TestTheLanguageDecidesAsInGRUB(t *testing.T) {
	entries := "menuentry A --id first { linux /boot/vmlinuz-6.1.0-49-amd64 a=1 }\n" +
		"menuentry 'B b' --id older { linux /boot/vmlinuz-6.1.0-49-amd64 b=2 $extra }\n" +
		"submenu More --id more { menuentry C --id third { linux /boot/vmlinuz-6.1.0-49-amd64 c=3 } }\n"
	for name, c := range map[string]struct{ before, want string }{
		"the first":             {"", "a=1"},
		"by number":             {"set default=1", "b=2"},
		"by title":              {"set default='B b'", "b=2"},
		"by id":                 {"default=older", "b=2"},
		"by a path":             {"set default='more>third'", "c=3"},
		"saved":                 {"load_env\nset default=\"${saved_entry}\"", "b=2"},
		"one that is not there": {"set default=nobody", "a=1"},
		"if and else": {
			"if [ -s $prefix/grubenv -a ! -d /nothing ]; then set default=1; else set default=0; fi",
			"b=2",
		},
		"elif": {
			"if false; then set default=0; elif test -f /boot/grub/grubenv; then set default=1; fi",
			"b=2",
		},
		"an empty variable":       {"if [ \"${next_entry}\" ] ; then set default=1; fi", "a=1"},
		"a loop":                  {"for x in 0 1 1; do set default=$x; done", "b=2"},
		"a function with words":   {"function pick {\n set default=$2\n}\npick 0 1", "b=2"},
		"a variable in the entry": {"set default=1; extra='x y'", "b=2 x y"},
		"a search by label":       {"search --no-floppy --label --set=root harbour; set default=1", "b=2"},
		"a search by file":        {"search --file --set=root /boot/vmlinuz-6.1.0-49-amd64; set default=1", "b=2"},
		"numbers":                 {"if [ 10 -gt 9 -a 3 != 4 ]; then default=1; fi", "b=2"},
		"the platform":            {"if [ $grub_platform = efi ]; then default=0; else default=1; fi", "b=2"},
		"fallback":                {"set default=x; set fallback=2\nmenuentry broken --id x { linux /boot/none }", "b=2"},
		"comments, joined lines":  {"# set default=0\nset \\\n default=1 # really", "b=2"},
		"another file":            {"set default=more2\nsource $prefix/more.cfg\nset default=more", "from=more"},
	} {
		menu, err := grub.Run(volumes(c.before+"\n"+entries), begin())
		if err != nil || menu.Problem != nil {
			t.Errorf("%s: %v %v", name, err, menu.Problem)
			continue
		}
		if s := menu.Default(); s == nil || s.Missing != nil || strings.TrimSpace(s.Arguments) != c.want {
			t.Errorf("%s: %+v, want %q", name, s, c.want)
		}
	}
	stub := grub.Begin{Device: "hd0,msdos1", Prefix: "/EFI/debian", UEFI: true}
	if menu, err := grub.Run(volumes(entries), stub); err != nil || menu.Default() == nil || len(menu.Files) != 2 {
		t.Errorf("by way of the short configuration: %v %+v", err, menu)
	}
}

// TestWhatIsNotThereIsSaid names what is missing instead of guessing around it.
func TestWhatIsNotThereIsSaid(t *testing.T) {
	for name, c := range map[string]struct{ text, says string }{
		"empty":              {"", "it has no entry"},
		"an open brace":      {"menuentry A {\n linux /x\n", "line 1"},
		"an open quotation":  {"set a='b\n", "does not end"},
		"a lost fi":          {"if true; then set a=b\n", "is missing"},
		"for ever":           {"while true; do set a=b; done", ""},
		"calls itself":       {"function f {\n f\n}\nf", ""},
		"reads itself again": {"source $prefix/grub.cfg", ""},
	} {
		menu, err := grub.Run(volumes(c.text), begin())
		said := ""
		if err != nil {
			said = err.Error()
		} else if menu.Problem != nil {
			said = menu.Problem.String()
		}
		if said == "" || !strings.Contains(said, c.says) {
			t.Errorf("%s: %q, want %q", name, said, c.says)
		}
	}
	menu, err := grub.Run(
		[]grub.Volume{{Device: "hd0,gpt2", UUID: uuid}},
		grub.Begin{Device: "hd0,gpt2", Prefix: "/boot/grub"},
	)
	if err != nil || menu.Problem == nil {
		t.Errorf("a volume that cannot be read has a menu: %v %+v", err, menu)
	}
}

// GRUB's own checker is the witness of what is a script and what is none.
func TestTheSameScriptsAreRefusedAsByGRUBsChecker(t *testing.T) {
	checker, err := exec.LookPath("grub-script-check")
	if err != nil {
		t.Fatal("grub-script-check is not installed: scripts/packages.sh test")
	}
	raw, err := os.ReadFile("testdata/debian-bios.cfg")
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(string(raw), "\n")
	r, agree := rand.New(rand.NewPCG(3, 14)), 0
	file := filepath.Join(t.TempDir(), "grub.cfg")
	for range 120 { // lines taken out at random
		kept := make([]string, 0, len(lines))
		for _, l := range lines {
			if r.IntN(60) > 0 {
				kept = append(kept, l)
			}
		}
		text := strings.Join(kept, "")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		theirs := exec.CommandContext(t.Context(), checker, file).Run() == nil
		menu, err := grub.Run(volumes(text), begin())
		ours := err == nil && (menu.Problem == nil || menu.Problem.Line == 0)
		if ours != theirs {
			t.Errorf("ours says %t, grub-script-check %t: %v", ours, theirs, menu.Problem)
			continue
		}
		agree++
	}
	t.Logf("%d of 120 scripts judged alike", agree)
}

// TestACoreImageIsFollowed makes a disk of GRUB's own parts, and damages them.
func TestACoreImageIsFollowed(t *testing.T) {
	const parts = "/usr/lib/grub/i386-pc"
	dir := t.TempDir()
	early := filepath.Join(dir, "early.cfg")
	if err := os.WriteFile(early, []byte("search.fs_uuid "+uuid+" root\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	core := filepath.Join(dir, "core.img")
	out, err := exec.CommandContext(t.Context(), "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub",
		"-c", early, "-o", core,
		"biosdisk", "part_msdos", "ext2", "search_fs_uuid").
		CombinedOutput()
	if err != nil {
		t.Fatalf("grub-mkimage: %v: %s", err, out)
	}
	image, err := os.ReadFile(core)
	if err != nil {
		t.Fatal(err)
	}
	first, err := os.ReadFile(filepath.Join(parts, "boot.img"))
	if err != nil {
		t.Fatal(err)
	}
	disk := make([]byte, 1<<20)
	copy(disk, first)
	disk[0x5c] = 1
	copy(disk[512:], image)
	rest := (len(image)+511)/512 - 1
	copy(disk[512+0x1f4:], []byte{2, 0, 0, 0, 0, 0, 0, 0, byte(rest), byte(rest >> 8), 0x20, 8})

	i, err := grub.ReadImage(strings.NewReader(string(disk)), disk[:512], image)
	if err != nil || i.Packed != nil || i.Prefix != "/boot/grub" || !strings.Contains(i.Config, uuid) {
		t.Fatalf("%v: %+v", err, i)
	}
	if i, err = grub.ReadImage(strings.NewReader(string(disk)), disk[:512], nil); err != nil || i.Prefix != "/boot/grub" {
		t.Errorf("without the copy: %v", err)
	}
	if err := grub.CheckCopy(image); err != nil {
		t.Errorf("a sound copy: %v", err)
	}
	holed := slices.Clone(image)
	clear(holed[len(holed)/2 : len(holed)/2+4096])
	for what, copied := range map[string][]byte{"a hole": holed, "cut off": image[:len(image)/2], "nothing": nil} {
		if err := grub.CheckCopy(copied); err == nil {
			t.Errorf("a copy with %s is called sound", what)
		}
	}
	if _, err = grub.ReadImage(strings.NewReader(string(disk)), make([]byte, 512), nil); !errors.Is(err, grub.ErrNotGRUB) {
		t.Errorf("empty code: %v", err)
	}
	for name, damage := range map[string]func([]byte){
		"zeros in the image":    func(d []byte) { clear(d[4096:9000]) },
		"its first sector":      func(d []byte) { clear(d[512:1024]) },
		"code to another place": func(d []byte) { d[0x5c] = 200 },
		"the list of blocks":    func(d []byte) { d[512+0x1f4+9] = 0xff },
	} {
		broken := append([]byte(nil), disk...)
		damage(broken)
		if _, err := grub.ReadImage(strings.NewReader(string(broken)), broken[:512], image); err == nil ||
			errors.Is(err, grub.ErrNotGRUB) {
			t.Errorf("%s is not noticed: %v", name, err)
		}
	}
}

func FuzzRun(f *testing.F) {
	raw, err := os.ReadFile("testdata/debian-bios.cfg")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(string(raw))
	f.Add("for x in; do done\nif ; then fi\n${}{}")
	f.Fuzz(func(_ *testing.T, text string) {
		if menu, err := grub.Run(volumes(text), begin()); err == nil {
			menu.Default()
			menu.Starts()
		}
	})
}

func FuzzReadImage(f *testing.F) {
	disk := make([]byte, 8192)
	copy(disk[0x180:], "GRUB \x00Geom\x00")
	disk[0x5c] = 1
	copy(disk[512:], []byte{0x52, 0x56, 0xbe})
	copy(disk[512+0x1f4:], []byte{2, 0, 0, 0, 0, 0, 0, 0, 9, 0, 0x20, 8})
	f.Add(disk, []byte(nil))
	f.Add(disk, disk[512:])
	f.Fuzz(func(_ *testing.T, disk, kept []byte) {
		if len(disk) >= 512 {
			_, _ = grub.ReadImage(strings.NewReader(string(disk)), disk[:512], kept)
		}
	})
}
