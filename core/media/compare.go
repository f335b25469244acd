package media

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
)

// compare reads every file of a on b and compares them.
func compare(ctx context.Context, a, b fs.FS, total int64, progress Progress) error {
	done := int64(0)
	return fs.WalkDir(a, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		info, err := fs.Stat(a, name)
		if err != nil || info.IsDir() {
			return err
		}
		want, err := digest(a, name)
		if err != nil {
			return err
		}
		got, err := digest(b, name)
		if err != nil {
			return fmt.Errorf("read back %s: %w", name, err)
		}
		if !bytes.Equal(want, got) {
			return fmt.Errorf("%s reads back differently: the medium is bad", name)
		}
		if done += info.Size(); progress != nil && e.Type().IsRegular() {
			progress("reading back", min(done, total), total)
		}
		return nil
	})
}

func digest(fsys fs.FS, name string) (_ []byte, err error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return h.Sum(nil), err
}
