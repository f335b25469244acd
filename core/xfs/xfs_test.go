package xfs

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/readfs/readfstest"
)

// life is what a volume in use has: folders of every size, files in one piece, in many and with holes, links of every
// length, rights, owners, and names that are gone again.
const life = `mkdir -p etc var/log many few 'a name with ünïcode'; echo text >etc/fstab; : >empty
for i in $(seq 3000); do echo $i >many/file-with-a-rather-long-name-$i; done
for i in $(seq 3); do echo $i >few/$i; done; for i in $(seq 40); do : >var/log/entry-$i; done
rm many/*7 var/log/*3
head -c 3000000 /dev/urandom >whole; head -c 70000 /dev/urandom | dd of=holes bs=4k seek=300 conv=notrunc status=none
truncate -s 5M holes; fallocate -l 2M promised; head -c 3300000 /dev/urandom >pieces
for i in $(seq 0 2 800); do fallocate -p -o $((i * 4096)) -l 4096 pieces; done
ln -s etc/fstab short; ln -s /etc link; ln -s $(printf 'etc/../%.0s' $(seq 100))empty long; ln whole second
chown 1000:33 few; chmod 1777 few; chmod 4755 whole; mknod null c 1 3; mkfifo pipe; touch -d 1969-07-20 old; touch -d 2100-01-01 later`

func TestReadsWhatTheKernelReads(t *testing.T) {
	for _, mkfs := range []string{
		"mkfs.xfs -q",
		"mkfs.xfs -q -b size=1024 -n size=4096 -i size=512",
		"mkfs.xfs -q -i nrext64=1 -m bigtime=0",
	} {
		t.Run(mkfs, func(t *testing.T) {
			script := life
			if strings.Contains(mkfs, "bigtime=0") { // times of 32 bits
				script = strings.Replace(life, "2100", "2030", 1)
			}
			volume, archive := readfstest.Make(t, mkfs, "400M", script)
			f, err := Open(volume)
			if err != nil {
				t.Fatal(err)
			}
			readfstest.Compare(t, f, archive)
			if open, err := f.NeedsRecovery(); err != nil || open {
				t.Errorf("a volume that was unmounted needs recovery: %v, %v", open, err)
			}
			if _, err := fs.Stat(f, "link/fstab"); err != nil {
				t.Errorf("through a linked folder: %v", err)
			}
			few, err := fs.Sub(f, "few")
			if err == nil {
				err = fstest.TestFS(few, "1", "2")
			}
			if err != nil {
				t.Error(err)
			}
		})
	}
}

// A volume whose power went while it was mounted says so; the same one mounted and unmounted again does not.
func TestTellsAnOpenLog(t *testing.T) {
	copied := filepath.Join(t.TempDir(), "cut")
	_, _ = readfstest.Make(
		t,
		"mkfs.xfs -q",
		"300M",
		`for i in $(seq 200); do echo $i >file-$i; done; sync; rm file-1*; xfs_io -x -c 'shutdown -f' .; cp ../volume `+copied,
	)
	cut, err := os.OpenFile(copied, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cut.Close() }()
	f, err := Open(cut)
	if err != nil {
		t.Fatal(err)
	}
	if open, err := f.NeedsRecovery(); err != nil || !open {
		t.Errorf("a log that was not closed: %v, %v", open, err)
	}
	if err := Overwrite(cut, "file-2", 0, []byte("9")); err == nil {
		t.Error("a volume was written to whose log is open")
	}
}

// What is overwritten is what the kernel then reads, and its own check finds nothing wrong.
func TestOverwritesInPlace(t *testing.T) {
	volume, archive := readfstest.Make(
		t,
		"mkfs.xfs -q",
		"300M",
		`head -c 50000 /dev/zero | tr '\0' a >text; cp --reflink=always text twin; echo alone >alone; truncate -s 9000 hole; echo x >>hole`,
	)
	for name, refused := range map[string]bool{"alone": false, "text": true, "hole": true, "none": true} {
		if err := Overwrite(volume, name, 1, []byte("LO")); (err != nil) != refused {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := Overwrite(volume, "alone", 4, []byte("more")); err == nil {
		t.Error("a file was written over its end")
	}
	if out, err := exec.Command("xfs_repair", "-n", volume.Name()).CombinedOutput(); err != nil {
		t.Errorf("xfs_repair: %v: %s", err, out)
	}
	at := filepath.Dir(archive)
	script := "mount -o loop,ro " + volume.Name() + " " + at + "/at && cat " + at + "/at/alone && cmp " + at + "/at/text " + at +
		"/at/twin && umount " + at + "/at"
	out, err := exec.Command("unshare", "--mount", "bash", "-c", script).CombinedOutput()
	if err != nil || string(out) != "aLOne\n" {
		t.Errorf("the kernel reads %q: %v", out, err)
	}
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte("XFSB"), int64(0))
	f.Add([]byte{0, 0, 0, 0, 0xff}, int64(8192))
	whole := smallVolume(f)
	f.Fuzz(func(_ *testing.T, change []byte, at int64) {
		raw := bytes.Clone(whole)
		if at < 0 || at >= int64(len(raw)) {
			return
		}
		copy(raw[at:], change)
		fsys, err := Open(bytes.NewReader(raw))
		if err != nil {
			return
		}
		_, _ = fsys.NeedsRecovery()
		read := 0
		_ = fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
			if read++; err != nil || read > 100 || !d.Type().IsRegular() {
				return fs.SkipAll
			}
			file, err := fsys.Open(name)
			if err != nil {
				return nil //nolint:nilerr // what is damaged may be refused
			}
			_, _ = io.CopyN(io.Discard, file, 1<<16)
			return file.Close()
		})
	})
}

// smallVolume is a volume of version 4, whose blocks have no sums that would keep changes from being read.
func smallVolume(f *testing.F) []byte {
	f.Helper()
	dir := f.TempDir()
	proto := filepath.Join(dir, "files")
	list := "x\n0 0\nd--755 0 0\netc d--755 0 0\n$\nlink l--777 0 0 etc\n$\n"
	if err := os.WriteFile(proto, []byte(list), 0o600); err != nil {
		f.Fatal(err)
	}
	path := filepath.Join(dir, "volume")
	out, err := exec.Command("mkfs.xfs", "-q", "-m", "crc=0", "-p", proto, "-d", "size=300m,file,name="+path).
		CombinedOutput()
	if err != nil {
		f.Fatalf("mkfs.xfs: %v: %s", err, out)
	}
	file, err := os.Open(path)
	if err != nil {
		f.Fatal(err)
	}
	defer func() { _ = file.Close() }()
	raw := make([]byte, 1<<20)
	if _, err := io.ReadFull(file, raw); err != nil {
		f.Fatal(err)
	}
	return raw
}
