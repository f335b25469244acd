package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"diorthos/client"
)

// debianJobs are the jobs of docs/jobs that are walked on Debian. Those with a name are machines that do not start,
// each for another reason: they are handed in, as machines of the fleet.
var debianJobs = []struct {
	number int
	name   string
}{
	{9, "lerrick-gate-1"}, {21, "lerrick-gate-2"}, {8, "lerrick-gate-3"}, {20, ""}, {3, ""}, {17, ""}, {16, ""}, {4, ""},
	{1, ""}, {2, ""}, {5, ""}, {10, ""}, {11, ""}, {13, ""}, {15, ""},
}

// debianRoom is what the Debian machines need on disk, in bytes, with what they are made of.
const debianRoom = 12 << 30

// debianMachines makes the Debian machines that are missing, one after the other, and hands in those that do not start.
func (d *demo) debianMachines(ctx context.Context, c *client.Client) error {
	if d.debian == "" {
		return nil
	}
	if os.Geteuid() != 0 {
		d.say("\nMachines of Debian itself are left out: making them takes root (chroot, loop devices).")
		return nil
	}
	began, made := time.Now(), 0
	for _, j := range debianJobs {
		folder := d.path(fmt.Sprintf("jobs/%02d-debian", j.number))
		if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			if made++; made == 1 {
				if err := d.debianRoom(); err != nil {
					return err
				}
				d.say("\nMachines of Debian itself follow: some minutes for the first, seconds for the others.")
			}
			if err := d.debianMachine(ctx, j.number, folder); err != nil {
				return fmt.Errorf("job %d: %w", j.number, err)
			}
		}
		if err := d.submitDebian(ctx, c, j.name, folder); err != nil {
			return fmt.Errorf("job %d: %w", j.number, err)
		}
	}
	if made > 0 {
		d.say(
			"%d machines of Debian wait in %s after %s; three that do not start are in the fleet: diorthos machines --name gate",
			len(debianJobs), d.path("jobs/*-debian"), time.Since(began).Round(time.Second),
		)
	}
	return nil
}

func (d *demo) debianRoom() error {
	var s unix.Statfs_t
	if err := unix.Statfs(d.folder, &s); err != nil {
		return err
	}
	if free := int64(s.Bavail) * s.Bsize; free < debianRoom {
		return fmt.Errorf("%s has %d MiB free and they need %d MiB: left out", d.folder, free>>20, int64(debianRoom)>>20)
	}
	return nil
}

// debianMachine makes one; what was not completed is made anew the next time.
func (d *demo) debianMachine(ctx context.Context, number int, folder string) error {
	making := folder + ".making"
	if err := errors.Join(os.RemoveAll(making), os.MkdirAll(making, 0o755)); err != nil {
		return err
	}
	log, err := os.OpenFile(d.path("debian.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, d.debian, fmt.Sprint(number), filepath.Join(making, "kiosk"))
	c.Stdout, c.Stderr = log, log
	// A group of its own, which is ended as a whole and has time to unmount what it mounted.
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGTERM) }
	c.WaitDelay = 20 * time.Second
	err = c.Run()
	if err := errors.Join(err, log.Close()); err != nil {
		return fmt.Errorf("%w: see %s", err, d.path("debian.log"))
	}
	return os.Rename(making, folder)
}

// submitDebian hands a machine in; once more changes nothing.
func (d *demo) submitDebian(ctx context.Context, c *client.Client, name, folder string) error {
	if name == "" {
		return nil
	}
	bag := filepath.Join(folder, name+".bag.tar.gz")
	if _, err := os.Stat(bag); errors.Is(err, fs.ErrNotExist) {
		o := gatherOptions(filepath.Join(folder, "kiosk"), "Lerrick terminal", "Havnar K1 kiosk")
		o.Machine = name
		if err := gatherTo(ctx, bag, o); err != nil {
			return err
		}
	}
	return d.submit(ctx, c, bag)
}
