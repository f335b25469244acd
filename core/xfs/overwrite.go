package xfs

import (
	"errors"
	"io"
	"io/fs"
)

// Overwrite writes data into a file that is there, from a byte of it on, and changes nothing else of the volume:
// neither size nor times nor blocks. What is written has to lie within the file and in blocks of it alone.
func Overwrite(dev interface {
	io.ReaderAt
	io.WriterAt
}, name string, at int64, data []byte,
) error {
	refuse := func(why string) error { return &fs.PathError{Op: "overwrite", Path: name, Err: errors.New(why)} }
	f, err := Open(dev)
	if err != nil {
		return err
	}
	if open, err := f.NeedsRecovery(); err != nil || open {
		return errors.Join(err, refuse("the volume's log holds what is not written yet: mount it once, or check it"))
	}
	found, err := f.Inode(name)
	if err != nil {
		return err
	}
	in, ok := found.(*inode)
	switch {
	case !ok || !in.mode.IsRegular() || in.held == heldLocal:
		return refuse("not a file with blocks of its own")
	case in.shared:
		return refuse("it may share its blocks with another file")
	case at < 0 || at+int64(len(data)) > in.size:
		return refuse("what is to be written does not lie within it")
	}
	if err := in.load(); err != nil {
		return err
	}
	type piece struct {
		at   int64
		data []byte
	}
	var pieces []piece // all of them are found before the first is written
	for len(data) > 0 {
		where, length, err := in.span(at)
		if err != nil {
			return err
		}
		if where < 0 {
			return refuse("it has a hole where it is to be written")
		}
		n := min(int64(len(data)), length)
		pieces = append(pieces, piece{where, data[:n]})
		data, at = data[n:], at+n
	}
	for _, p := range pieces {
		if _, err := dev.WriteAt(p.data, p.at); err != nil {
			return err
		}
	}
	return nil
}
