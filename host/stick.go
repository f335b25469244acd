package host

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"diorthos/core/bag"
	"diorthos/core/layout"
	"diorthos/core/system"
)

// A WholeDisk is a disk of the computer that this program runs on.
type WholeDisk struct {
	bag.Disk
	Systems []string // that lie on it, in words
	InUse   string   // where this computer has a volume of it; empty for nowhere
	Problem string   // why it cannot be read; empty where it can
}

// WholeDisks lists the disks of the computer that this program runs on, such as one that was started from a stick.
func WholeDisks(adapters []system.Adapter) (list []WholeDisk) {
	for _, d := range devices() {
		if d.Kind != "disk" {
			continue
		}
		w := WholeDisk{Disk: bag.Disk{Source: "/dev/" + d.Name, Size: d.Size}}
		if image, err := OpenDisk(w.Source, 0, true); err != nil {
			w.Problem = err.Error()
		} else if disk, _, err := system.Describe(image, "disk0", w.Source, adapters, system.Needs{}); err != nil {
			w.Problem = errors.Join(err, image.Close()).Error()
		} else {
			w.Disk, w.Source = *disk, "/dev/"+d.Name
			_ = image.Close() // it was only read
		}
		for _, p := range w.Places() {
			if p.System != nil {
				w.Systems = append(w.Systems, strings.TrimSpace(p.System.Name+" "+p.System.Version))
			}
		}
		if used, err := InUse(w.Source); err != nil {
			w.InUse = "it cannot be told whether it is in use: " + err.Error()
		} else if len(used) > 0 {
			w.InUse = used[0].Where
		}
		list = append(list, w)
	}
	return list
}

// DiskIdentity tells a disk from every other one, whatever is written on it: by the number of the drive where it has
// one; an image by where it lies. Where a drive has none it is told by its table.
func DiskIdentity(path string) string {
	at := Locate(path)
	tells := "image " + resolved(absolute(at.Disk))
	if info, err := os.Stat(at.Disk); err == nil && info.Mode()&os.ModeDevice != 0 {
		tells = driveNumber("/sys/class/block/" + filepath.Base(resolved(at.Disk)))
		if table, err := layoutOf(at.Disk); err == nil && tells == "" {
			tells = strings.Join(table.Target(at.Disk).Marks, " ")
		}
	}
	sum := sha256.Sum256([]byte(tells + "\n" + Hardware()))
	return hex.EncodeToString(sum[:6])
}

// driveNumber is what a drive says that no other one says; empty where it says nothing.
func driveNumber(dir string) string {
	for _, name := range []string{"wwid", "device/wwid", "serial", "device/serial"} {
		if number := readLine(filepath.Join(dir, name)); number != "" {
			return number
		}
	}
	return ""
}

func layoutOf(path string) (*layout.Table, error) {
	image, err := OpenDisk(path, 0, true)
	if err != nil {
		return nil, err
	}
	defer func() { _ = image.Close() }() // it was only read
	return layout.Read(image)
}

// Model is what this computer's firmware calls it; empty where it does not say.
func Model() string {
	return strings.TrimSpace(readLine("/sys/class/dmi/id/sys_vendor") + " " + readLine("/sys/class/dmi/id/product_name"))
}

// InMemory reports whether what is written to a folder is gone when this computer ends: on a file system in memory, or
// on one that only lays what is written over another, as sticks are started.
func InMemory(folder string) bool {
	if at := existing(folder); inMemory(at) {
		return true
	}
	raw, err := os.ReadFile("/proc/self/mountinfo")
	return err == nil && overlaidInMemory(raw, existing(folder))
}

func inMemory(path string) bool {
	var s unix.Statfs_t
	return unix.Statfs(path, &s) == nil && slices.Contains([]int64{unix.TMPFS_MAGIC, unix.RAMFS_MAGIC}, int64(s.Type))
}

// existing is the folder, or the nearest above it that is there.
func existing(folder string) string {
	folder = absolute(folder)
	for folder != "/" {
		if _, err := os.Stat(folder); err == nil {
			break
		}
		folder = filepath.Dir(folder)
	}
	return resolved(folder)
}

// overlaidInMemory reads from the table of mounts whether a path lies on an overlay whose upper layer is in memory, or
// cannot be seen any more.
func overlaidInMemory(table []byte, path string) bool {
	best, upper := -1, ""
	lines := bufio.NewScanner(bytes.NewReader(table))
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		dash := slices.Index(fields, "-")
		if dash < 5 || len(fields) < dash+4 {
			continue
		}
		at := unescape(fields[4])
		if !(at == "/" || path == at || strings.HasPrefix(path, at+"/")) || len(at) < best {
			continue
		}
		best, upper = len(at), ""
		if fields[dash+1] != "overlay" {
			continue
		}
		for _, option := range strings.Split(fields[dash+3], ",") {
			if dir, ok := strings.CutPrefix(option, "upperdir="); ok {
				upper = unescape(dir)
			}
		}
	}
	if upper == "" {
		return false
	}
	_, err := os.Stat(upper)
	return err != nil || inMemory(upper)
}
