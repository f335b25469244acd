package inside

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// A loopDisk is a file that the kernel treats as a disk.
type loopDisk struct {
	node   *os.File
	number int
	// volume is the number of the one that it stands for; 0 for the whole disk.
	volume int
	parts  map[int]uint64 // device numbers of its partitions
}

// attempts to get a free loop device: another process may take it first.
const loopAttempts = 20

// attach makes a disk of a file. It goes away when nothing uses it any more, also after a kill.
func attach(file *os.File, sectorSize int) (*loopDisk, error) {
	return attachAs(file, unix.LoopConfig{
		Size: uint32(sectorSize), Info: unix.LoopInfo64{Flags: unix.LO_FLAGS_AUTOCLEAR | unix.LO_FLAGS_PARTSCAN},
	})
}

// attachRange makes a disk of a stretch of a file.
func attachRange(file *os.File, sectorSize int, off, length int64) (*loopDisk, error) {
	return attachAs(file, unix.LoopConfig{
		Size: uint32(sectorSize),
		Info: unix.LoopInfo64{Flags: unix.LO_FLAGS_AUTOCLEAR, Offset: uint64(off), Sizelimit: uint64(length)},
	})
}

func attachAs(file *os.File, config unix.LoopConfig) (*loopDisk, error) {
	control, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	if err != nil {
		return nil, fmt.Errorf("the kernel's loop devices are not to be had: %w", err)
	}
	defer control.Close()
	for range loopAttempts {
		number, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
		if err != nil {
			return nil, fmt.Errorf("ask for a free loop device: %w", err)
		}
		path := fmt.Sprintf("/dev/loop%d", number)
		if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) { // no device manager makes the nodes here
			if err := unix.Mknod(path, unix.S_IFBLK|0o600, int(unix.Mkdev(loopMajor, uint32(number)))); err != nil {
				return nil, fmt.Errorf("make %s: %w", path, err)
			}
		}
		node, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return nil, err
		}
		config.Fd = uint32(file.Fd())
		err = unix.IoctlLoopConfigure(int(node.Fd()), &config)
		if errors.Is(err, unix.EBUSY) {
			_ = node.Close()
			continue
		}
		if err != nil {
			_ = node.Close()
			return nil, fmt.Errorf("make a disk of the draft: %w", err)
		}
		l := &loopDisk{node: node, number: number, parts: map[int]uint64{}}
		return l, l.findPartitions()
	}
	return nil, errors.New("make a disk of the draft: every loop device is in use")
}

const loopMajor = 7

// findPartitions reads which partitions the kernel found, and their device numbers.
func (l *loopDisk) findPartitions() error {
	found, err := filepath.Glob(fmt.Sprintf("/sys/block/loop%d/loop%dp*/dev", l.number, l.number))
	if err != nil {
		return err
	}
	for _, name := range found {
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		_, part, _ := strings.Cut(filepath.Base(filepath.Dir(name)), "p")
		_, part, _ = strings.Cut(part, "p")
		number, err := strconv.Atoi(part)
		if err != nil {
			return err
		}
		var major, minor uint32
		if _, err := fmt.Sscanf(string(text), "%d:%d", &major, &minor); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		l.parts[number] = unix.Mkdev(major, minor)
	}
	return nil
}

// detach lets the disk go, when all of it has reached the file.
func (l *loopDisk) detach() error {
	err := l.node.Sync()
	err = errors.Join(err, l.node.Close())
	// The kernel lets it go when its last user has: wait, so that nothing comes later.
	backing := fmt.Sprintf("/sys/block/loop%d/loop/backing_file", l.number)
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if _, gone := os.Stat(backing); gone != nil {
			return err
		}
	}
	return errors.Join(err, fmt.Errorf("/dev/loop%d is still in use", l.number))
}
