package media

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/firmware"
	"diorthos/core/layout"
)

// A Way is how an image has to be written so that a firmware starts it.
type Way string

// The ways.
const (
	AsItIs Way = "as it is"     // sector by sector
	Files  Way = "files on FAT" // a GPT with one FAT32 partition that holds the files
)

// ErrNoWay means that an image cannot be made to start in a mode.
var ErrNoWay = errors.New("cannot be made to start")

// WayFor chooses how to write the medium for a firmware mode: as it is when it
// starts so, else by its files.
func (m *Medium) WayFor(mode firmware.Mode) (Way, error) {
	switch {
	case slices.Contains(m.Stick, mode):
		return AsItIs, nil
	case mode == firmware.UEFI && m.Files && m.Largest < 1<<32:
		return Files, nil
	case mode == firmware.UEFI && m.Files:
		return "", fmt.Errorf("%w by uefi: a file of %d bytes is too large for FAT32", ErrNoWay, m.Largest)
	case mode == firmware.UEFI:
		return "", fmt.Errorf(
			"%w by uefi: it holds no EFI/BOOT/BOOT*.EFI: take an image that is made for UEFI, or start the machine in BIOS mode",
			ErrNoWay,
		)
	}
	return "", fmt.Errorf(
		"%w by bios from a stick: sector 0 holds no boot code: burn it to a disc, take an image that is made for sticks, "+
			"or start the machine by UEFI",
		ErrNoWay,
	)
}

// Need is how many bytes the target must have.
func (m *Medium) Need(w Way) int64 {
	if w == AsItIs {
		return m.Size
	}
	return m.Total + m.Total/50 + 40<<20 // clusters that are not full, tables
}

// Progress is told how many bytes are done, of how many, and of what.
type Progress func(what string, done, total int64)

// Write writes the medium to dev in one way. What was on dev is lost. Whether it
// went well is for Verify to say.
func (m *Medium) Write(
	ctx context.Context, src block.Source, dev block.Device, w Way, newGUID func() layout.GUID, progress Progress,
) error {
	if need := m.Need(w); dev.Size() < need {
		return fmt.Errorf("the target has %d bytes, the medium needs %d", dev.Size(), need)
	}
	if w == AsItIs {
		return copyAll(ctx, src, dev, progress)
	}
	return m.writeFiles(ctx, dev, newGUID, progress)
}

// Verify reads dev back and compares all of it with the medium.
func (m *Medium) Verify(ctx context.Context, src, dev block.Source, w Way, progress Progress) error {
	if w == AsItIs {
		return compareAll(ctx, src, dev, progress)
	}
	first, size := filesPart(dev)
	v, err := fat.Open(block.NewReadRange(dev, first, size))
	if err != nil {
		return err
	}
	return compare(ctx, m.FS, v, m.Total, progress)
}

// filesPart is where the one partition of a medium of files lies, in bytes.
func filesPart(dev block.Source) (first, size int64) {
	first = 1 << 20
	return first, (dev.Size() - first - 1<<20) / (1 << 20) * (1 << 20)
}

const piece = 4 << 20

// eachPiece calls do with the pieces of an image. The first comes last: what is
// cut off does not pass for a medium.
func eachPiece(
	ctx context.Context, src block.Source, what string, progress Progress, do func(off int64, b []byte) error,
) error {
	size := src.Size()
	buf := make([]byte, piece)
	var order []int64
	for off := int64(piece); off < size; off += piece {
		order = append(order, off)
	}
	done := int64(0)
	for _, off := range append(order, 0) {
		if err := ctx.Err(); err != nil {
			return err
		}
		b := buf[:min(piece, size-off)]
		if _, err := src.ReadAt(b, off); err != nil && err != io.EOF {
			return fmt.Errorf("read the image at byte %d: %w", off, err)
		}
		if err := do(off, b); err != nil {
			return err
		}
		if done += int64(len(b)); progress != nil {
			progress(what, done, size)
		}
	}
	return nil
}

// copyAll writes sector by sector.
func copyAll(ctx context.Context, src block.Source, dev block.Device, progress Progress) error {
	err := eachPiece(ctx, src, "writing", progress, func(off int64, b []byte) error {
		if rest := len(b) % dev.SectorSize(); rest != 0 { // a device takes whole sectors
			b = append(bytes.Clone(b), make([]byte, dev.SectorSize()-rest)...)
		}
		_, err := dev.WriteAt(b, off)
		return err
	})
	return errors.Join(err, dev.Sync())
}

// compareAll reads back sector by sector.
func compareAll(ctx context.Context, src, dev block.Source, progress Progress) error {
	back := make([]byte, piece)
	return eachPiece(ctx, src, "reading back", progress, func(off int64, b []byte) error {
		if _, err := dev.ReadAt(back[:len(b)], off); err != nil && err != io.EOF {
			return fmt.Errorf("read back at byte %d: %w", off, err)
		}
		if !bytes.Equal(back[:len(b)], b) {
			return fmt.Errorf("what was read back at byte %d is not what was written: the medium is bad", off)
		}
		return nil
	})
}

// writeFiles makes a GPT with one EFI system partition and copies the files.
func (m *Medium) writeFiles(
	ctx context.Context, dev block.Device, newGUID func() layout.GUID, progress Progress,
) error {
	ss := int64(dev.SectorSize())
	first, size := filesPart(dev)
	plan := layout.Plan{
		DiskGUID: newGUID(),
		Partitions: []layout.Entry{{
			Type: layout.TypeESP,
			ID:   newGUID(),
			Name: "install medium",
			Span: layout.Span{First: uint64(first / ss), Last: uint64((first+size)/ss - 1)},
		}},
	}
	writes, err := layout.Create(dev.Size(), dev.SectorSize(), plan)
	if err != nil {
		return err
	}
	part := partition{dev, first}
	err = fat.Fill(ctx, part, size, fat.Options{Label: label(m.Label), Serial: 0x4d454449}, m.FS, func(n int64) {
		if progress != nil {
			progress("writing", n, m.Total)
		}
	})
	if err != nil {
		return err
	}
	for _, w := range writes { // the table last: what is cut off does not start
		if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
			return err
		}
	}
	return dev.Sync()
}

// label is what FAT takes as one.
func label(s string) string {
	b := []byte{}
	for _, c := range []byte(s) {
		if c > 0x20 && c < 0x7f && len(b) < 11 {
			b = append(b, c)
		}
	}
	return string(b)
}

type partition struct {
	dev block.Device
	off int64
}

func (p partition) ReadAt(b []byte, off int64) (int, error)  { return p.dev.ReadAt(b, p.off+off) }
func (p partition) WriteAt(b []byte, off int64) (int, error) { return p.dev.WriteAt(b, p.off+off) }
