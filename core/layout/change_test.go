package layout_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
)

// guids gives the same ones in every run.
func guids(seed byte) func() layout.GUID {
	n := byte(0)
	return func() layout.GUID {
		n++
		return layout.GUID{seed, n, 1, 2, 3, 4, 5, 0x40, 0x80}
	}
}

func oracle(t *testing.T, stdin, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v: %s", name, args, err, out)
	}
	return string(out)
}

// dosDisk is made by sfdisk: two primary partitions, two logical ones.
func dosDisk(t *testing.T, size int64) string {
	t.Helper()
	path := blank(t, size)
	oracle(
		t, "label: dos\n2048,204800,83,*\n206848,409600,5\n208896,102400,83\n313344,204800,82\n616448,204800,c\n",
		"sfdisk", "--quiet", path,
	)
	return path
}

func TestLogicalPartitionsAreThoseThatSfdiskMade(t *testing.T) {
	path := dosDisk(t, 1<<30)
	var got []string
	for _, p := range readTable(t, path, 512).Partitions() {
		got = append(got, fmt.Sprintf("%d %d+%d %s %t", p.Number, p.Span.First, p.Span.Sectors(), p.TypeCode, p.Active))
	}
	want := []string{
		"1 2048+204800 0x83 true", "3 616448+204800 0x0c false", "5 208896+102400 0x83 false",
		"6 313344+204800 0x82 false",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

// Each damage of an MBR disk, or of what belongs to a machine, has a name.
func TestEachDamageOfAnMBRHasItsName(t *testing.T) {
	const link = 206848 * 512 // the first link of the chain
	systems := map[int]bool{1: true}
	for name, c := range map[string]struct {
		spoil  func(t *testing.T, f *os.File)
		around layout.CheckContext
		want   []string
	}{
		"sound, with boot code": {func(*testing.T, *os.File) {}, layout.CheckContext{
			Firmware: "bios",
			Systems:  systems,
		}, nil},
		"started by UEFI": {func(*testing.T, *os.File) {}, layout.CheckContext{
			Firmware: "uefi",
			Systems:  systems,
		}, []string{"style-against-firmware"}},
		"chain cut": {func(t *testing.T, f *os.File) {
			poke(t, f, link+510, 0, 0)
		}, layout.CheckContext{}, []string{"logical-chain-broken"}},
		"chain loops": {func(t *testing.T, f *os.File) {
			poke(t, f, link+446+16+8, 0, 0, 0, 0)
		}, layout.CheckContext{}, []string{"logical-chain-loops"}},
		"chain leaves": {func(t *testing.T, f *os.File) {
			poke(t, f, link+446+16+8, 0, 0, 0, 9)
		}, layout.CheckContext{}, []string{"logical-outside-extended"}},
		"two active": {func(t *testing.T, f *os.File) {
			poke(t, f, 446+32, 0x80)
		}, layout.CheckContext{Systems: systems}, []string{"active-flag-double"}},
		"none active": {func(t *testing.T, f *os.File) {
			poke(t, f, 446, 0)
		}, layout.CheckContext{Systems: systems}, []string{"active-flag-missing"}},
		"active, with no content": {
			func(*testing.T, *os.File) {}, layout.CheckContext{Systems: map[int]bool{3: true}},
			[]string{"active-without-system"},
		},
		"flag of a third kind": {func(t *testing.T, f *os.File) {
			poke(t, f, 446+32, 0x17)
		}, layout.CheckContext{}, []string{"active-flag-invalid"}},
		"boot code gone": {func(t *testing.T, f *os.File) {
			poke(t, f, 0, make([]byte, 440)...)
		}, layout.CheckContext{Systems: systems}, []string{"boot-code-missing"}},
		"two extended": {func(t *testing.T, f *os.File) {
			poke(t, f, 446+32+4, 0x0f)
		}, layout.CheckContext{}, []string{"extended-twice"}},
		"active, with data alone": {func(*testing.T, *os.File) {}, layout.CheckContext{
			Systems:  map[int]bool{3: true},
			Contents: map[int]layout.Content{1: {Kind: "ext4", Size: 204800 * 512}, 3: {Kind: "ext4"}},
		}, []string{"active-without-loader", "type-implausible"}},
		"swap holds ext4": {func(*testing.T, *os.File) {}, layout.CheckContext{Contents: map[int]layout.Content{6: {
			Kind: "ext4",
			Size: 204800 * 512,
		}}}, []string{"type-implausible"}},
		"file system cut off": {func(*testing.T, *os.File) {}, layout.CheckContext{Contents: map[int]layout.Content{1: {
			Kind: "ext4",
			Size: 204801 * 512,
		}}}, []string{"content-too-large"}},
		"file system too small": {func(*testing.T, *os.File) {}, layout.CheckContext{Contents: map[int]layout.Content{1: {
			Kind: "ext4",
			Size: 100000 * 512,
		}}}, []string{"content-too-small"}},
		"too small for a release": {func(*testing.T, *os.File) {}, layout.CheckContext{
			Roles: map[int]layout.Role{1: "boot", 6: "esp"},
			Demands: []layout.Demand{
				{Role: "disk", AtLeast: 1 << 31, By: "Tidewater 4"},
				{Role: "boot", AtLeast: 1, Should: 768 << 20, By: "Tidewater 4"},
				{Role: "esp", AtLeast: 35e6, By: "Tidewater 4"},
			},
		}, []string{"size-below-release", "size-below-release"}},
	} {
		path := dosDisk(t, 1<<30)
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		poke(t, f, 0, 0xeb, 0x63, 0x90) // some boot code
		c.spoil(t, f)
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
		problems := readTable(t, path, 512).CheckIn(c.around)
		if got := ids(problems); !slices.Equal(got, c.want) {
			t.Errorf("%s: got %v, want %v", name, got, c.want)
		}
		for _, p := range problems {
			if p.Text == "" || p.Got == "" || p.Want == "" || len(p.Affects) == 0 {
				t.Errorf("%s: does not say enough: %+v", name, p)
			}
		}
	}
}

func poke(t *testing.T, f *os.File, off int64, b ...byte) {
	t.Helper()
	if _, err := f.WriteAt(b, off); err != nil {
		t.Fatal(err)
	}
}

// gptDisk is made by sgdisk, as bytes.
func gptDisk(t *testing.T, size int64) string {
	t.Helper()
	path := blank(t, size)
	sgdisk(t, "--clear", "--new=1:2048:+1M", "--typecode=1:ef00", "--new=3:0:+1M", "--change-name=3:system", path)
	return path
}

// A thousand disks with damaged tables. What is mended has nothing broken and
// the same partitions; what is refused is left alone; sgdisk looks at all.
func TestDamagedTablesAreMendedOrRefused(t *testing.T) {
	base, err := os.ReadFile(gptDisk(t, 4<<20))
	if err != nil {
		t.Fatal(err)
	}
	mended, refused := 0, 0
	for seed := range uint64(1000) {
		r := rand.New(rand.NewPCG(seed, 3))
		disk := slices.Clone(base)
		for range 1 + r.IntN(3) {
			at := r.IntN(34 * 512)
			if r.IntN(2) == 0 {
				at = len(disk) - 33*512 + r.IntN(33*512)
			}
			for i := range min(1+r.IntN(600), len(disk)-at) {
				disk[at+i] = byte(r.Uint32())
			}
		}
		path := filepath.Join(t.TempDir(), "disk.img")
		if err := os.WriteFile(path, disk, 0o600); err != nil {
			t.Fatal(err)
		}
		table := readTable(t, path, 512)
		writes, err := table.MendAll(layout.Mending{NewGUID: guids(1)})
		switch {
		case errors.Is(err, layout.ErrNothingToMend):
			// the damage fell on boot code or on spare bytes
		case err != nil:
			refused++
			if table.Primary.Sound() || table.Backup.Sound() {
				t.Errorf("seed %d: refused though a copy is sound: %v", seed, err)
			}
			continue
		default:
			mended++
			apply(t, path, 512, writes)
		}
		after := readTable(t, path, 512)
		for _, p := range after.Check() {
			if p.Severity == layout.Broken && p.ID != "active-flag-invalid" && p.ID != "hybrid-disagrees" {
				t.Errorf("seed %d: still broken: %+v", seed, p)
			}
		}
		if got, want := ours(after), []string{"1 2048 4095", "3 4096 6143"}; len(got) != len(want) {
			t.Errorf("seed %d: partitions %v", seed, got)
		}
		if out := sgdisk(t, "--verify", path); !strings.Contains(out, "No problems found") {
			t.Errorf("seed %d: sgdisk: %s", seed, out)
		}
	}
	if mended < 300 || refused < 50 {
		t.Errorf("%d mended, %d refused: the damage is not what it was meant to be", mended, refused)
	}
}

func TestAGrownDiskGetsItsBackupAtTheEnd(t *testing.T) {
	path := gptDisk(t, 4<<20)
	if err := os.Truncate(path, 20<<20); err != nil {
		t.Fatal(err)
	}
	table := readTable(t, path, 512)
	if got := ids(table.Check()); !slices.Contains(got, "backup-not-at-end") {
		t.Errorf("%v", got)
	}
	writes, err := table.MendAll(layout.Mending{})
	if err != nil {
		t.Fatal(err)
	}
	apply(t, path, 512, writes)
	if out := sgdisk(t, "--verify", path); !strings.Contains(out, "No problems found") ||
		strings.Contains(out, "not at the end") {
		t.Error(out)
	}
	if err := os.Truncate(path, 5<<20); err != nil { // and one that was cut: nothing of a partition is lost
		t.Fatal(err)
	}
	table = readTable(t, path, 512)
	if got := ids(table.Check()); !slices.Contains(got, "disk-cut-off") {
		t.Errorf("%v", got)
	}
	if writes, err = table.MendAll(layout.Mending{}); err != nil {
		t.Fatal(err)
	}
	apply(t, path, 512, writes)
	if out := sgdisk(t, "--verify", path); !strings.Contains(out, "No problems found") {
		t.Error(out)
	}
	if err := os.Truncate(path, 2<<20); err != nil { // and one whose partitions are cut: refused
		t.Fatal(err)
	}
	if _, err := readTable(t, path, 512).MendAll(layout.Mending{}); !errors.Is(err, layout.ErrNoSource) {
		t.Errorf("%v", err)
	}
}

func TestBoundsComeBackFromTheFileSystem(t *testing.T) {
	path := blank(t, 40<<20)
	sgdisk(t, "--clear", "--new=1:2048:+10M", path) // it was 20 MiB once
	oracle(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-E", "offset=1048576", path, "20m")
	table := readTable(t, path, 512)
	contents := map[int]layout.Content{1: layout.Recognise(block.NewReadRange(open(t, path), 1<<20, 39<<20))}
	if got := ids(
		table.CheckIn(layout.CheckContext{Contents: contents}),
	); !slices.Equal(got, []string{"content-too-large"}) {
		t.Fatalf("%v", got)
	}
	writes, err := table.MendAll(layout.Mending{Contents: contents})
	if err != nil {
		t.Fatal(err)
	}
	apply(t, path, 512, writes)
	if p := readTable(t, path, 512).Partitions()[0]; p.Length != 20<<20 {
		t.Errorf("%+v", p)
	}
}

func open(t *testing.T, path string) *block.Image {
	t.Helper()
	dev, err := block.OpenImage(path, 512, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = dev.Close() })
	return dev
}

// There and back: sgdisk and sfdisk see the same partitions, and no byte
// outside of the tables has changed.
func TestTheStyleChangesInPlace(t *testing.T) {
	path := dosDisk(t, 1<<30)
	table := readTable(t, path, 512)
	plan, err := table.Restyle(layout.Restyling{
		To:       layout.StyleGPT,
		Firmware: "bios",
		NewGUID:  guids(2),
		Systems:  map[int]bool{1: true},
	})
	if err != nil {
		t.Fatal(err)
	}
	apply(t, path, 512, plan.Writes)
	if out := sgdisk(t, "--verify", path); !strings.Contains(out, "No problems found") {
		t.Error(out)
	}
	after := readTable(t, path, 512)
	for i, p := range after.Partitions()[:4] {
		if was := table.Partitions()[i]; p.Span != was.Span {
			t.Errorf("%+v was %+v", p, was)
		}
	}
	if plan.Made == nil || plan.Made.Type != layout.TypeBIOSBoot || plan.Made.Last >= 2048 {
		t.Errorf("no place for the loader: %+v", plan.Made)
	}
	back, err := after.Restyle(layout.Restyling{
		To:       layout.StyleMBR,
		Firmware: "bios",
		DiskID:   0x12345678,
		Systems:  map[int]bool{1: true},
	})
	if err != nil {
		t.Fatal(err)
	}
	apply(t, path, 512, back.Writes)
	out := oracle(t, "", "sfdisk", "--dump", path)
	for _, want := range []string{
		"label: dos", "label-id: 0x12345678", "2048, size=      204800, type=83, bootable", "size=      204800, type=82",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("sfdisk does not say %q:\n%s", want, out)
		}
	}
}

func TestAStyleThatDoesNotFitIsRefusedWithWhatWouldHelp(t *testing.T) {
	full := blank(t, 64<<20)
	oracle(t, "label: dos\n2048,,83\n", "sfdisk", "--quiet", full) // to the very end
	five := blank(t, 64<<20)
	sgdisk(t, "--clear", "--new=1:0:+1M", "--new=2:0:+1M", "--new=3:0:+1M", "--new=4:0:+1M", "--new=5:0:+1M", five)
	huge := blank(t, 4<<40)
	sgdisk(t, "--clear", "--new=1:0:0", huge)
	for _, c := range []struct {
		path string
		to   layout.Restyling
		says string
	}{
		{full, layout.Restyling{To: layout.StyleGPT, NewGUID: guids(3)}, "smaller by 33 sectors"},
		{five, layout.Restyling{To: layout.StyleMBR}, "4 partitions"},
		{huge, layout.Restyling{To: layout.StyleMBR}, "keep the GPT"},
		{five, layout.Restyling{To: layout.StyleGPT}, "gpt already"},
	} {
		if _, err := readTable(t, c.path, 512).Restyle(c.to); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%v: want %q", err, c.says)
		}
	}
}

// The table is gone and one superblock too. Inside a file of one file system
// lies an image of another, which must not be taken for a partition.
func TestLostPartitionsAreFound(t *testing.T) {
	path := blank(t, 400<<20)
	folder := t.TempDir()
	inner := filepath.Join(folder, "inner.img")
	oracle(t, "", "mke2fs", "-q", "-F", "-t", "ext4", inner, "12m")
	oracle(
		t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-L", "system", "-d", folder, "-E", fmt.Sprint("offset=", 65<<20), path,
		"150m",
	)
	oracle(t, "", "mke2fs", "-q", "-F", "-t", "ext2", "-b", "1024", "-E", fmt.Sprint("offset=", 215<<20), path, "100m")
	dev, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	if err := fat.Format(offset{dev, 1 << 20}, 64<<20, fat.Options{Label: "ESP", Serial: 7}); err != nil {
		t.Fatal(err)
	}
	if _, err := dev.WriteAt(make([]byte, 4096), 215<<20); err != nil { // the first superblock of the last one
		t.Fatal(err)
	}
	var last int64
	candidates, unreadable, err := layout.Scan(t.Context(), dev, func(n int64) { last = n })
	if err != nil || unreadable != 0 || last != 400<<20 {
		t.Fatalf("%v, %d unreadable, progress to %d", err, unreadable, last)
	}
	var got []string
	for _, e := range layout.Propose(candidates, 512) {
		got = append(got, fmt.Sprintf("%d %d+%d %s %s", e.Index, e.First, e.Sectors(), layout.TypeName(e.Type), e.Name))
	}
	want := []string{"1 2048+131072 EFI system ESP", "2 133120+307200 Linux data system", "3 440320+204800 Linux data "}
	if !slices.Equal(got, want) {
		t.Errorf("got %q\nof %+v", got, candidates)
	}
}

type offset struct {
	dev *block.Image
	by  int64
}

func (o offset) WriteAt(p []byte, off int64) (int, error) { return o.dev.WriteAt(p, off+o.by) }

// A disk was made anew: backups of the old file system are still there.
func TestWhatWasThereBeforeIsNotProposed(t *testing.T) {
	path := blank(t, 120<<20)
	oracle(t, "", "mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-E", fmt.Sprint("offset=", 1<<20), path, "100m")
	dev, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	if err := fat.Format(offset{dev, 1 << 20}, 64<<20, fat.Options{Label: "ESP", Serial: 7}); err != nil {
		t.Fatal(err)
	}
	candidates, _, err := layout.Scan(t.Context(), dev, nil)
	if err != nil {
		t.Fatal(err)
	}
	if list := layout.Propose(candidates, 512); len(candidates) < 2 || len(list) != 1 || list[0].Type != layout.TypeESP ||
		list[0].Sectors() != 131072 {
		t.Errorf("%+v\nof %+v", list, candidates)
	}
}

func TestAPlanIsCarvedOnWholeMiB(t *testing.T) {
	path := blank(t, 1<<30)
	sgdisk(t, "--clear", "--new=1:2048:+100M", "--new=2:0:+200M", "--change-name=2:data", path)
	table := readTable(t, path, 512)
	entries, err := table.Allocate([]layout.PartitionRequest{
		{Name: "ESP", Type: layout.TypeESP, Min: 90 << 20},
		{Keep: 2},
		{Name: "system", Type: layout.TypeLinux, Min: 300 << 20, Share: 3},
		{Name: "swap", Type: layout.TypeSwap, Min: 50 << 20, Max: 100 << 20, Share: 1},
	}, guids(4))
	if err != nil {
		t.Fatal(err)
	}
	writes, err := table.Rebuild(entries, guids(5))
	if err != nil {
		t.Fatal(err)
	}
	apply(t, path, 512, writes)
	if out := sgdisk(t, "--verify", path); !strings.Contains(out, "No problems found") {
		t.Error(out)
	}
	var got []string
	for _, p := range readTable(t, path, 512).Partitions() {
		got = append(got, fmt.Sprintf("%s %d+%d", p.Name, p.Off>>20, p.Length>>20))
		if p.Off%(1<<20) != 0 {
			t.Errorf("%s is not aligned: %d", p.Name, p.Off)
		}
	}
	if want := []string{"ESP 1+90", "data 101+200", "system 301+622", "swap 923+100"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	if _, err := table.Allocate([]layout.PartitionRequest{{
		Name: "all",
		Type: layout.TypeLinux,
		Min:  2 << 30,
	}}, guids(6)); !errors.Is(err, layout.ErrPlan) {
		t.Errorf("too much: %v", err)
	}
	if _, err := table.Allocate([]layout.PartitionRequest{{Keep: 7}}, guids(6)); !errors.Is(err, layout.ErrPlan) {
		t.Errorf("to keep what is not there: %v", err)
	}
}

// What other tools made is known by its own superblock.
func TestContentsOfOtherToolsAreRecognised(t *testing.T) {
	squash := filepath.Join(t.TempDir(), "s")
	if err := os.WriteFile(squash, append([]byte("hsqs"), make([]byte, 4096)...), 0o600); err != nil {
		t.Fatal(err)
	}
	for kind, mk := range map[string][]string{
		"ext3":  {"mke2fs", "-q", "-F", "-t", "ext3"},
		"fat16": {"mkfs.vfat", "-F", "16"},
		"fat12": {"mkfs.vfat", "-F", "12"},
		"fat32": {"mkfs.vfat", "-F", "32", "-s", "1"},
		"swap":  {"mkswap", "-q"},
	} {
		path := blank(t, 64<<20)
		if kind == "fat12" {
			path = blank(t, 4<<20)
		}
		oracle(t, "", mk[0], append(mk[1:], path)...)
		if c := layout.Recognise(open(t, path)); c.Kind != kind || c.Size == 0 && kind != "swap" {
			t.Errorf("%s: %+v", kind, c)
		}
	}
}
