package inside

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	"diorthos/core/system"
)

const (
	longestTime = time.Hour
	mostOutput  = 4 << 20 // bytes that are kept: the first half and the last
)

// environment is what a program finds: a plain language, and nobody who could be asked.
var environment = []string{
	"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "LC_ALL=C.UTF-8", "TERM=dumb",
	"DEBIAN_FRONTEND=noninteractive", "SYSTEMD_OFFLINE=1",
}

// start is run by a shell of this computer in new name spaces: the kernel's view of the new
// processes, whose switches cannot be set, then the program.
const start = `
mount -t proc -o nosuid,nodev,noexec proc "$0/proc" &&
mount -o bind "$0/proc/sys" "$0/proc/sys" && mount -o remount,bind,ro "$0/proc/sys" || exit 125
if [ -e "$0/proc/sysrq-trigger" ]; then mount -o bind,ro /dev/null "$0/proc/sysrq-trigger" || exit 125; fi
exec chroot "$0" "$@"`

// Run runs a program inside.
func (s *session) Run(ctx context.Context, c system.Command) (out system.Output, err error) {
	err = s.do(func() error {
		out, err = s.run(ctx, c)
		return err
	})
	return out, err
}

func (s *session) run(ctx context.Context, c system.Command) (out system.Output, err error) {
	limit := c.Limit
	if limit == 0 || limit > longestTime {
		limit = longestTime
	}
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	args := []string{"--mount", "--pid", "--fork", "--kill-child=KILL", "--ipc", "--uts"}
	if !c.Network {
		args = append(args, "--net")
	}
	args = append(args, "--propagation", "private", "/bin/sh", "-c", start, s.root)
	cmd := exec.CommandContext(limited, "unshare", append(args, c.Args...)...)
	cmd.Env = append(append([]string{}, environment...), c.Env...)
	cmd.Stdin = strings.NewReader(c.Input)
	text := &boundedText{}
	cmd.Stdout, cmd.Stderr = text, text
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setsid: true}
	cmd.WaitDelay = 5 * time.Second
	began := time.Now()
	err = cmd.Run()
	out.Took, out.Text = time.Since(began), text.String()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return out, ctx.Err()
	case limited.Err() != nil:
		out.Status = -1
		return out, nil
	case errors.As(err, &exit):
		out.Status = exit.ExitCode()
		if out.Status == 125 {
			return out, fmt.Errorf("run %s: its surroundings could not be made: %s", c.Args[0], lastLine(out.Text))
		}
		return out, nil
	case errors.Is(err, exec.ErrNotFound):
		return out, fmt.Errorf("%w: the program unshare of util-linux is not there", ErrNotHere)
	case err != nil && !errors.Is(err, exec.ErrWaitDelay):
		return out, err
	}
	return out, nil
}

func lastLine(text string) string {
	text = strings.TrimSpace(text)
	return text[strings.LastIndexByte(text, '\n')+1:]
}

// A boundedText keeps the first and the last of what is written to it.
type boundedText struct {
	mu          sync.Mutex
	first, last bytes.Buffer
	cut         int
}

// Write keeps p.
func (b *boundedText) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	n := len(p)
	if room := mostOutput/2 - b.first.Len(); room > 0 {
		k := min(room, len(p))
		b.first.Write(p[:k])
		p = p[k:]
	}
	b.last.Write(p)
	if over := b.last.Len() - mostOutput/2; over > 0 {
		b.last.Next(over)
		b.cut += over
	}
	return n, nil
}

// String is all that was kept.
func (b *boundedText) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.cut > 0 {
		return fmt.Sprintf("%s\n… %d bytes left out …\n%s", b.first.String(), b.cut, b.last.String())
	}
	return b.first.String() + b.last.String()
}
