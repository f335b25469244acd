package host

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"diorthos/core/action"
)

// InUse lists the stretches of a disk, or of an image of one, on which this computer has a file
// system mounted or swaps: what is written there is written behind the kernel's back.
func InUse(path string) (list []action.Used, err error) {
	users, err := usedDevices()
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode()&os.ModeDevice == 0 {
		return imageInUse(path, users)
	}
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return nil, err
	}
	return deviceInUse(devName(st.Rdev), 0, users), nil
}

func devName(rdev uint64) string { return fmt.Sprintf("%d:%d", unix.Major(rdev), unix.Minor(rdev)) }

// usedDevices are the block devices in use, by their numbers, each with where.
func usedDevices() (map[string]string, error) {
	users := map[string]string{}
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }() // it was only read
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if words := strings.Fields(lines.Text()); len(words) > 4 && !strings.HasPrefix(words[2], "0:") {
			users[words[2]] = "mounted at " + words[4]
		}
	}
	swaps, err := os.ReadFile("/proc/swaps")
	if err != nil {
		return users, nil //nolint:nilerr // a kernel without swap has none
	}
	for _, line := range strings.Split(string(swaps), "\n") {
		var st unix.Stat_t
		if words := strings.Fields(line); len(words) > 1 && unix.Stat(words[0], &st) == nil &&
			st.Mode&unix.S_IFMT == unix.S_IFBLK {
			users[devName(st.Rdev)] = "swapped to"
		}
	}
	return users, nil
}

const sysSector = 512 // bytes in which the kernel tells places on disks

// deviceInUse looks at a device, its partitions, and what is made of them.
func deviceInUse(number string, at int64, users map[string]string) (list []action.Used) {
	dir, err := filepath.EvalSymlinks("/sys/dev/block/" + number)
	if err != nil {
		return nil
	}
	size := readNumber(dir, "size") * sysSector
	if where, ok := users[number]; ok {
		list = append(list, action.Used{Off: at, Length: size, Where: where})
	}
	holders, _ := filepath.Glob(dir + "/holders/*/dev") // the pattern is right
	for _, h := range holders {
		for _, u := range deviceInUse(readWord(h), at, users) {
			list = append(list, action.Used{Off: at, Length: size, Where: u.Where})
		}
	}
	parts, _ := filepath.Glob(dir + "/*/partition") // the pattern is right
	for _, p := range parts {
		part := filepath.Dir(p)
		list = append(list, deviceInUse(readWord(part+"/dev"), at+readNumber(part, "start")*sysSector, users)...)
	}
	return list
}

// imageInUse looks at the loop devices that stand for a file.
func imageInUse(path string, users map[string]string) (list []action.Used, err error) {
	full, err := filepath.EvalSymlinks(absolute(path))
	if err != nil {
		return nil, err
	}
	backing, _ := filepath.Glob("/sys/block/loop*/loop/backing_file") // the pattern is right
	for _, b := range backing {
		if readWord(b) == full {
			loop := filepath.Dir(b)
			list = append(list, deviceInUse(readWord(filepath.Dir(loop)+"/dev"), readNumber(loop, "offset"), users)...)
		}
	}
	return list, nil
}

func readWord(name string) string {
	raw, _ := os.ReadFile(name) // one that went away is not in use
	return strings.TrimSpace(string(raw))
}

func readNumber(dir, name string) int64 {
	n, _ := strconv.ParseInt(readWord(filepath.Join(dir, name)), 10, 64)
	return n
}
