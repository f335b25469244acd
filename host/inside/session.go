package inside

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/volumes"
)

// ErrNotHere means that this computer or this user cannot enter a system.
var ErrNotHere = errors.New("a system cannot be entered here")

// A session is a system that was entered. All that depends on the name space of its mounts is
// done by one thread, which belongs to it.
type session struct {
	work     chan func()
	ended    chan struct{}
	dev      block.Device
	base     string // where everything is mounted, in the name space
	root     string
	shown    *shown
	loop     *loopDisk
	extra    []*loopDisk // partitions that the kernel did not find, and what lies inside partitions
	inner    []*shown    // volumes that lie inside partitions, each as a disk of its own
	mounted  []string
	fats     []*fatFolder
	files    *os.Root
	before   listing
	policy   bool   // a policy that starts no service was put there
	avoid    string // a folder that may not be hidden
	volumes  *volumes.Set
	drafting sync.RWMutex // what is shown of the draft takes turns
}

var _ system.Inside = (*session)(nil)

// Enter enters the system whose root is a volume of a disk. What it mounts besides is mounted with it,
// as far as it lies on this disk.
func Enter(
	ctx context.Context, dev block.Device, keys *volumes.Keys, root system.Mount, mounts []system.Mount,
) (entered system.Inside, err error) {
	if os.Geteuid() != 0 {
		return nil, fmt.Errorf("%w: it takes root, to mount the draft", ErrNotHere)
	}
	s := newSession(dev)
	err = s.do(func() error { return s.enter(ctx, keys, root, mounts) })
	if err != nil {
		return nil, errors.Join(err, s.Leave())
	}
	return s, nil
}

// newSession starts the thread of a session with a disk.
func newSession(dev block.Device) *session {
	s := &session{work: make(chan func()), ended: make(chan struct{}), dev: dev}
	go s.thread()
	return s
}

// thread does the work of the session, in a name space of mounts that is its own. The thread
// ends with it. It is not the first of the process, whose name space the kernel shows as that of
// the process to whoever asks what is mounted.
func (s *session) thread() {
	runtime.LockOSThread() // and never unlocked: the thread is not fit for anything else
	if unix.Gettid() == unix.Getpid() {
		other := make(chan struct{})
		go func() {
			runtime.LockOSThread()
			close(other)
			s.thread()
		}()
		<-other // it has a thread, while this one was held
		runtime.UnlockOSThread()
		return
	}
	defer close(s.ended)
	for f := range s.work {
		f()
	}
}

// do has the thread do something, and waits for it.
func (s *session) do(f func() error) error {
	done := make(chan error, 1)
	s.work <- func() { done <- f() }
	return <-done
}

// baseFolders are empty folders that a system has, to mount something of one's own at.
var baseFolders = []string{"/mnt", "/media", "/srv"}

// apart makes a name space of mounts for the thread.
func (s *session) apart() error {
	if err := unix.Unshare(unix.CLONE_NEWNS); err != nil {
		return fmt.Errorf("%w: a name space of mounts: %w", ErrNotHere, err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("%w: keep mounts to itself: %w", ErrNotHere, err)
	}
	return nil
}

// stage makes an empty folder in the name space.
func (s *session) stage() error {
	for _, folder := range baseFolders {
		hides := s.avoid != "" && strings.HasPrefix(s.avoid+"/", folder+"/")
		if info, err := os.Stat(folder); err == nil && info.IsDir() && !hides {
			s.base = folder
			break
		}
	}
	if s.base == "" {
		return fmt.Errorf("%w: none of %s is a folder", ErrNotHere, strings.Join(baseFolders, ", "))
	}
	if err := s.mount("diorthos", s.base, "tmpfs", 0, "mode=0700"); err != nil {
		return err
	}
	s.root = filepath.Join(s.base, "root")
	for _, folder := range []string{"draft", "root"} {
		if err := os.Mkdir(filepath.Join(s.base, folder), 0o755); err != nil {
			return err
		}
	}
	return nil
}

func (s *session) enter(ctx context.Context, keys *volumes.Keys, root system.Mount, mounts []system.Mount) error {
	if err := s.apart(); err != nil {
		return err
	}
	if err := s.stage(); err != nil {
		return err
	}
	if err := s.showDisk(); err != nil {
		return err
	}
	table, err := layout.Read(s.dev)
	if err != nil {
		return err
	}
	s.volumes = volumes.Open(s.dev, table, keys)
	mounts = append([]system.Mount{root}, mounts...)
	slices.SortStableFunc(mounts[1:], func(a, b system.Mount) int { return len(a.Path) - len(b.Path) })
	for _, m := range mounts {
		if err := ctx.Err(); err != nil {
			return err
		}
		v := s.volumes.Numbered(m.Volume)
		if v == nil || v.Device() == nil {
			return fmt.Errorf("mount partition %d at /%s: it is not there, or cannot be written", m.Volume, m.Path)
		}
		if err := s.mountVolume(v, m); err != nil {
			return fmt.Errorf("mount %s at /%s: %w", v.Name, m.Path, err)
		}
	}
	if err := s.furnish(); err != nil {
		return err
	}
	if s.files, err = os.OpenRoot(s.root); err != nil {
		return err
	}
	if s.before, err = s.scan(); err != nil {
		return err
	}
	return s.startNothing()
}

// showDisk makes a disk of the draft.
func (s *session) showDisk() (err error) {
	folder := filepath.Join(s.base, "draft")
	if s.shown, err = show(s.dev, folder, &s.drafting); err != nil {
		return err
	}
	file, err := os.OpenFile(filepath.Join(folder, diskName), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer file.Close()
	s.loop, err = attach(file, s.dev.SectorSize())
	return err
}

func (s *session) mount(source, at, kind string, flags uintptr, data string) error {
	if err := unix.Mount(source, at, kind, flags, data); err != nil {
		return fmt.Errorf("mount %s at %s: %w", kind, at, err)
	}
	s.mounted = append(s.mounted, at)
	return nil
}

// mountedAs is the kernel's file system for a kind of content.
var mountedAs = map[string]string{"ext2": "ext4", "ext3": "ext4", "ext4": "ext4", "xfs": "xfs", "btrfs": "btrfs"}

// mountPoint makes the folder that a volume is mounted at, where it is missing, as the service manager
// does at each start. What leads out of the system is refused.
func (s *session) mountPoint(path string) error {
	root, err := os.OpenRoot(s.root)
	if err != nil {
		return err
	}
	defer root.Close()
	if path = strings.Trim(path, "/"); path == "" {
		return nil
	}
	if err := root.MkdirAll(path, 0o755); err != nil {
		return fmt.Errorf("there is no folder /%s, and none can be made: %w", path, err)
	}
	info, err := root.Stat(path)
	if err == nil && !info.IsDir() {
		err = fmt.Errorf("/%s is not a folder", path)
	}
	return err
}

// mountVolume mounts one volume of the draft, or lays out its files where the kernel need
// not read it.
func (s *session) mountVolume(v *volumes.Volume, m system.Mount) error {
	if err := s.mountPoint(m.Path); err != nil {
		return err
	}
	at := filepath.Join(s.root, m.Path)
	kind := v.Content.Kind
	if strings.HasPrefix(kind, "fat") {
		f, err := layOut(
			v.Device(),
			filepath.Join(s.base, fmt.Sprintf("fat-%d", v.Number)),
		)
		if err != nil {
			return err
		}
		s.fats = append(s.fats, f)
		return s.mount(f.folder, at, "", unix.MS_BIND, "")
	}
	known, ok := mountedAs[kind]
	if !ok {
		return fmt.Errorf("%q is not a file system that can be entered", kind)
	}
	node, err := s.node(v)
	if err != nil {
		return err
	}
	options := ""
	if m.Subvolume != "" {
		options = "subvol=/" + m.Subvolume
	}
	return s.mount(node, at, known, unix.MS_NOATIME|unix.MS_NODEV, options)
}

// node is the device of a volume: the one that the kernel found, or one made for it.
func (s *session) node(v *volumes.Volume) (string, error) {
	if v.Partition == nil {
		return s.innerNode(v)
	}
	p := v.Partition
	number, ok := s.loop.parts[p.Number]
	if !ok {
		file, err := os.OpenFile(filepath.Join(s.base, "draft", diskName), os.O_RDWR, 0)
		if err != nil {
			return "", err
		}
		defer file.Close()
		l, err := attachRange(file, s.dev.SectorSize(), p.Off, p.Length)
		if err != nil {
			return "", err
		}
		l.volume = p.Number
		s.extra = append(s.extra, l)
		return fmt.Sprintf("/dev/loop%d", l.number), nil
	}
	path := filepath.Join(s.base, fmt.Sprintf("part-%d", p.Number))
	if err := unix.Mknod(path, unix.S_IFBLK|0o600, int(number)); err != nil {
		return "", err
	}
	return path, nil
}

// innerNode makes a disk of a volume that lies inside a partition. What is written to it is
// written to the draft where the volume lies.
func (s *session) innerNode(v *volumes.Volume) (string, error) {
	folder := filepath.Join(s.base, fmt.Sprintf("volume-%d", v.Number))
	if err := os.Mkdir(folder, 0o700); err != nil {
		return "", err
	}
	shown, err := show(v.Device(), folder, &s.drafting)
	if err != nil {
		return "", err
	}
	s.inner = append(s.inner, shown)
	file, err := os.OpenFile(filepath.Join(folder, diskName), os.O_RDWR, 0)
	if err != nil {
		return "", err
	}
	defer file.Close()
	l, err := attachRange(file, v.Dev.SectorSize(), 0, v.Size)
	if err != nil {
		return "", err
	}
	l.volume = v.Number
	s.extra = append(s.extra, l)
	return fmt.Sprintf("/dev/loop%d", l.number), nil
}

// Files are those of the system.
func (s *session) Files() *os.Root { return s.files }

// Leave takes the file systems away, the last one first.
func (s *session) Leave() error {
	defer func() {
		close(s.work)
		<-s.ended
	}()
	return s.do(s.leave)
}

func (s *session) leave() (err error) {
	if s.files != nil {
		err = errors.Join(s.stopNothing(), s.files.Close())
	}
	for _, f := range s.fats {
		err = errors.Join(err, f.writeBack())
	}
	unix.Sync()
	upTo := slices.Index(s.mounted, s.root) // what is mounted before it holds the draft
	for len(s.mounted) > max(upTo, 1) {
		last := s.mounted[len(s.mounted)-1]
		if e := unmount(last); e != nil {
			err = errors.Join(err, fmt.Errorf("take %s away: %w", strings.TrimPrefix(last, s.root), e))
		}
		s.mounted = s.mounted[:len(s.mounted)-1]
	}
	for _, l := range append(s.extra, s.loop) {
		if l != nil {
			err = errors.Join(err, l.detach())
		}
	}
	for _, shown := range s.inner {
		if e := unmount(shown.folder); e != nil {
			return errors.Join(err, e)
		}
		shown.server.Wait()
	}
	if s.shown != nil {
		if e := unmount(filepath.Join(s.base, "draft")); e != nil {
			return errors.Join(err, e)
		}
		s.shown.server.Wait()
	}
	for _, at := range slices.Backward(s.mounted) {
		err = errors.Join(err, unmount(at))
	}
	return err
}

// unmount takes a file system away. One that is still being used by a program that is ending is
// waited for; then it is taken out of sight, which is an error.
func unmount(at string) (err error) {
	for range 50 {
		if err = unix.Unmount(at, unix.UMOUNT_NOFOLLOW); !errors.Is(err, unix.EBUSY) {
			return err
		}
		time.Sleep(20 * time.Millisecond)
	}
	return errors.Join(err, unix.Unmount(at, unix.MNT_DETACH))
}
