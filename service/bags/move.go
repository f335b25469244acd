package bags

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"gocloud.dev/blob"
	"gocloud.dev/gcerrors"
)

// OpenBeside opens a store; bags that are not there yet are read from another one too, from which they are being moved.
// New ones are kept in the first alone. old may be empty: there is no other one then.
func OpenBeside(ctx context.Context, where, old string, keys *Keys) (*Store, error) {
	if old != "" && !strings.Contains(old, "://") { // a folder that is not there would be made, and found empty
		if info, err := os.Stat(old); err != nil {
			return nil, fmt.Errorf("store of bags that are moved: %w", err)
		} else if !info.IsDir() {
			return nil, fmt.Errorf("store of bags that are moved: %s is no folder", old)
		}
	}
	s, err := OpenWith(ctx, where, keys)
	if err != nil || old == "" {
		return s, err
	}
	if s.old, err = OpenWith(ctx, old, keys); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// notThere reports whether an error says that no such bag lies there.
func notThere(err error) bool { return err != nil && gcerrors.Code(err) == gcerrors.NotFound }

// Moved says how a move stands.
type Moved struct {
	Bags  int   `json:"bags"`  // moved by now
	Bytes int64 `json:"bytes"` // of them
	Left  int   `json:"left"`  // too young to be moved: they may still be written
}

// mostMoved is how many bags are listed at a time.
const mostMoved = 500

// Move moves all bags from the other store to this one, one after the other: copied, read back and held against what
// was copied, and only then removed there. It can be cut off at any moment and begun again; whoever reads both stores
// meanwhile finds each bag in one of them. What is younger than age is left: it may still be written.
func (s *Store) Move(ctx context.Context, age time.Duration, tell func(Moved)) (m Moved, err error) {
	old := s.old
	if old == nil {
		return m, errors.New("store of bags: there is no other store to move from")
	}
	for token := blob.FirstPageToken; token != nil; {
		page, next, err := old.bucket.ListPage(ctx, token, mostMoved, nil)
		if err != nil {
			return m, fmt.Errorf("store of bags: %w", err)
		}
		for _, o := range page {
			if time.Since(o.ModTime) < age {
				m.Left++
				continue
			}
			switch size, err := s.moveOne(ctx, old, o.Key); {
			case notThere(err): // somebody else moved it, or it was dropped
			case err != nil:
				return m, fmt.Errorf("move the bag %s: %w", o.Key, err)
			default:
				m.Bags++
				m.Bytes += size
			}
			tell(m)
		}
		token = next
		if len(next) == 0 {
			token = nil
		}
	}
	return m, nil
}

// moveOne moves one, by what is in it: the keys of the two stores may differ.
func (s *Store) moveOne(ctx context.Context, old *Store, key string) (int64, error) {
	from, _, err := old.Open(ctx, key)
	if err != nil {
		return 0, err
	}
	sum := sha256.New()
	made, err := s.Put(ctx, key, io.TeeReader(from, sum))
	if err == nil && !made { // here already, from a move that was cut off
		_, err = io.Copy(sum, from)
	}
	if err = errors.Join(err, from.Close()); err != nil {
		return 0, err
	}
	here, size, err := s.open(ctx, key)
	if err != nil {
		return 0, err
	}
	back := sha256.New()
	_, err = io.Copy(back, here)
	if err = errors.Join(err, here.Close()); err != nil {
		return 0, err
	}
	if !bytes.Equal(sum.Sum(nil), back.Sum(nil)) {
		return 0, errors.New("what was written is not what was read; it is left in both stores")
	}
	return size, old.bucket.Delete(ctx, key)
}
