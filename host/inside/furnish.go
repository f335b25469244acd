package inside

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// devices are what programs find under /dev besides the disk itself.
var devices = []struct {
	name         string
	major, minor uint32
	mode         uint32
}{
	{"null", 1, 3, 0o666}, {"zero", 1, 5, 0o666}, {"full", 1, 7, 0o666},
	{"random", 1, 8, 0o666}, {"urandom", 1, 9, 0o666}, {"tty", 5, 0, 0o666},
}

var deviceLinks = map[string]string{
	"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2",
	"ptmx": "pts/ptmx",
}

// furnish gives a system what its programs expect around them: devices, the kernel's view,
// folders for what is only of the moment. None of it is of the draft.
func (s *session) furnish() error {
	dev := filepath.Join(s.root, "dev")
	if err := s.mount("dev", dev, "tmpfs", unix.MS_NOSUID, "mode=0755"); err != nil {
		return err
	}
	for _, d := range devices {
		if err := makeNode(filepath.Join(dev, d.name), d.mode, unix.Mkdev(d.major, d.minor)); err != nil {
			return err
		}
	}
	for name, to := range deviceLinks {
		if err := os.Symlink(to, filepath.Join(dev, name)); err != nil {
			return err
		}
	}
	for _, folder := range []string{"pts", "shm", "disk", "disk/by-uuid", "disk/by-partuuid", "mapper"} {
		if err := os.Mkdir(filepath.Join(dev, folder), 0o755); err != nil {
			return err
		}
	}
	if err := s.mount("devpts", filepath.Join(dev, "pts"), "devpts", unix.MS_NOSUID|unix.MS_NOEXEC,
		"newinstance,ptmxmode=0666,mode=0620"); err != nil {
		return err
	}
	if err := s.diskNodes(dev); err != nil {
		return err
	}
	if err := s.mount("sysfs", filepath.Join(s.root, "sys"), "sysfs",
		unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return err
	}
	err := s.mount("run", filepath.Join(s.root, "run"), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755")
	if err != nil {
		return err
	}
	if err := os.Mkdir(filepath.Join(s.root, "run/lock"), 0o1777); err != nil {
		return err
	}
	return s.lendResolver()
}

// diskNodes are the disk and its partitions, with the names by which loaders' tools know a
// volume again.
func (s *session) diskNodes(dev string) error {
	for _, l := range s.extra {
		path := filepath.Join(dev, fmt.Sprintf("loop%d", l.number))
		if err := makeNode(path, 0o660, unix.Mkdev(loopMajor, uint32(l.number))); err != nil {
			return err
		}
		v := s.volumes.Numbered(l.volume)
		if err := s.byUUID(dev, filepath.Base(path), v.Content.UUID); err != nil {
			return err
		}
		if err := named(dev, filepath.Base(path), v.Names); err != nil {
			return err
		}
	}
	if s.loop == nil { // the files of a folder
		return nil
	}
	name := fmt.Sprintf("loop%d", s.loop.number)
	if err := makeNode(filepath.Join(dev, name), 0o660, unix.Mkdev(loopMajor, uint32(s.loop.number))); err != nil {
		return err
	}
	for number, device := range s.loop.parts {
		part := fmt.Sprintf("%sp%d", name, number)
		if err := makeNode(filepath.Join(dev, part), 0o660, device); err != nil {
			return err
		}
		if err := s.byUUID(dev, part, s.volumes.Numbered(number).Content.UUID); err != nil {
			return err
		}
	}
	return nil
}

// named gives a node the names by which a system's configuration calls a volume.
func named(dev, node string, names []string) error {
	for _, name := range names {
		at := filepath.Join(dev, strings.TrimPrefix(name, "/dev/"))
		to, err := filepath.Rel(filepath.Dir(at), filepath.Join(dev, node))
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		if err := os.Symlink(to, at); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}

// byUUID makes the name by which loaders' tools know a volume again.
func (s *session) byUUID(dev, node, uuid string) error {
	if uuid == "" || strings.ContainsRune(uuid, '/') {
		return nil
	}
	err := os.Symlink("../../"+node, filepath.Join(dev, "disk/by-uuid", uuid))
	if errors.Is(err, fs.ErrExist) { // two volumes of one name: the first is the one
		return nil
	}
	return err
}

func makeNode(path string, mode uint32, device uint64) error {
	kind := uint32(unix.S_IFCHR)
	if unix.Major(device) >= loopMajor {
		kind = unix.S_IFBLK
	}
	if err := unix.Mknod(path, kind|mode, int(device)); err != nil {
		return fmt.Errorf("make %s: %w", path, err)
	}
	return os.Chmod(path, fs.FileMode(mode))
}

const resolver = "/etc/resolv.conf"

// lendResolver lets programs that may use the network find names as this computer does, without
// a byte of the system's own file being changed.
func (s *session) lendResolver() error {
	at := filepath.Join(s.root, resolver)
	info, err := os.Lstat(at)
	if err != nil {
		return nil //nolint:nilerr // a system without such a file goes without
	}
	text, err := os.ReadFile(resolver)
	if err != nil {
		return nil //nolint:nilerr // and so does a computer without one
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return s.lendResolverAt(at, text)
	}
	if !info.Mode().IsRegular() {
		return nil
	}
	return s.mount(resolver, at, "", unix.MS_BIND, "")
}

// lendResolverAt makes what a link leads to, where that is only of the moment.
func (s *session) lendResolverAt(link string, text []byte) error {
	to, err := os.Readlink(link)
	if err != nil {
		return err
	}
	if !filepath.IsAbs(to) {
		to = filepath.Join(filepath.Dir(resolver), to)
	}
	if to = filepath.Clean(to); !strings.HasPrefix(to, "/run/") {
		return nil
	}
	to = filepath.Join(s.root, to)
	return errors.Join(os.MkdirAll(filepath.Dir(to), 0o755), os.WriteFile(to, text, 0o644))
}

const policyFile = "usr/sbin/policy-rc.d"

// startNothing keeps packages from starting services inside: the policy that Debian's
// invoke-rc.d asks (Debian Policy 9.3.3.2).
func (s *session) startNothing() error {
	info, err := s.files.Stat("usr/sbin")
	if err != nil || !info.IsDir() {
		return nil //nolint:nilerr // not a system that asks
	}
	f, err := s.files.OpenFile(policyFile, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o755)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	s.policy = true
	_, err = f.WriteString("#!/bin/sh\nexit 101\n")
	return errors.Join(err, f.Close())
}

func (s *session) stopNothing() error {
	if !s.policy {
		return nil
	}
	return s.files.Remove(policyFile)
}
