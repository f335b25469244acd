package host

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"diorthos/core/block"
	"diorthos/core/efivar"
	"diorthos/core/layout"
)

// variablesFolder is where the kernel shows the UEFI variables of the computer that it runs on.
const variablesFolder = "/sys/firmware/efi/efivars"

// A variables device holds the variables about starting of this very computer, as a store: what is written to it
// reaches the firmware with Sync, variable by variable.
type variables struct {
	folder   string
	readOnly bool
	held     []byte
	was      *efivar.Store
}

func openVariables(folder string, readOnly bool) (*variables, error) {
	was, err := efivar.FromFiles(os.DirFS(folder))
	if err != nil {
		return nil, err
	}
	held, err := efivar.Pack(was)
	if err != nil {
		return nil, err
	}
	return &variables{folder: folder, readOnly: readOnly, held: held, was: was}, nil
}

// Size is that of the store.
func (v *variables) Size() int64 { return int64(len(v.held)) }

// SectorSize is that of any file.
func (v *variables) SectorSize() int { return 512 }

// Close lets go of nothing: what was not synced is not written.
func (v *variables) Close() error { return nil }

// ReadAt reads the store.
func (v *variables) ReadAt(p []byte, off int64) (int, error) {
	return bytes.NewReader(v.held).ReadAt(p, off)
}

// WriteAt changes the store.
func (v *variables) WriteAt(p []byte, off int64) (int, error) {
	switch {
	case v.readOnly:
		return 0, block.ErrReadOnly
	case off < 0 || off+int64(len(p)) > int64(len(v.held)):
		return 0, io.ErrShortWrite
	}
	return copy(v.held[off:], p), nil
}

// Sync writes what differs: entries before the order that names them.
func (v *variables) Sync() error {
	if v.readOnly {
		return nil
	}
	now, err := efivar.Open(bytes.NewReader(v.held))
	if err != nil {
		return fmt.Errorf("what is to be written is no store of variables: %w", err)
	}
	changed := now.Changed(v.was)
	names := slices.Sorted(maps.Keys(changed)) // Boot0001 comes before BootOrder
	for _, name := range names {
		if changed[name] != nil {
			if err := putVariable(filepath.Join(v.folder, name), changed[name]); err != nil {
				return err
			}
		}
	}
	for _, name := range names {
		if changed[name] == nil {
			if err := changeable(filepath.Join(v.folder, name)); err != nil {
				return err
			}
			if err := os.Remove(filepath.Join(v.folder, name)); err != nil {
				return err
			}
		}
	}
	v.was = now
	return nil
}

// putVariable writes one at once, as the firmware takes it.
func putVariable(path string, data []byte) error {
	if err := changeable(path); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close())
}

// immutable is the mark of a file that cannot be changed (ioctl_iflags(2)).
const immutable = 0x10

// changeable takes the mark away by which the kernel keeps variables from being removed by accident.
func changeable(path string) error {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil || flags&immutable == 0 {
		return nil //nolint:nilerr // a file system without marks
	}
	return unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, flags&^immutable)
}

// leadTo reports whether an entry of this computer's variables leads to a disk: else that disk may be another
// machine's, and they say nothing of it.
func leadTo(folder, path string) bool {
	s, err := efivar.FromFiles(os.DirFS(folder))
	if err != nil {
		return false
	}
	entries, _ := s.Boot()
	if len(entries) == 0 {
		return false
	}
	dev, err := OpenDisk(path, 0, true)
	if err != nil {
		return false
	}
	defer func() { _ = dev.Close() }() // it was only read
	table, err := layout.Read(dev)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(table.Partitions(), func(p layout.Partition) bool {
		return slices.ContainsFunc(entries, func(e efivar.Entry) bool {
			return e.Kind == efivar.File && p.ID != "" && strings.EqualFold(e.Partition, p.ID)
		})
	})
}

// openFirmware opens what holds the state of a machine's firmware: a file, or the folder of this computer's variables.
func openFirmware(path string, readOnly bool) (interface {
	block.Device
	io.Closer
}, error,
) {
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return openVariables(path, readOnly)
	}
	return OpenDisk(path, 0, readOnly)
}
