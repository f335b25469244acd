package climb_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/core/layout"
)

// image makes an 8 MiB GPT disk with two partitions by sgdisk and overwrites
// its first sectors.
func image(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk.img")
	if err := os.WriteFile(path, make([]byte, 8<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(
		"sgdisk", "--new=1:2048:+2M", "--new=2:0:+1M", "--typecode=2:8200", path,
	).CombinedOutput(); err != nil {
		t.Fatalf("sgdisk: %v: %s", err, out)
	}
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	if _, err := f.Write(bytes.Repeat([]byte("overwritten "), 1400)); err != nil {
		t.Fatal(err)
	}
	return path
}

func rung(t *testing.T, path string) ladder.Rung {
	t.Helper()
	dev, err := block.OpenImage(path, 512, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	table, err := layout.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	target := table.Target(path)
	return ladder.Rung{
		Number: 1,
		Remedy: "write-primary-gpt-from-backup",
		Action: "layout.mend-primary-gpt",
		By:     knowledge.ByDiorthos,
		Target: &target,
	}
}

// deadly is a device that kills its own process before write n.
type deadly struct {
	*block.Image
	left int
}

func (d *deadly) die() {
	if d.left == 0 {
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {} // until it arrives
	}
	d.left--
}

func (d *deadly) WriteAt(p []byte, off int64) (int, error) {
	d.die()
	return d.Image.WriteAt(p, off)
}

func (d *deadly) Sync() error {
	d.die()
	return d.Image.Sync()
}

// climbAndDie is what the killed process does.
func climbAndDie(path, journal string, n int) error {
	image, err := block.OpenImage(path, 512, false)
	if err != nil {
		return err
	}
	table, err := layout.Read(image)
	if err != nil {
		return err
	}
	target := table.Target(path)
	r := ladder.Rung{
		Number: 1,
		Remedy: "write-primary-gpt-from-backup",
		Action: "layout.mend-primary-gpt",
		Target: &target,
	}
	_, err = climb.Take(context.Background(), r, &deadly{image, n}, options(path, journal))
	return err
}

func options(path, journal string) climb.Options {
	return climb.Options{Machine: "kestrel-office-3", Path: path, Now: time.Now,
		Journal: func(h block.Head, _ int64) (*block.Journal, string, error) {
			j, err := block.CreateJournal(journal, h)
			return j, journal, err
		}}
}

func TestMain(m *testing.M) {
	if n, err := strconv.Atoi(os.Getenv("DIE_AT_WRITE")); err == nil {
		if err := climbAndDie(os.Getenv("IMAGE"), os.Getenv("JOURNAL"), n); err != nil {
			println(err.Error())
			os.Exit(3)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// killed climbs in a process of its own that is killed before write n. ended
// says that there was no write n.
func killed(t *testing.T, path, journal string, n int) (ended bool) {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "DIE_AT_WRITE="+strconv.Itoa(n), "IMAGE="+path, "JOURNAL="+journal)
	out, err := cmd.CombinedOutput()
	if err == nil {
		return true
	}
	if status, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); !ok || status.Signal() != syscall.SIGKILL {
		t.Fatalf("the climbing process ended with %v: %s", err, out)
	}
	return false
}

func read(t *testing.T, path string) []byte {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

func open(t *testing.T, path string) *block.Image {
	t.Helper()
	dev, err := block.OpenImage(path, 512, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = dev.Close() })
	return dev
}

func openJournal(t *testing.T, path string) *block.Journal {
	t.Helper()
	j, err := block.OpenJournal(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = j.Close() })
	return j
}

func TestAClimbKilledAtEveryWriteIsResumedAndUndoneExactly(t *testing.T) {
	path := image(t)
	before := read(t, path)
	r := rung(t, path)
	work := t.TempDir()

	// What the disk is to be in the end, from a climb that nobody disturbs.
	whole := filepath.Join(work, "whole")
	if !killed(t, path, whole, 1<<20) {
		t.Fatal("killed before its time")
	}
	after := read(t, path)
	if out, err := exec.Command("sgdisk", "--verify", path).CombinedOutput(); err != nil ||
		!bytes.Contains(out, []byte("No problems found")) {
		t.Fatalf("sgdisk --verify: %v: %s", err, out)
	}

	for n := 0; ; n++ {
		for _, way := range []string{"resume", "undo"} {
			if err := os.WriteFile(path, before, 0o600); err != nil {
				t.Fatal(err)
			}
			journal := filepath.Join(work, way+strconv.Itoa(n))
			if killed(t, path, journal, n) {
				t.Logf("%d places to be killed at", n)
				return
			}
			j := openJournal(t, journal)
			if way == "resume" {
				run, err := climb.Resume(context.Background(), r, open(t, path), j, journal, climb.Options{Now: time.Now})
				if err != nil || run.Outcome != climb.Proven || !bytes.Equal(read(t, path), after) {
					t.Fatalf("killed at %d, resumed: %v %+v; as after: %t", n, err, run, bytes.Equal(read(t, path), after))
				}
			} else if err := j.Undo(context.Background(), open(t, path)); err != nil || !bytes.Equal(read(t, path), before) {
				t.Fatalf("killed at %d, undone: %v; as before: %t", n, err, bytes.Equal(read(t, path), before))
			}
		}
	}
}

func TestGuardsRefuseBeforeAnythingIsWritten(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func([]byte, *ladder.Rung)
		want  string
	}{
		"another disk": {func(_ []byte, r *ladder.Rung) {
			r.Target.Marks[0] = "disk 00000000-0000-0000-0000-000000000000"
		}, "it is the disk that was diagnosed"},
		"another size": {func(_ []byte, r *ladder.Rung) { r.Target.Size++ }, "it is the disk that was diagnosed"},
		"backup damaged too": {func(disk []byte, _ *ladder.Rung) {
			disk[len(disk)-512+60] ^= 1
		}, "it is the disk that was diagnosed"},
	} {
		t.Run(name, func(t *testing.T) {
			path := image(t)
			r := rung(t, path)
			disk := read(t, path)
			c.spoil(disk, &r)
			if err := os.WriteFile(path, disk, 0o600); err != nil {
				t.Fatal(err)
			}
			run, err := climb.Take(context.Background(), r, open(t, path), options(path, filepath.Join(t.TempDir(), "j")))
			if !errors.Is(err, climb.ErrGuard) || run.Outcome != climb.Refused ||
				!bytes.Contains([]byte(err.Error()), []byte(c.want)) {
				t.Errorf("got %v, %+v", err, run)
			}
			if !bytes.Equal(read(t, path), disk) {
				t.Error("the disk was changed")
			}
		})
	}
}
