package ext

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
)

// ErrJournal means that the volume's journal holds what was not yet written to it, and cannot be replayed: what is
// written now could be overwritten when it is.
var ErrJournal = errors.New("ext: the journal holds what is not written yet: check the file system first")

// Overwrite writes data into a file that is there, from a byte of it on, and changes nothing
// else of the volume: neither size nor times nor blocks. What is written has to lie within the
// file, and in no hole of it.
func Overwrite(dev interface {
	io.ReaderAt
	io.WriterAt
}, name string, at int64, data []byte,
) error {
	f, err := Open(dev)
	if err != nil {
		return err
	}
	if f.NeedsRecovery() { // else the kernel would replay older content over what is written now
		if _, err := Replay(dev); err != nil {
			return fmt.Errorf("%w: %w", ErrJournal, err)
		}
		if f, err = Open(dev); err != nil {
			return err
		}
	}
	in, err := f.find("overwrite", name)
	if err != nil {
		return err
	}
	if !in.fileMode().IsRegular() || in.flags&flagInline != 0 {
		return &fs.PathError{Op: "overwrite", Path: name, Err: errors.New("not a file with blocks of its own")}
	}
	if at < 0 || at+int64(len(data)) > in.size {
		return &fs.PathError{
			Op:   "overwrite",
			Path: name,
			Err:  fmt.Errorf("bytes %d to %d are not within its %d", at, at+int64(len(data)), in.size),
		}
	}
	type piece struct {
		at   int64
		data []byte
	}
	var pieces []piece
	for len(data) > 0 {
		n, within := at/f.sb.blockSize, at%f.sb.blockSize
		block, err := f.block(&in, n)
		if err != nil {
			return err
		}
		if block == 0 {
			return &fs.PathError{Op: "overwrite", Path: name, Err: fmt.Errorf("block %d of it is a hole", n)}
		}
		length := min(int64(len(data)), f.sb.blockSize-within)
		pieces = append(pieces, piece{block*f.sb.blockSize + within, data[:length]})
		at, data = at+length, data[length:]
	}
	for _, p := range pieces {
		if _, err := dev.WriteAt(p.data, p.at); err != nil {
			return fmt.Errorf("ext: overwrite %s: %w", name, err)
		}
	}
	return nil
}
