package queue

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sys/unix"
)

const folderPrefix = "diorthos-reading-"

// workFolder makes a folder to lay a bag out in. It is locked as long as this
// process lives, so that others can tell it from one that was left behind.
func workFolder() (dir string, done func(), err error) {
	dir, err = os.MkdirTemp("", folderPrefix)
	if err != nil {
		return "", nil, err
	}
	f, err := os.Open(dir)
	if err == nil {
		err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	}
	if err != nil {
		return "", nil, errors.Join(err, os.RemoveAll(dir))
	}
	return dir, func() { _, _ = os.RemoveAll(dir), f.Close() }, nil
}

// sweepFolders removes what processes that were killed left in the folder for
// temporary files.
func (q *Queue) sweepFolders() {
	list, err := filepath.Glob(filepath.Join(os.TempDir(), folderPrefix+"*"))
	if err != nil {
		return
	}
	for _, dir := range list {
		info, err := os.Lstat(dir)
		if err != nil || !info.IsDir() || time.Since(info.ModTime()) < folderAge {
			continue
		}
		f, err := os.Open(dir)
		if err != nil {
			continue
		}
		if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			q.log.Info("removed what a killed process left", "folder", dir, "error", os.RemoveAll(dir))
		}
		_ = f.Close()
	}
}

const (
	// folderAge leaves a new folder the time to be locked.
	folderAge = 30 * time.Second
	// snooze is how long a case waits when something beside its bag is wrong.
	snooze = 10 * time.Second
)

// passing reports whether an error comes from this machine or the database, and
// not from the bag.
func passing(err error) bool {
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.As(err, &connect) || errors.As(err, &network) || pgconn.SafeToRetry(err) ||
		errors.Is(err, context.Canceled) || // the process is being stopped
		errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EMFILE) ||
		errors.Is(err, syscall.ENFILE) || errors.Is(err, syscall.ENOMEM)
}
