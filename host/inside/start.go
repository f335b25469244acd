package inside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
)

// Start runs a program of this computer, such as an emulator, with a draft as a file that only
// the program sees. What it writes to that file is in the draft. The program ends with the
// context.
func Start(
	ctx context.Context, dev block.Device, in io.Reader, out io.Writer, args func(disk string) []string,
) error {
	if os.Geteuid() != 0 {
		return fmt.Errorf("%w: it takes root, to show the draft as a file", ErrNotHere)
	}
	s := newSession(dev)
	err := s.do(func() error {
		if err := s.apart(); err != nil {
			return err
		}
		if err := s.stage(); err != nil {
			return err
		}
		folder := filepath.Join(s.base, "draft")
		var err error
		if s.shown, err = show(dev, folder, &s.drafting); err != nil {
			return err
		}
		line := args(filepath.Join(folder, diskName))
		cmd := exec.CommandContext(ctx, line[0], line[1:]...)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, out
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: unix.SIGKILL}
		return cmd.Run()
	})
	return errors.Join(err, s.Leave())
}
