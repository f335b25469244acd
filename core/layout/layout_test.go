package layout_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"diorthos/core/block"
	"diorthos/core/layout"
)

// sgdisk makes or inspects an image with the tool that is our oracle.
func sgdisk(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command("sgdisk", args...).CombinedOutput()
	if err != nil && !slices.Contains(args, "--verify") && !slices.Contains(args, "--print") {
		t.Fatalf("sgdisk %v: %v: %s", args, err, out)
	}
	return string(out)
}

func blank(t *testing.T, size int64) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk.img")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Truncate(size); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

func readTable(t *testing.T, path string, sector int) *layout.Table {
	t.Helper()
	dev, err := block.OpenImage(path, sector, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	table, err := layout.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	return table
}

func apply(t *testing.T, path string, sector int, writes []block.Write) {
	t.Helper()
	dev, err := block.OpenImage(path, sector, false)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	for _, w := range writes {
		if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
			t.Fatal(err)
		}
	}
}

func ids(list []layout.Problem) []string {
	var names []string
	for _, p := range list {
		names = append(names, string(p.ID))
	}
	return names
}

var row = regexp.MustCompile(`(?m)^ +(\d+) +(\d+) +(\d+) `)

// spans are the partitions as sgdisk lists them.
func spans(t *testing.T, path string) []string {
	t.Helper()
	var list []string
	for _, m := range row.FindAllStringSubmatch(sgdisk(t, "--print", path), -1) {
		list = append(list, strings.Join(m[1:], " "))
	}
	return list
}

func ours(table *layout.Table) []string {
	var list []string
	for _, p := range table.Partitions() {
		list = append(list, fmt.Sprintf("%d %d %d", p.Number, p.Span.First, p.Span.Last))
	}
	return list
}

func TestReadsWhatSgdiskMade(t *testing.T) {
	for _, size := range []int64{5 << 20, 100<<20 + 512*7, 3 << 40} {
		path := blank(t, size)
		sgdisk(
			t, "--clear", "--new=1:2048:+512K", "--typecode=1:ef00", "--change-name=1:Ladestation Öst", "--new=4:0:0",
			"--typecode=4:8304", path,
		)
		table := readTable(t, path, 512)
		if got := table.Check(); len(got) != 0 {
			t.Errorf("%d bytes: %v", size, got)
		}
		if got, want := ours(table), spans(t, path); !slices.Equal(got, want) {
			t.Errorf("%d bytes: partitions %v, sgdisk says %v", size, got, want)
		}
		p := table.Partitions()[0]
		if p.Name != "Ladestation Öst" || p.Type != "EFI system" {
			t.Errorf("partition 1 is %q of type %q", p.Name, p.Type)
		}
	}
}

func TestReadsAnMBRThatSfdiskMade(t *testing.T) {
	path := blank(t, 64<<20)
	cmd := exec.Command("sfdisk", "--quiet", path)
	cmd.Stdin = strings.NewReader("label: dos\n2048,40960,83,*\n43008,,82\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("sfdisk: %v: %s", err, out)
	}
	table := readTable(t, path, 512)
	parts := table.Partitions()
	if table.Style() != layout.StyleMBR || len(parts) != 2 || !parts[0].Active || parts[1].Active ||
		parts[1].Span.First != 43008 || len(table.Check()) != 0 {
		t.Errorf("%s %+v %v", table.Style(), parts, table.Check())
	}
}

func TestSgdiskAcceptsWhatWeMake(t *testing.T) {
	path := blank(t, 32<<20)
	guid := layout.MustParseGUID("0c921feb-119f-4abf-99c7-8854c89ced36")
	plan := layout.Plan{DiskGUID: guid, Partitions: []layout.Entry{
		{
			Type: layout.TypeESP,
			ID:   layout.MustParseGUID("11111111-2222-4333-8444-555555555555"),
			Span: layout.Span{First: 2048, Last: 8191},
			Name: "ESP",
		},
		{
			Type: layout.TypeLinuxRoot,
			ID:   layout.MustParseGUID("11111111-2222-4333-8444-666666666666"),
			Span: layout.Span{First: 8192, Last: 63487},
			Name: "system",
		},
	}}
	writes, err := layout.Create(32<<20, 512, plan)
	if err != nil {
		t.Fatal(err)
	}
	apply(t, path, 512, writes)
	if out := sgdisk(t, "--verify", path); !strings.Contains(out, "No problems found") {
		t.Error(out)
	}
	wantText := sgdisk(t, "--print", path)
	if !strings.Contains(strings.ToLower(wantText), guid.String()) {
		t.Errorf("disk GUID %s not in:\n%s", guid, wantText)
	}
	if got := ours(readTable(t, path, 512)); !slices.Equal(got, spans(t, path)) {
		t.Errorf("partitions %v", got)
	}
}

func TestEachDamageHasItsName(t *testing.T) {
	const last = 16<<20 - 512
	base := blank(t, 16<<20)
	sgdisk(t, "--clear", "--new=1:2048:+4M", "--new=2:0:+4M", base)
	for _, c := range []struct {
		name  string
		spoil func(disk []byte)
		want  []string
	}{
		{"sound", func([]byte) {}, nil},
		{"primary signature", func(d []byte) { d[512] = 'X' }, []string{"gpt-signature-missing"}},
		{"primary header", func(d []byte) { d[512+56]++ }, []string{"gpt-header-crc"}},
		{"primary entries", func(d []byte) { d[1024+130]++ }, []string{"gpt-entries-crc"}},
		{"backup header", func(d []byte) { d[last+40]++ }, []string{"gpt-header-crc"}},
		{"backup entries", func(d []byte) { d[last-32*512+3]++ }, []string{"gpt-entries-crc"}},
		{"header size", func(d []byte) { d[512+12] = 4 }, []string{"gpt-header-size"}},
		{"boot record", func(d []byte) { d[510] = 0 }, []string{"mbr-signature-missing"}},
		{"protective entry", func(d []byte) { d[450] = 0x83 }, []string{"mbr-beside-gpt"}},
		{"protective size", func(d []byte) { d[458]++ }, []string{"protective-entry-size"}},
		{"first sectors", func(d []byte) { clear(d[:34*512]) }, []string{"gpt-signature-missing", "mbr-signature-missing"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			disk, err := os.ReadFile(base)
			if err != nil {
				t.Fatal(err)
			}
			c.spoil(disk)
			path := filepath.Join(t.TempDir(), "disk.img")
			if err := os.WriteFile(path, disk, 0o600); err != nil {
				t.Fatal(err)
			}
			problems := readTable(t, path, 512).Check()
			if got := ids(problems); !slices.Equal(got, c.want) {
				t.Errorf("got %v, want %v", got, c.want)
			}
			for _, p := range problems {
				if p.Text == "" || p.Got == "" || len(p.Affects) == 0 {
					t.Errorf("does not say enough: %+v", p)
				}
			}
		})
	}
}

func TestProblemsOfPartitions(t *testing.T) {
	path := blank(t, 16<<20)
	sgdisk(t, "--clear", "--set-alignment=1", "--new=1:2049:+1M", "--set-alignment=2048", "--new=2:8192:+1M", path)
	if got := ids(readTable(t, path, 512).Check()); !slices.Equal(got, []string{"partition-misaligned"}) {
		t.Errorf("misaligned: %v", got)
	}
	if err := os.Truncate(path, 32<<20); err != nil {
		t.Fatal(err)
	}
	if got := ids(readTable(t, path, 512).Check()); !slices.Contains(got, "backup-not-at-end") {
		t.Errorf("grown disk: %v", got)
	}
}

// Tables that sgdisk would not make: each is written with right CRCs, so that
// only the check of the partitions can notice.
func TestEachFaultOfPartitionsHasItsName(t *testing.T) {
	part := func(id byte, first, last uint64) layout.Entry {
		return layout.Entry{Type: layout.TypeLinux, ID: layout.GUID{id}, Span: layout.Span{First: first, Last: last}}
	}
	for _, c := range []struct {
		name  string
		parts []layout.Entry
		want  []string
	}{
		{"apart", []layout.Entry{part(1, 2048, 4095), part(2, 4096, 6143)}, nil},
		{"overlap by a sector", []layout.Entry{part(1, 2048, 4096), part(2, 4096, 6143)}, []string{"partitions-overlap"}},
		{"one inside another", []layout.Entry{part(1, 2048, 8191), part(2, 4096, 6143)}, []string{"partitions-overlap"}},
		{
			"three of one place", []layout.Entry{part(1, 2048, 4095), part(2, 2048, 4095), part(3, 2048, 4095)},
			[]string{"partitions-overlap", "partitions-overlap", "partitions-overlap"},
		},
		{"the same GUID", []layout.Entry{part(1, 2048, 4095), part(1, 4096, 6143)}, []string{"partition-guid-repeated"}},
		{"misaligned", []layout.Entry{part(1, 2049, 4095)}, []string{"partition-misaligned"}},
		{
			"misaligned and overlapping", []layout.Entry{part(1, 2048, 4095), part(2, 4000, 6143)},
			[]string{"partitions-overlap", "partition-misaligned"},
		},
	} {
		writes, err := layout.Create(8<<20, 512, layout.Plan{DiskGUID: layout.GUID{9}, Partitions: c.parts})
		if err != nil {
			t.Fatal(err)
		}
		d := memory(make([]byte, 8<<20))
		for _, w := range writes {
			copy(d[w.Off:], w.Data)
		}
		table, err := layout.Read(d)
		if err != nil {
			t.Fatal(err)
		}
		if got := ids(table.Check()); !slices.Equal(got, c.want) {
			t.Errorf("%s: got %v, want %v", c.name, got, c.want)
		}
	}
	for name, e := range map[string]layout.Entry{
		"in the table":   part(1, 10, 4095),
		"beyond the end": part(1, 2048, 16384),
		"reversed":       part(1, 4096, 2048),
	} {
		if _, err := layout.Create(8<<20, 512, layout.Plan{Partitions: []layout.Entry{e}}); err == nil {
			t.Errorf("a partition %s was made", name)
		}
	}
}

func TestGUIDsAreReadAndWrittenAlike(t *testing.T) {
	const text = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"
	g, err := layout.ParseGUID(strings.ToUpper(text))
	if err != nil || g != layout.TypeESP || g.String() != text || g[0] != 0x28 { // the first fields are little-endian
		t.Errorf("%v %v % x", err, g, g[:])
	}
	for _, bad := range []string{
		"", "c12a7328", text[:35], text + "0", strings.Replace(text, "-", "0", 1), strings.Replace(text, "c", "x", 1),
	} {
		if _, err := layout.ParseGUID(bad); err == nil {
			t.Errorf("%q was taken for a GUID", bad)
		}
	}
}

// Whatever is broken in the first sectors, a mend from a sound backup gives
// what sgdisk calls clean, with the same partitions, and touches nothing else.
func TestMendPrimaryFromBackup(t *testing.T) {
	for _, sector := range []int{512, 4096} {
		for seed := range uint64(40) {
			mendOnce(t, sector, seed)
		}
	}
}

func mendOnce(t *testing.T, sector int, seed uint64) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, uint64(sector)))
	size := int64(4 << 20)
	path := blank(t, size)
	align := uint64(1<<20) / uint64(sector)
	plan := layout.Plan{DiskGUID: layout.GUID{1, 2, 3}, Partitions: []layout.Entry{
		{Type: layout.TypeESP, ID: layout.GUID{4}, Span: layout.Span{First: align, Last: 2*align - 1}, Name: "a"},
		{
			Type:  layout.TypeLinux,
			ID:    layout.GUID{5},
			Attrs: 1 << 60,
			Span:  layout.Span{First: 2 * align, Last: 3*align - 2*align/3},
			Name:  "b",
		},
	}}
	writes, err := layout.Create(size, sector, plan)
	if err != nil {
		t.Fatal(err)
	}
	apply(t, path, sector, writes)
	clean := readTable(t, path, sector)
	sound, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	broken := bytes.Clone(sound)
	for range 1 + r.IntN(20) {
		broken[r.IntN(2*sector+16384)] ^= byte(1 + r.IntN(255))
	}
	if err := os.WriteFile(path, broken, 0o600); err != nil {
		t.Fatal(err)
	}
	table := readTable(t, path, sector)
	mend, err := table.MendPrimary()
	if table.Primary.Sound() && table.MBR.Protective() {
		return // the bytes that were altered are ones that nobody reads
	}
	if err != nil {
		t.Fatalf("seed %d: %v", seed, err)
	}
	apply(t, path, sector, mend)
	after := readTable(t, path, sector)
	if !after.Primary.Sound() || !after.MBR.Protective() || !slices.Equal(after.Primary.Entries, clean.Primary.Entries) {
		t.Errorf("seed %d: %v", seed, after.Check())
	}
	now, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(now[2*sector+16384:], sound[2*sector+16384:]) {
		t.Errorf("seed %d: something beyond the table was changed", seed)
	}
	if sector == 512 && seed%8 == 0 {
		if out := sgdisk(t, "--verify", path); !strings.Contains(out, "No problems found") {
			t.Errorf("seed %d: %s", seed, out)
		}
	}
}

func TestRecognisesWhatOthersMade(t *testing.T) {
	for _, c := range []struct {
		kind, label string
		size        int64
		make        []string
	}{
		{"fat32", "ESP", 64 << 20, []string{"mkfs.fat", "-F", "32", "-n", "ESP"}},
		{"fat16", "ESP16", 16 << 20, []string{"mkfs.fat", "-F", "16", "-n", "ESP16"}},
		{"fat12", "FLOPPY", 1440 << 10, []string{"mkfs.fat", "-F", "12", "-n", "FLOPPY"}},
		{"ext4", "system", 32 << 20, []string{"mke2fs", "-q", "-t", "ext4", "-L", "system"}},
		{"ext3", "old", 32 << 20, []string{"mke2fs", "-q", "-t", "ext3", "-L", "old"}},
		{"ext2", "older", 32 << 20, []string{"mke2fs", "-q", "-t", "ext2", "-L", "older"}},
		{"swap", "", 4 << 20, []string{"mkswap", "-q"}},
		{"", "", 4 << 20, []string{"true"}},
	} {
		path := blank(t, c.size)
		if out, err := exec.Command(c.make[0], append(c.make[1:], path)...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", c.make, err, out)
		}
		dev, err := block.OpenImage(path, 512, true)
		if err != nil {
			t.Fatal(err)
		}
		got := layout.Recognise(dev)
		_ = dev.Close()
		if got.Kind != c.kind || got.Label != c.label || c.kind != "" && got.UUID == "" || got.Size > c.size {
			t.Errorf("%v: %+v", c.make, got)
		}
	}
}

func FuzzRead(f *testing.F) {
	writes, err := layout.Create(2<<20, 512, layout.Plan{Partitions: []layout.Entry{{
		Type: layout.TypeESP,
		Span: layout.Span{First: 2048, Last: 2100},
	}}})
	if err != nil {
		f.Fatal(err)
	}
	disk := make([]byte, 2<<20)
	for _, w := range writes {
		copy(disk[w.Off:], w.Data)
	}
	f.Add(disk[:34*512], disk[len(disk)-33*512:])
	f.Fuzz(func(t *testing.T, start, end []byte) {
		d := memory(make([]byte, 1<<20))
		copy(d, start)
		copy(d[max(0, len(d)-len(end)):], end)
		table, err := layout.Read(d)
		if err != nil {
			return
		}
		table.Check()
		if writes, err := table.MendPrimary(); err == nil {
			for _, w := range writes {
				if w.Off < 0 || w.Off+int64(len(w.Data)) > int64(len(d)) {
					t.Errorf("a write outside the disk: %d bytes at %d", len(w.Data), w.Off)
				}
				copy(d[w.Off:], w.Data)
			}
			if after, err := layout.Read(d); err != nil || !after.Primary.Sound() {
				t.Errorf("mended and still broken: %v", after.Primary.Problems)
			}
		}
		layout.Recognise(d)
	})
}

type memory []byte

func (m memory) ReadAt(p []byte, off int64) (int, error) { return bytes.NewReader(m).ReadAt(p, off) }
func (m memory) Size() int64                             { return int64(len(m)) }
func (m memory) SectorSize() int                         { return 512 }
