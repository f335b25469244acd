package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"diorthos/core/action"
	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/host/inside"
)

// A Rehearsal starts a machine from a draft of its disk, in an emulator, and watches what comes.
// Nothing of it reaches the disk.
type Rehearsal struct {
	Mode     firmware.Mode // empty for what the disk is made for
	Memory   int           // MiB; 0 for 1024
	Limit    time.Duration // 0 for ten minutes
	Accel    string        // of the emulator; empty for the fastest that works
	Adapters []system.Adapter
	Keys     *volumes.Keys // for what is encrypted
	// Variables is a file with the machine's own UEFI variables, of which a copy is used; empty for fresh ones, which
	// name no loader.
	Variables string
	// Say is told each line that the machine prints.
	Say func(string)
}

// A RehearsalEnd is how a rehearsal ended.
type RehearsalEnd string

// How a rehearsal can end.
const (
	EndLogin     RehearsalEnd = "it starts to a login prompt"
	EndLocked    RehearsalEnd = "it asks for the passphrase of its disk, and none was given"
	EndEmergency RehearsalEnd = "it ends in emergency mode"
	EndPanic     RehearsalEnd = "the kernel gives up"
	EndEarly     RehearsalEnd = "it stops in the early-boot image"
	EndLoader    RehearsalEnd = "it stops at the loader's prompt"
	EndFirmware  RehearsalEnd = "the firmware finds nothing to start"
	EndSilent    RehearsalEnd = "it comes to no end in the time that it was given"
	EndOff       RehearsalEnd = "it switches itself off before anybody could sign in"
)

// A Rehearsed is what a rehearsal saw.
type Rehearsed struct {
	End    RehearsalEnd  `json:"end"`
	Mode   firmware.Mode `json:"mode"`
	Starts bool          `json:"starts"`
	Saw    string        `json:"saw"`  // the line that told it
	Last   []string      `json:"last"` // the last lines before the end
	Took   time.Duration `json:"took"` // nanoseconds
	Notes  []string      `json:"notes,omitempty"`
}

// ErrNoEmulator means that no emulator is there to start a machine in.
var ErrNoEmulator = errors.New("no emulator is there: apt-get install qemu-system-x86 ovmf")

// endings are told by a line of the serial console, the first that fits.
var endings = []struct {
	says *regexp.Regexp
	end  RehearsalEnd
}{
	{regexp.MustCompile(`(?i)^.{0,80}\blogin: *$`), EndLogin},
	{
		regexp.MustCompile(
			`You are in (emergency|rescue) mode|Give root password for maintenance|emergency\.target|` +
				`Cannot open access to console`,
		),
		EndEmergency,
	},
	{regexp.MustCompile(`Kernel panic - not syncing`), EndPanic},
	{
		regexp.MustCompile(
			`^\(initramfs\)|Gave up waiting for (root|suspend)|ALERT! .* does not exist|dracut:/#|Dropping to a shell|` +
				`No init found|^/bin/sh: 0: can't access tty`,
		),
		EndEarly,
	},
	{regexp.MustCompile(`^grub( rescue)?> *$`), EndLoader},
	{
		regexp.MustCompile(
			`No bootable device|BdsDxe: No bootable option|UEFI Interactive Shell|Shell>|Operating System not found|` +
				`Boot failed: not a bootable`,
		),
		EndFirmware,
	},
}

// longestSilence is how long a machine may print nothing before it is taken to have stopped.
const longestSilence = 2 * time.Minute

// promptTime is how long a line has to stay without an end to be taken for a prompt.
const promptTime = 2 * time.Second

// mostLast bounds the lines that a rehearsal keeps.
const mostLast = 60

// Run starts the machine and waits until it is known how that ends. Where the processor's own help for emulators
// breaks down, the machine is started once more without it.
func (r Rehearsal) Run(ctx context.Context, dev block.Device) (*Rehearsed, error) {
	done, err := r.run(ctx, dev)
	if errors.Is(err, errAcceleration) {
		r.Accel = "tcg"
		time.Sleep(time.Second) // until all of the first is gone
		if done, err = r.run(ctx, dev); err == nil {
			done.Notes = append(
				done.Notes,
				"KVM broke down on this computer: the machine was started without it, which is slower",
			)
		}
	}
	return done, err
}

var errAcceleration = errors.New("KVM broke down")

func (r Rehearsal) run(ctx context.Context, dev block.Device) (*Rehearsed, error) {
	emulator, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		return nil, ErrNoEmulator
	}
	if r.Limit == 0 {
		r.Limit = 10 * time.Minute
	}
	ctx, cancel := context.WithTimeout(ctx, r.Limit)
	defer cancel()
	done := &Rehearsed{Mode: r.Mode}
	copied := block.NewDraft(dev)
	if done.Mode == "" {
		done.Mode = modeOfDisk(copied)
	}
	if err := r.speakOnSerial(ctx, copied, done); err != nil {
		done.Notes = append(done.Notes, "its loader could not be told to use the serial console: "+err.Error())
	}
	args, clean, err := r.arguments(done.Mode)
	if err != nil {
		return nil, err
	}
	defer clean()
	began := time.Now()
	watch := &watcher{say: r.Say, ended: cancel}
	watch.idle = time.AfterFunc(longestSilence, watch.silent)
	defer watch.idle.Stop()
	watch.prompt = time.AfterFunc(time.Hour, watch.asked)
	defer watch.prompt.Stop()
	typed, typing, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer func() { _, _ = typed.Close(), typing.Close() }() // nobody reads any more
	watch.unlock = func(prompt string) bool {
		secret := r.Keys.Typed("what the machine asks for when it starts: " + prompt)
		if len(secret) == 0 {
			return false
		}
		_, err := typing.Write(append(slices.Clone(secret), '\n')) // the pipe holds more than that
		return err == nil
	}
	err = inside.Start(ctx, copied, typed, watch, func(disk string) []string {
		return append([]string{emulator, "-drive", "file=" + disk + ",if=virtio,format=raw,cache=unsafe"}, args...)
	})
	done.Took = time.Since(began)
	done.End, done.Saw, done.Last = watch.result()
	done.Starts = done.End == EndLogin
	if watch.broken {
		return nil, errAcceleration
	}
	if done.End == "" && err != nil && ctx.Err() == nil {
		return nil, fmt.Errorf("the emulator ended: %w: %s", err, strings.Join(done.Last, "; "))
	}
	if watch.unlocked > 0 {
		done.Notes = append(done.Notes, "the passphrase that it asked for was typed, on the copy")
	}
	switch {
	case done.End != "":
	case ctx.Err() != nil:
		done.End = EndSilent
	default:
		done.End = EndOff
	}
	return done, nil
}

// Check is the rehearsal as a guard of a rung.
func (r Rehearsal) Check(ctx context.Context, draft block.Device) action.Check {
	c := action.Check{What: "the machine starts, tried on a copy of what would stand there"}
	seen, err := r.Run(ctx, draft)
	if err != nil {
		c.Saw = err.Error()
		return c
	}
	c.OK, c.Saw = seen.Starts, fmt.Sprintf("%s, after %s: %q", seen.End, seen.Took.Round(time.Second), seen.Saw)
	if seen.Saw == "" && len(seen.Last) > 0 {
		c.Saw = fmt.Sprintf(
			"%s (%s); the last words: %q",
			seen.End,
			seen.Took.Round(time.Second),
			seen.Last[len(seen.Last)-1],
		)
	}
	c.Screen = screenOf(seen.Last)
	return c
}

// Of a screen so many lines are kept, each so long.
const (
	screenLines = 40
	screenWidth = 200
)

// screenOf is what a screen showed last.
func screenOf(lines []string) (screen []string) {
	for _, l := range lines[max(0, len(lines)-screenLines):] {
		l = strings.ToValidUTF8(controls.ReplaceAllString(l, ""), "\ufffd")
		if runes := []rune(l); len(runes) > screenWidth {
			l = string(runes[:screenWidth]) + "…"
		}
		screen = append(screen, l)
	}
	return screen
}

// firmwareFiles are where distributions keep the firmware of emulated machines.
var firmwareFiles = [][2]string{
	{"/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"},
	{"/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"},
}

// arguments are those of the emulator besides the disk.
func (r Rehearsal) arguments(mode firmware.Mode) (args []string, clean func(), err error) {
	accel := r.Accel
	if accel == "" {
		accel = os.Getenv("DIORTHOS_ACCEL")
	}
	if accel == "" {
		accel = "kvm:tcg"
	}
	memory := r.Memory
	if memory == 0 {
		memory = 1024
	}
	args = []string{
		"-machine", "q35,accel=" + accel, "-m", fmt.Sprint(memory), "-display", "none", "-no-reboot", "-nic", "none",
		"-serial", "stdio", "-monitor", "none",
	}
	if mode != firmware.UEFI {
		return args, func() {}, nil
	}
	for _, f := range firmwareFiles {
		if _, err := os.Stat(f[0]); err != nil {
			continue
		}
		raw, err := os.ReadFile(f[1])
		if err != nil {
			return nil, nil, err
		}
		if r.Variables != "" {
			own, err := os.ReadFile(r.Variables)
			if err != nil {
				return nil, nil, err
			}
			if len(own) != len(raw) {
				continue // those of another firmware
			}
			raw = own
		}
		dir, err := os.MkdirTemp("", "diorthos-rehearsal-")
		if err != nil {
			return nil, nil, err
		}
		variables := filepath.Join(dir, "variables")
		if err := os.WriteFile(variables, raw, 0o600); err != nil {
			return nil, nil, err
		}
		return append(args, "-drive", "if=pflash,format=raw,readonly=on,file="+f[0],
			"-drive", "if=pflash,format=raw,file="+variables), func() { _ = os.RemoveAll(dir) }, nil
	}
	if r.Variables != "" {
		return nil, nil, fmt.Errorf(
			"%w: no firmware for UEFI is there that keeps variables as %s does",
			ErrNoEmulator,
			r.Variables,
		)
	}
	return nil, nil, fmt.Errorf("%w: firmware for UEFI is not there", ErrNoEmulator)
}

// modeOfDisk is by which firmware a disk is made to be started.
func modeOfDisk(dev block.Source) firmware.Mode {
	table, err := layout.Read(dev)
	if err != nil {
		return firmware.BIOS
	}
	for _, p := range table.Partitions() {
		if p.TypeCode == layout.TypeESP.String() || p.TypeCode == "0xef" {
			return firmware.UEFI
		}
	}
	return firmware.BIOS
}

// speakOnSerial tells loader and kernel, on the copy alone, to use the serial console, which is
// what is watched.
func (r Rehearsal) speakOnSerial(ctx context.Context, copied *block.Draft, done *Rehearsed) error {
	d, systems, err := system.Describe(copied, "disk0", "disk", r.Adapters, system.Needs{Keys: r.Keys})
	if err != nil {
		return err
	}
	for _, s := range systems {
		var mounts []system.Mount
		for _, p := range d.Places() {
			if at := strings.TrimPrefix(p.Mount, "/"); at == "boot" || at == "boot/efi" || at == "efi" {
				mounts = append(mounts, system.Mount{Volume: p.Number, Path: at})
			}
		}
		in, err := inside.Enter(ctx, copied, r.Keys, s.Ground.Root(), mounts)
		if err != nil {
			return err
		}
		n, err := serialMenus(in.Files())
		put, putErr := "", error(nil)
		if done.Mode == firmware.UEFI && r.Variables == "" {
			put, putErr = fillFallback(in.Files())
		}
		if err = errors.Join(err, putErr, in.Leave()); err != nil {
			return err
		}
		if put != "" {
			done.Notes = append(
				done.Notes,
				"nothing lies where firmware without a boot entry looks: the emulator has none, so on the "+
					"copy "+put+" was put there; the machine itself starts by its firmware's entry alone",
			)
		}
		if n > 0 {
			done.Notes = append(
				done.Notes,
				"on the copy that was started, loader and kernel were told to use the serial console",
			)
		}
	}
	return nil
}

var (
	kernelLine  = regexp.MustCompile(`(?m)^(\s*(?:linux|linuxefi|linux16)\s+\S+)([ \t].*)?$`)
	optionsLine = regexp.MustCompile(`(?m)^options([ \t].*)?$`)
)

// fillFallback puts the loader that a boot entry of the firmware would start where firmware without one looks
// (UEFI 2.10, section 3.5.1.1), if nothing is there, and says which.
func fillFallback(files *os.Root) (put string, err error) {
	for _, esp := range []string{"boot/efi", "efi", "boot"} {
		if list, _ := fs.Glob(files.FS(), esp+"/[Ee][Ff][Ii]/[Bb][Oo][Oo][Tt]/[Bb][Oo][Oo][Tt]*.[Ee][Ff][Ii]"); len(
			list,
		) > 0 {
			return "", nil
		}
		for _, name := range []string{"shimx64.efi", "grubx64.efi", "systemd-bootx64.efi"} {
			list, _ := fs.Glob(files.FS(), esp+"/EFI/*/"+name) // the patterns are right
			if len(list) == 0 {
				continue
			}
			to := esp + "/EFI/BOOT/"
			if err := files.MkdirAll(to, 0o755); err != nil {
				return "", err
			}
			beside, _ := fs.Glob(files.FS(), path.Dir(list[0])+"/*")
			for _, from := range beside { // what it starts in its turn lies beside it
				raw, err := files.ReadFile(from)
				if err != nil {
					continue // a folder
				}
				as := path.Base(from)
				if from == list[0] {
					as = "BOOTX64.EFI"
				}
				if err := files.WriteFile(to+as, raw, 0o644); err != nil {
					return "", err
				}
			}
			return strings.TrimPrefix(list[0], esp+"/"), nil
		}
	}
	return "", nil
}

// serialMenus puts the serial console into the menus of loaders.
func serialMenus(files *os.Root) (changed int, err error) {
	var names []string
	for _, pattern := range []string{
		"boot/grub/grub.cfg", "boot/efi/EFI/*/grub.cfg", "boot/efi/grub/grub.cfg", "boot/loader/entries/*.conf",
		"boot/efi/loader/entries/*.conf", "efi/loader/entries/*.conf",
	} {
		found, _ := fs.Glob(files.FS(), pattern) // the patterns are right
		names = append(names, found...)
	}
	for _, name := range names {
		raw, err := files.ReadFile(name)
		if err != nil || len(raw) == 0 {
			continue
		}
		line := kernelLine
		if strings.HasSuffix(name, ".conf") { // there "linux" names a file alone
			line = optionsLine
		}
		fresh := line.ReplaceAllFunc(raw, func(line []byte) []byte {
			if bytes.Contains(line, []byte("console=ttyS0")) {
				return line
			}
			return append(bytes.TrimRight(bytes.Clone(line), " \t"), []byte(" console=ttyS0,115200")...)
		})
		if bytes.Equal(fresh, raw) {
			continue
		}
		if path.Base(name) == "grub.cfg" {
			fresh = append([]byte("serial --unit=0 --speed=115200\nterminal_output console serial\n"), fresh...)
		}
		if err := files.WriteFile(name, fresh, 0o644); err != nil {
			return changed, err
		}
		changed++
	}
	return changed, nil
}

// A watcher reads a serial console and ends the run when it is known how it ends.
type watcher struct {
	say   func(string)
	ended func()
	idle  *time.Timer
	// prompt runs out when a line has been without an end for a while.
	prompt *time.Timer

	mu   sync.Mutex
	part []byte
	last []string
	end  RehearsalEnd
	saw  string
	// broken is set when what the emulator leans on broke down: nothing is known of the machine.
	broken bool
	// unlock types the passphrase that the machine asks for; nil where there is none.
	unlock   func(prompt string) bool
	unlocked int
}

// asksToUnlock is what early-boot images print to ask for the passphrase of an encrypted volume.
var asksToUnlock = regexp.MustCompile(`(?i)(please unlock disk|enter passphrase for)[^:]*: *$`)

// mostUnlocks bounds how often a passphrase is typed: one for each of a few volumes.
const mostUnlocks = 4

var controls = regexp.MustCompile("\x1b\\[[0-9;?=]*[A-Za-z]|\x1b[()][A-Z0-9]|[\x00-\x08\x0b-\x1f\x7f]")

// Write takes what the console printed.
func (w *watcher) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.idle.Reset(longestSilence)
	w.part = append(w.part, p...)
	for {
		i := bytes.IndexAny(w.part, "\r\n")
		if i < 0 {
			break
		}
		w.line(string(w.part[:i]))
		w.part = w.part[i+1:]
	}
	w.prompt.Reset(promptTime)
	return len(p), nil
}

// asked looks at a line that has no end: one that stays so is a prompt, and not the beginning of
// another line.
func (w *watcher) asked() {
	w.mu.Lock()
	defer w.mu.Unlock()
	text := clean(string(w.part))
	switch {
	case len(text) == 0 || len(text) >= 200:
	case !asksToUnlock.MatchString(text):
		w.look(text)
	case w.unlocked < mostUnlocks && w.unlock != nil && w.unlock(text):
		w.unlocked++
		w.part = nil
	case w.end == "":
		w.end, w.saw = EndLocked, text
		w.ended()
	}
}

// silent ends the run of a machine that prints nothing any more.
func (w *watcher) silent() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.end == "" {
		w.end = EndSilent
		if len(w.last) > 0 {
			w.saw = w.last[len(w.last)-1]
		}
		w.ended()
	}
}

func clean(text string) string { return strings.TrimRight(controls.ReplaceAllString(text, ""), " \t") }

func (w *watcher) line(text string) {
	if text = clean(text); text == "" {
		return
	}
	if w.last = append(w.last, text); len(w.last) > mostLast {
		w.last = w.last[1:]
	}
	if w.say != nil {
		w.say(text)
	}
	w.look(text)
}

func (w *watcher) look(text string) {
	if w.end != "" {
		return
	}
	if strings.HasPrefix(text, "KVM internal error") || strings.HasPrefix(text, "error: kvm run failed") {
		w.broken = true
		w.ended()
		return
	}
	for _, e := range endings {
		if e.says.MatchString(text) {
			w.end, w.saw = e.end, text
			w.ended()
			return
		}
	}
}

func (w *watcher) result() (RehearsalEnd, string, []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if text := clean(string(w.part)); text != "" {
		w.last = append(w.last, text)
	}
	return w.end, w.saw, w.last
}
