// Package bags keeps packed bags as they were handed in: in a folder, or in
// any bucket that gocloud.dev/blob knows.
//
//	s, err := bags.Open(ctx, "/var/lib/diorthos/bags")
//	key, info, size, err := s.Take(ctx, body, bag.DefaultLimits)
package bags

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"gocloud.dev/blob"
	"gocloud.dev/blob/fileblob"
	_ "gocloud.dev/blob/s3blob" // stores at scale
	"gocloud.dev/gcerrors"

	"diorthos/core/bag"
)

// A Store keeps bags. It is safe for concurrent use.
type Store struct {
	bucket *blob.Bucket
	folder string // empty unless the bags lie in a folder
	keys   *Keys  // nil where bags lie as they came
	old    *Store // from which bags are being moved; nil for none

	sweeping sync.Mutex
	next     []byte // where the next sweep goes on
}

// OpenWith opens a store in which bags are encrypted where they lie; keys may be nil.
func OpenWith(ctx context.Context, where string, keys *Keys) (*Store, error) {
	s, err := Open(ctx, where)
	if err == nil {
		s.keys = keys
	}
	return s, err
}

// Open opens the bucket at a URL, or the folder at a path, which it makes.
func Open(ctx context.Context, where string) (*Store, error) {
	if strings.Contains(where, "://") {
		b, err := blob.OpenBucket(ctx, where)
		if err != nil {
			return nil, fmt.Errorf("store of bags: %w", err)
		}
		return &Store{bucket: b}, nil
	}
	b, err := fileblob.OpenBucket(where, &fileblob.Options{
		CreateDir:   true,
		DirFileMode: 0o700, // evidence is personal; the files themselves are 0600
		NoTempDir:   true,
		Metadata:    fileblob.MetadataDontWrite,
	})
	if err != nil {
		return nil, fmt.Errorf("store of bags: %w", err)
	}
	return &Store{bucket: b, folder: where}, nil
}

// Close gives the bucket back.
func (s *Store) Close() error {
	if s.old != nil {
		return errors.Join(s.bucket.Close(), s.old.Close())
	}
	return s.bucket.Close()
}

// packedBag is how bags are written.
var packedBag = blob.WriterOptions{ContentType: "application/octet-stream", DisableContentTypeDetection: true}

// Take stores what body holds and verifies it in the same pass. The bag is
// durable when Take returns; on an error nothing is kept.
func (s *Store) Take(
	ctx context.Context, body io.Reader, limits bag.Limits,
) (key string, info *bag.Info, size int64, err error) {
	key = "incoming-" + strings.ToLower(rand.Text())
	writing, cancel := context.WithCancel(ctx)
	defer cancel()
	w, err := s.bucket.NewWriter(writing, key, &packedBag)
	if err != nil {
		return "", nil, 0, fmt.Errorf("store of bags: %w", err)
	}
	sealed, err := s.keys.seal(w)
	if err != nil {
		cancel()
		_ = w.Close()
		return "", nil, 0, fmt.Errorf("store of bags: %w", err)
	}
	kept := &keeper{w: sealed}
	info, err = bag.Read(ctx, io.TeeReader(body, kept), limits, nil)
	if err == nil {
		err = sealed.Close()
	}
	if err != nil {
		cancel() // a cancelled writer leaves nothing behind
		_ = w.Close()
		return "", nil, 0, errors.Join(kept.err, err)
	}
	if err := w.Close(); err != nil {
		return "", nil, 0, fmt.Errorf("store of bags: %w", err)
	}
	if err := s.makeDurable(key); err != nil {
		return "", nil, 0, fmt.Errorf("store of bags: %w", err)
	}
	return key, info, kept.n, nil
}

// Put stores a bag under a key of its own, durably. One that lies there already is left as
// it is, and made is false.
func (s *Store) Put(ctx context.Context, key string, body io.Reader) (made bool, err error) {
	if there, err := s.bucket.Exists(ctx, key); err != nil || there {
		return false, err
	}
	writing, cancel := context.WithCancel(ctx)
	defer cancel()
	w, err := s.bucket.NewWriter(writing, key, &packedBag)
	if err != nil {
		return false, err
	}
	sealed, err := s.keys.seal(w)
	if err == nil {
		_, err = io.Copy(sealed, body)
	}
	if err == nil {
		err = sealed.Close()
	}
	if err != nil {
		cancel() // a cancelled writer leaves nothing behind
		_ = w.Close()
		return false, err
	}
	if err := w.Close(); err != nil {
		return false, err
	}
	return true, s.makeDurable(key)
}

// keeper remembers that it was the store that failed, and not the bag.
type keeper struct {
	w   io.Writer
	n   int64
	err error
}

func (k *keeper) Write(p []byte) (int, error) {
	n, err := k.w.Write(p)
	k.n += int64(n)
	if err != nil {
		k.err = fmt.Errorf("store of bags: %w", err)
	}
	return n, err
}

// makeDurable syncs a bag in a folder; a bucket does it by itself.
func (s *Store) makeDurable(key string) error {
	if s.folder == "" {
		return nil
	}
	for _, path := range []string{filepath.Join(s.folder, key), s.folder} {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		if err := errors.Join(f.Sync(), f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Open returns a stored bag, and how many bytes lie there.
func (s *Store) Open(ctx context.Context, key string) (io.ReadCloser, int64, error) {
	r, size, err := s.open(ctx, key)
	if s.old == nil || !notThere(err) {
		return r, size, err
	}
	if r, size, err = s.old.Open(ctx, key); notThere(err) { // moved between the two looks
		return s.open(ctx, key)
	}
	return r, size, err
}

func (s *Store) open(ctx context.Context, key string) (io.ReadCloser, int64, error) {
	r, err := s.bucket.NewReader(ctx, key, nil)
	if err != nil {
		return nil, 0, fmt.Errorf("store of bags: %w", err)
	}
	plain, err := s.keys.unseal(r)
	if err != nil {
		return nil, 0, errors.Join(fmt.Errorf("store of bags: %w", err), r.Close())
	}
	return struct {
		io.Reader
		io.Closer
	}{plain, r}, r.Size(), nil
}

// Holds reports whether a bag of that size lies under key. In doubt it does.
func (s *Store) Holds(ctx context.Context, key string, size int64) bool {
	return s.holds(ctx, key, size) || s.old != nil && (s.old.holds(ctx, key, size) || s.holds(ctx, key, size))
}

func (s *Store) holds(ctx context.Context, key string, size int64) bool {
	a, err := s.bucket.Attributes(ctx, key)
	if err != nil {
		return gcerrors.Code(err) != gcerrors.NotFound
	}
	if a.Size == size {
		return true
	}
	sealed, err := s.sealedSize(ctx, key, size)
	return err != nil || a.Size == sealed
}

// Reachable says why the store does not answer.
func (s *Store) Reachable(ctx context.Context) error {
	ok, err := s.bucket.IsAccessible(ctx)
	if err == nil && !ok {
		err = errors.New("there is no such store, or it may not be looked at")
	}
	if err == nil && s.old != nil {
		err = s.old.Reachable(ctx)
	}
	return err
}

// Drop removes a bag that nothing was recorded of.
func (s *Store) Drop(ctx context.Context, key string) error {
	err := s.bucket.Delete(ctx, key)
	if s.old == nil {
		return err
	}
	// In the order in which a move goes: what it moves meanwhile is dropped where it came to.
	switch was := s.old.bucket.Delete(ctx, key); {
	case was == nil && notThere(err):
		if again := s.bucket.Delete(ctx, key); again != nil && !notThere(again) {
			return again
		}
		return nil
	case notThere(was):
		return err
	case was != nil:
		return was
	}
	return err
}

// Sweep drops bags older than age of which known says that nothing was recorded: what
// a crash between storing and recording leaves behind. It looks at so many of them and goes
// on behind those the next time; behind the last it begins anew.
func (s *Store) Sweep(
	ctx context.Context, age time.Duration, most int, known func(key string) (bool, error),
) (dropped int, err error) {
	s.sweeping.Lock()
	defer s.sweeping.Unlock()
	token := s.next
	if len(token) == 0 {
		token = blob.FirstPageToken
	}
	page, next, err := s.bucket.ListPage(ctx, token, most, nil)
	if err != nil {
		s.next = nil
		return 0, err
	}
	s.next = next
	for _, o := range page {
		if time.Since(o.ModTime) < age {
			continue
		}
		ok, err := known(o.Key)
		if err != nil {
			return dropped, err
		}
		if !ok {
			if err := s.Drop(ctx, o.Key); err != nil {
				return dropped, err
			}
			dropped++
		}
	}
	return dropped, nil
}
