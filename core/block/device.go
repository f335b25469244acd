package block

import (
	"errors"
	"fmt"
	"io"
	"os"
)

// A Source is a device that can be read: a disk, an image of one, or a part
// of either. Offsets and sizes are in bytes.
type Source interface {
	io.ReaderAt
	Size() int64
	// SectorSize is the logical sector in bytes, 512 or 4096.
	SectorSize() int
}

// A Device is a Source that can be written. Written data is durable only
// after Sync has returned.
type Device interface {
	Source
	io.WriterAt
	Sync() error
}

// ErrReadOnly is returned by a write to an image opened for reading.
var ErrReadOnly = errors.New("opened for reading only")

// An Image is a disk held in a file, or the device node of a real disk.
type Image struct {
	file       *os.File
	size       int64
	sectorSize int
	readOnly   bool
}

// OpenImage opens the file or device node at path. The size of a device node
// is found by seeking to its end. sectorSize 0 means 512.
func OpenImage(path string, sectorSize int, readOnly bool) (*Image, error) {
	if sectorSize == 0 {
		sectorSize = 512
	}
	if sectorSize != 512 && sectorSize != 4096 {
		return nil, fmt.Errorf("open %s: sector size %d: want 512 or 4096 bytes", path, sectorSize)
	}
	flag := os.O_RDWR
	if readOnly {
		flag = os.O_RDONLY
	}
	if err := isOf(path, "a disk image or a block device", holdsDisk); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(path, flag, 0)
	if err != nil {
		return nil, err
	}
	size, err := file.Seek(0, io.SeekEnd)
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	return &Image{file: file, size: size, sectorSize: sectorSize, readOnly: readOnly}, nil
}

// ReadAt reads from byte offset off, as io.ReaderAt.
func (m *Image) ReadAt(p []byte, off int64) (int, error) { return m.file.ReadAt(p, off) }

// WriteAt writes at byte offset off. It never makes the image longer.
func (m *Image) WriteAt(p []byte, off int64) (int, error) {
	if m.readOnly {
		return 0, fmt.Errorf("write %s: %w", m.file.Name(), ErrReadOnly)
	}
	if off < 0 || off+int64(len(p)) > m.size {
		return 0, fmt.Errorf(
			"write %s: bytes %d to %d lie outside its %d bytes", m.file.Name(), off, off+int64(len(p)), m.size,
		)
	}
	return m.file.WriteAt(p, off)
}

// Size is the length in bytes.
func (m *Image) Size() int64 { return m.size }

// SectorSize is the logical sector in bytes.
func (m *Image) SectorSize() int { return m.sectorSize }

// Sync makes everything written durable.
func (m *Image) Sync() error {
	if m.readOnly {
		return nil
	}
	return m.file.Sync()
}

// Close closes the underlying file.
func (m *Image) Close() error { return m.file.Close() }

// A ReadRange is a stretch of a source seen as a source of its own, such as a
// partition of a disk.
type ReadRange struct {
	*io.SectionReader
	sectorSize int
}

// NewReadRange returns the length bytes of src that begin at byte offset off.
func NewReadRange(src Source, off, length int64) *ReadRange {
	return &ReadRange{io.NewSectionReader(src, off, length), src.SectorSize()}
}

// SectorSize is that of the whole.
func (p *ReadRange) SectorSize() int { return p.sectorSize }
