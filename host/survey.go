package host

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"diorthos/core/bag"
	"diorthos/core/firmware"
	"diorthos/core/system"
)

// Live fills the facts that only the running machine can tell: hardware,
// firmware mode, clock, network, volumes, attached devices, restarts owed and
// the installed system. What cannot be measured stays empty.
func Live(facts *bag.Facts, adapters []system.Adapter) error {
	facts.Hardware = hardware()
	facts.Firmware = firmwareFacts()
	facts.Clock = clock()
	facts.Network = network()
	facts.Devices = devices()
	facts.Surveyed = true
	volumes, err := mounted()
	if err != nil {
		return fmt.Errorf("survey: %w", err)
	}
	facts.Volumes = volumes
	noteMounts(facts.Devices, volumes)
	var name unix.Utsname
	kernel := ""
	if unix.Uname(&name) == nil {
		kernel = unix.ByteSliceToString(name.Release[:])
	}
	installed(facts, os.DirFS("/"), adapters, kernel)
	facts.Owed = append(facts.Owed, replacedLibraries()...)
	if facts.Machine.Name == "" {
		facts.Machine.Name, _ = os.Hostname()
	}
	if facts.Machine.Model == "" {
		facts.Machine.Model = Model()
	}
	return nil
}

// Root fills the facts that a folder holding a whole system can tell.
func Root(facts *bag.Facts, root string, opened fs.FS, adapters []system.Adapter) error {
	installed(facts, opened, adapters, "")
	if facts.Installed == nil {
		return fmt.Errorf("survey: no system that is known lies in %s: want its root folder", root)
	}
	facts.Hardware = &bag.Hardware{Architecture: facts.Installed.Architecture}
	for _, at := range []string{"/", "/boot", "/usr", "/var"} {
		v, err := volume(filepath.Join(root, at), at)
		if err == nil && (at == "/" || len(facts.Volumes) > 0 && !sameVolume(root, at)) {
			facts.Volumes = append(facts.Volumes, *v)
		}
	}
	return nil
}

func sameVolume(root, at string) bool {
	var a, b unix.Stat_t
	return unix.Stat(root, &a) == nil && unix.Stat(filepath.Join(root, at), &b) == nil && a.Dev == b.Dev
}

// installed looks for a system that an adapter knows.
func installed(facts *bag.Facts, fsys fs.FS, adapters []system.Adapter, kernel string) {
	for _, p := range adapters {
		in := p.Inventory(fsys)
		if in == nil {
			continue
		}
		in.Kernel = kernel
		facts.Installed = in
		facts.Owed = append(facts.Owed, p.RestartReasons(fsys, kernel)...)
		if facts.Hardware != nil {
			facts.Hardware.Architecture = in.Architecture
		}
		if sys, ok := p.Find(fsys); ok && facts.Machine.Name == "" {
			facts.Machine.Name = sys.Host
		}
		return
	}
}

func readLine(path string) string {
	text, err := os.ReadFile(path)
	if err != nil {
		return ""
	}
	line, _, _ := strings.Cut(string(text), "\n")
	return strings.TrimSpace(line)
}

func hardware() *bag.Hardware {
	h := &bag.Hardware{Architecture: runtime.GOARCH, Processors: runtime.NumCPU()}
	eachField("/proc/cpuinfo", func(name, value string) bool {
		switch name {
		case "model name":
			h.Processor = value
		case "flags", "Features":
			h.Flags = strings.Fields(value)
			return false
		}
		return true
	})
	eachField("/proc/meminfo", func(name, value string) bool {
		if name == "MemTotal" {
			n, _ := strconv.ParseInt(strings.TrimSuffix(value, " kB"), 10, 64)
			h.Memory = n << 10
		}
		return h.Memory == 0
	})
	modes, _ := filepath.Glob("/sys/class/drm/*/modes")
	for _, name := range modes {
		var w, high int
		if n, _ := fmt.Sscanf(readLine(name), "%dx%d", &w, &high); n == 2 && w*high > h.Width*h.Height {
			h.Width, h.Height = w, high
		}
	}
	return h
}

// eachField reads "name : value" lines until give says that it has enough.
func eachField(path string, give func(name, value string) bool) {
	f, err := os.Open(path)
	if err != nil {
		return
	}
	defer func() { _ = f.Close() }()
	for in := bufio.NewScanner(f); in.Scan(); {
		if name, value, ok := strings.Cut(in.Text(), ":"); ok && !give(strings.TrimSpace(name), strings.TrimSpace(value)) {
			return
		}
	}
}

// secureBootVariable is named in the UEFI specification, section 3.3; after
// four bytes of attributes it holds 0 or 1.
const secureBootVariable = "/sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c"

func firmwareFacts() *bag.Firmware {
	if _, err := os.Stat("/sys/firmware/efi"); err != nil {
		if _, err := os.Stat("/sys/class/dmi"); err != nil {
			return nil // neither: a container, or no PC at all
		}
		return &bag.Firmware{Mode: firmware.BIOS}
	}
	f := &bag.Firmware{Mode: firmware.UEFI}
	if v, err := os.ReadFile(secureBootVariable); err == nil && len(v) == 5 {
		f.SecureBoot = map[byte]string{0: "off", 1: "on"}[v[4]]
	}
	return f
}

func clock() *bag.Clock {
	c := &bag.Clock{}
	var state unix.Timex
	if code, err := unix.Adjtimex(&state); err == nil {
		c.Synchronised = code != unix.TIME_ERROR && state.Status&unix.STA_UNSYNC == 0
	}
	if hardware, err := strconv.ParseInt(readLine("/sys/class/rtc/rtc0/since_epoch"), 10, 64); err == nil {
		c.HardwareOff = hardware - time.Now().Unix()
	}
	up, _, _ := strings.Cut(readLine("/proc/uptime"), ".")
	c.Uptime, _ = strconv.ParseInt(up, 10, 64)
	return c
}

func network() *bag.Network {
	n := &bag.Network{Links: []bag.Link{}, Metered: "unknown"}
	names, _ := filepath.Glob("/sys/class/net/*")
	for _, dir := range names {
		if name := filepath.Base(dir); name != "lo" {
			n.Links = append(n.Links, bag.Link{Name: name, State: readLine(dir + "/operstate")})
		}
	}
	if f, err := os.ReadFile("/proc/net/route"); err == nil {
		for _, line := range strings.Split(string(f), "\n")[1:] {
			if p := strings.Fields(line); len(p) > 7 && p[1] == "00000000" && p[7] == "00000000" {
				n.Route = true
			}
		}
	}
	if f, err := os.ReadFile("/proc/net/ipv6_route"); err == nil {
		for _, line := range strings.Split(string(f), "\n") {
			if p := strings.Fields(line); len(p) == 10 && strings.Trim(p[0], "0") == "" && p[1] == "00" && p[9] != "lo" {
				n.Route = true
			}
		}
	}
	connections, _ := filepath.Glob("/etc/NetworkManager/system-connections/*")
	for _, name := range connections { // metered=1 is yes, 2 is no: nm-settings(5)
		text, _ := os.ReadFile(name)
		switch {
		case strings.Contains(string(text), "\nmetered=1"):
			n.Metered = "yes"
		case strings.Contains(string(text), "\nmetered=2") && n.Metered == "unknown":
			n.Metered = "no"
		}
	}
	return n
}

// unreal are kinds of file systems that hold nothing of the machine's own.
var unreal = map[string]bool{
	"proc": true, "sysfs": true, "devtmpfs": true, "devpts": true, "cgroup": true, "cgroup2": true, "securityfs": true,
	"pstore": true, "bpf": true, "debugfs": true,
	"tracefs": true, "mqueue": true, "hugetlbfs": true, "configfs": true,
	"fusectl": true, "autofs": true, "binfmt_misc": true, "efivarfs": true, "rpc_pipefs": true, "nsfs": true,
	"squashfs": true, "ramfs": true,
}

func mounted() ([]bag.Volume, error) {
	text, err := os.ReadFile("/proc/self/mounts")
	if err != nil {
		return nil, err
	}
	list := []bag.Volume{}
	for _, line := range strings.Split(string(text), "\n") {
		p := strings.Fields(line)
		if len(p) < 4 || unreal[p[2]] {
			continue
		}
		at := unescape(p[1])
		v, err := volume(at, at)
		if err != nil || v.Size == 0 {
			continue
		}
		v.Device, v.Kind = unescape(p[0]), p[2]
		v.ReadOnly = strings.HasPrefix(p[3]+",", "ro,")
		list = append(list, *v)
	}
	return list, nil
}

// unescape undoes the octal escapes of proc_mounts(5).
func unescape(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(s)
}

// FreeSpace is what the user may still write to the file system that holds path,
// in bytes.
func FreeSpace(path string) (int64, error) {
	v, err := volume(path, "")
	if err != nil {
		return 0, fmt.Errorf("free space at %s: %w", path, err)
	}
	return v.Free, nil
}

func volume(path, mount string) (*bag.Volume, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(path, &s); err != nil {
		return nil, err
	}
	unit := s.Bsize
	return &bag.Volume{
		Mount:       mount,
		Size:        int64(s.Blocks) * unit,
		Free:        int64(s.Bavail) * unit,
		Inodes:      int64(s.Files),
		InodesFree:  int64(s.Ffree),
		InodesKnown: s.Files > 0,
	}, nil
}

// devices lists the disks that can be taken away, and all others too.
func devices() []bag.Device {
	list := []bag.Device{}
	names, _ := filepath.Glob("/sys/block/*")
	for _, dir := range names {
		name := filepath.Base(dir)
		target, _ := os.Readlink(dir)
		if strings.Contains(target, "/virtual/") {
			continue
		}
		d := bag.Device{Name: name, Kind: "disk", Bus: busOf(target), Removable: readLine(dir+"/removable") == "1"}
		if strings.HasPrefix(name, "sr") {
			d.Kind = "optical"
		}
		sectors, _ := strconv.ParseInt(readLine(dir+"/size"), 10, 64)
		d.Size = sectors * 512 // the kernel counts so, whatever the disk's own sectors
		if d.Kind == "optical" && d.Size < 1<<20 {
			continue // an empty drive
		}
		list = append(list, d)
	}
	return list
}

// noteMounts says of each disk what of it is mounted nearest to the root: a disk
// that may not be read is known as the system's all the same.
func noteMounts(devices []bag.Device, volumes []bag.Volume) {
	for _, v := range volumes {
		for _, name := range wholeDisks("/sys/class/block/" + filepath.Base(resolved(v.Device))) {
			i := slices.IndexFunc(devices, func(d bag.Device) bool { return d.Name == name })
			if i >= 0 && (devices[i].Mount == "" || len(v.Mount) < len(devices[i].Mount)) {
				devices[i].Mount = v.Mount
			}
		}
	}
}

// resolved follows names such as /dev/mapper/root.
func resolved(device string) string {
	if to, err := filepath.EvalSymlinks(device); err == nil {
		return to
	}
	return device
}

// wholeDisks follows a block device as the kernel shows it down to the disks on
// which it lies: partitions, logical volumes, encrypted ones, arrays.
func wholeDisks(dir string) (names []string) {
	if below, _ := filepath.Glob(dir + "/slaves/*"); len(below) > 0 {
		for _, b := range below {
			names = append(names, wholeDisks(b)...)
		}
		return names
	}
	at, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil
	}
	if _, err := os.Stat(at + "/partition"); err == nil {
		at = filepath.Dir(at)
	}
	return []string{filepath.Base(at)}
}

func busOf(path string) string {
	for _, bus := range []string{"usb", "nvme", "virtio", "mmc", "ata"} {
		if strings.Contains(path, "/"+bus) {
			return bus
		}
	}
	return "other"
}

// replacedLibraries finds programs that still run with libraries that an
// update has replaced.
func replacedLibraries() []bag.RestartReason {
	maps, _ := filepath.Glob("/proc/[0-9]*/maps")
	users := map[string]bool{}
	for _, name := range maps {
		text, err := os.ReadFile(name)
		if err != nil {
			continue // it ended meanwhile, or is another's
		}
		for _, line := range strings.Split(string(text), "\n") {
			if strings.HasSuffix(line, "(deleted)") && strings.Contains(line, "/lib") && strings.Contains(line, ".so") {
				users[readLine(filepath.Join(filepath.Dir(name), "comm"))] = true
			}
		}
	}
	if len(users) == 0 {
		return nil
	}
	var list []string
	for name := range users {
		list = append(list, name)
	}
	sort.Strings(list)
	text := strings.Join(list[:min(len(list), 5)], ", ")
	if len(list) > 5 {
		text += fmt.Sprintf(" and %d more", len(list)-5)
	}
	return []bag.RestartReason{{By: "/proc", Text: "replaced libraries are still in use by " + text}}
}

var errNothing = errors.New("say what to look at: --image, --root or --live")

// Boot is what the running machine calls its present start; empty when it does
// not say.
func Boot() string { return readLine("/proc/sys/kernel/random/boot_id") }
