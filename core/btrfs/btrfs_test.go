package btrfs

import (
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"testing/fstest"

	"diorthos/core/layout"
	"diorthos/core/readfs/readfstest"
)

// life is what a volume in use has: folders of every size, files that lie in their items, in one piece, in many, packed
// and with holes, subvolumes and a snapshot of one.
const life = `btrfs -q subvolume create @rootfs; mkdir snapshots; cd @rootfs
mkdir -p etc var/log many few 'a name with ünïcode'; echo text >etc/fstab; : >empty
for i in $(seq 3000); do echo $i >many/file-with-a-rather-long-name-$i; done
for i in $(seq 3); do echo $i >few/$i; done; rm many/*7
head -c 3000000 /dev/urandom >whole; seq 400000 >numbers; head -c 900 /dev/zero >zeros; seq 300 >short-numbers
head -c 70000 /dev/urandom | dd of=holes bs=4k seek=300 conv=notrunc status=none
truncate -s 5M holes; fallocate -l 2M promised; seq 600000 >pieces
for i in $(seq 0 2 800); do fallocate -p -o $((i * 4096)) -l 4096 pieces; done; sync
dd if=/dev/urandom of=numbers bs=1000 seek=7 count=90 conv=notrunc status=none; cp --reflink=always numbers twin
ln -s etc/fstab short; ln -s /etc link; ln -s $(printf 'etc/../%.0s' $(seq 100))empty long; ln whole second
chown 1000:33 few; chmod 1777 few; chmod 4755 whole; mknod null c 1 3; mkfifo pipe; touch -d 1969-07-20 old
cd ..; btrfs -q subvolume snapshot @rootfs snapshots/before; echo later >>@rootfs/etc/fstab
btrfs -q subvolume create @home; echo mine >@home/file`

func TestReadsWhatTheKernelReads(t *testing.T) {
	for _, c := range []struct{ mkfs, options string }{
		{"mkfs.btrfs -q", "noatime"},
		{"mkfs.btrfs -q -m dup -n 4096", "compress-force=zlib"},
		{"mkfs.btrfs -q -m single -n 65536", "compress=zstd"},
		{"mkfs.btrfs -q --mixed --csum sha256", "compress-force=zstd:9"},
	} {
		t.Run(c.mkfs+" "+c.options, func(t *testing.T) {
			volume, archive := readfstest.Make(t, c.mkfs, "500M", life, c.options)
			f, err := Open(volume)
			if err != nil {
				t.Fatal(err)
			}
			readfstest.Compare(t, f, archive)
			if got, want := f.Subvolumes(), []string{"@home", "@rootfs", "snapshots/before"}; !slices.Equal(got, want) {
				t.Errorf("subvolumes %q", got)
			}
			if !f.Whole() || f.Default() != "." || f.NeedsRecovery() || f.Devices() != 1 {
				t.Errorf("default %q, recovery %v, %d devices", f.Default(), f.NeedsRecovery(), f.Devices())
			}
			root, err := fs.Sub(f, "@rootfs")
			if err == nil {
				_, err = fs.Stat(root, "link/fstab")
			}
			if err == nil {
				root, err = fs.Sub(f, "@rootfs/few")
			}
			if err == nil {
				err = fstest.TestFS(root, "1", "2")
			}
			if err != nil {
				t.Error(err)
			}
		})
	}
}

// The subvolume that is mounted by default can be set; a copy of a node that is damaged is passed over for the other.
func TestFindsTheDefaultAndTheOtherCopy(t *testing.T) {
	volume, _ := readfstest.Make(t, "mkfs.btrfs -q -m dup", "500M",
		"btrfs -q subvolume create @rootfs; echo text >@rootfs/file; btrfs subvolume set-default @rootfs", "subvolid=5")
	f, err := Open(volume)
	if err != nil {
		t.Fatal(err)
	}
	if f.Default() != "@rootfs" {
		t.Errorf("the default is %q", f.Default())
	}
	c := f.volume.chunks[slices.IndexFunc(f.volume.chunks, func(c chunk) bool { return f.trees.at-c.at < c.length })]
	if len(c.places) != 2 {
		t.Fatalf("%d copies", len(c.places))
	}
	for i, place := range c.places {
		if _, err := volume.WriteAt(make([]byte, 4096), int64(place+f.trees.at-c.at)); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(volume); (err == nil) != (i == 0) {
			t.Errorf("%d copies damaged: %v", i+1, err)
		}
	}
}

// Of a volume over two devices, what lies on the other is said to lie there.
func TestTellsAnotherDevice(t *testing.T) {
	dir := t.TempDir()
	first, second := filepath.Join(dir, "1"), filepath.Join(dir, "2")
	for _, name := range []string{first, second} {
		if err := os.WriteFile(name, nil, 0o600); err != nil || os.Truncate(name, 300<<20) != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("mkfs.btrfs", "-q", "-d", "raid0", "-m", "raid1", first, second).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	dev, err := os.Open(second)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	f, err := Open(dev)
	if err != nil || f.Devices() != 2 {
		t.Fatalf("%v, %+v", err, f)
	}
	if f.Whole() {
		t.Error("half of a volume is called whole")
	}
	// A partition that holds one of them is not too small for both.
	if c := layout.Recognise(dev); c.Kind != "btrfs" || c.Size != 300<<20 || c.Free <= 0 || c.Free >= c.Size {
		t.Errorf("%+v", c)
	}
	if list, err := fs.ReadDir(f, "."); err != nil || len(list) != 0 {
		t.Errorf("%v, %v", list, err)
	}
}

func FuzzOpen(f *testing.F) {
	dir := f.TempDir()
	path := filepath.Join(dir, "volume")
	if err := os.MkdirAll(filepath.Join(dir, "files/etc"), 0o755); err != nil {
		f.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "files/etc/fstab"), bytes.Repeat([]byte("text\n"), 2000), 0o600); err != nil {
		f.Fatal(err)
	}
	script := "truncate -s 120M " + path + " && mkfs.btrfs -q --csum xxhash -m single --rootdir " + dir + "/files " + path
	if out, err := exec.Command("sh", "-c", script).CombinedOutput(); err != nil {
		f.Fatalf("%v: %s", err, out)
	}
	whole, err := os.ReadFile(path) // sums of this kind are not held: changes are read
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte{0xff, 0xff}, int64(superAt+superArray+10))
	f.Add([]byte{9}, int64(superAt+superRootLevel))
	f.Fuzz(func(_ *testing.T, change []byte, at int64) {
		if at < 0 || at >= int64(len(whole)) {
			return
		}
		fsys, err := Open(changed{whole, change, at})
		if err != nil {
			return
		}
		fsys.Default()
		read := 0
		_ = fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
			if read++; err != nil || read > 100 {
				return fs.SkipAll
			}
			if info, err := d.Info(); err == nil && d.Type().IsRegular() && info.Size() < 1<<20 {
				_, _ = fs.ReadFile(fsys, name)
			}
			return nil
		})
	})
}

// changed is a volume with some bytes that are other ones.
type changed struct {
	whole  []byte
	change []byte
	at     int64
}

func (c changed) ReadAt(p []byte, off int64) (int, error) {
	n, err := bytes.NewReader(c.whole).ReadAt(p, off)
	for i := range p[:n] {
		if k := off + int64(i) - c.at; k >= 0 && k < int64(len(c.change)) {
			p[i] = c.change[k]
		}
	}
	return n, err
}
