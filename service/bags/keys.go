package bags

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"filippo.io/age"
)

// Keys keep bags from whoever comes by the place where they lie: each is written for the first key, and read by any of
// them (the file format age-encryption.org/v1). One that was written before there were keys can still be read.
type Keys struct {
	writes age.Recipient
	reads  []age.Identity
}

// LoadKeys reads the keys in a file, the one to write with first. Only its owner may be able to read it.
func LoadKeys(path string) (*Keys, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("keys of bags: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("keys of bags: %s can be read by others than its owner: chmod 600 %s", path, path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("keys of bags: %w", err)
	}
	defer func() { _ = f.Close() }() // it was only read
	list, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("keys of bags: %s: %w", path, err)
	}
	first, ok := list[0].(*age.X25519Identity)
	if !ok {
		return nil, fmt.Errorf("keys of bags: %s: the first is not an X25519 key, by which bags could be written", path)
	}
	return &Keys{writes: first.Recipient(), reads: list}, nil
}

// MakeKeys writes a new key to a file that is not there yet.
func MakeKeys(path string, now time.Time) error {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already: without the keys in it bags could not be read any more", path)
	}
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "# made %s; without this file the bags that are written with it cannot be read\n# %s\n%s\n",
		now.UTC().Format(time.RFC3339), key.Recipient(), key)
	return errors.Join(err, f.Sync(), f.Close())
}

// magic begins a bag that is encrypted.
var magic = []byte("age-encryption.org/v1\n")

var errNoKeys = errors.New("the bag is encrypted, and no keys were given: --bag-keys FILE")

// seal is a writer whose bytes are encrypted before they go to w, where there are keys.
func (k *Keys) seal(w io.Writer) (io.WriteCloser, error) {
	if k == nil {
		return open{w}, nil
	}
	return age.Encrypt(w, k.writes)
}

// open is a writer that there is nothing to close of.
type open struct{ io.Writer }

func (open) Close() error { return nil }

// unseal reads what was sealed, or was not.
func (k *Keys) unseal(r io.Reader) (io.Reader, error) {
	in := bufio.NewReader(r)
	if head, err := in.Peek(len(magic)); err != nil || !bytes.Equal(head, magic) {
		return in, nil //nolint:nilerr // what is too short to be one is told by whoever reads it
	}
	if k == nil {
		return nil, errNoKeys
	}
	return age.Decrypt(in, k.reads...)
}

const (
	mostHead = 16 << 10 // bytes of the head of an encrypted bag
	nonce    = 16
	chunk    = 64 << 10
	tag      = 16 // bytes that each chunk grows by
)

// sealedSize is how long a bag of a size is where it lies under key: as long, unless it is encrypted.
func (s *Store) sealedSize(ctx context.Context, key string, size int64) (int64, error) {
	r, err := s.bucket.NewRangeReader(ctx, key, 0, mostHead, nil)
	if err != nil {
		return 0, err
	}
	head, err := io.ReadAll(r)
	if err = errors.Join(err, r.Close()); err != nil {
		return 0, err
	}
	if !bytes.HasPrefix(head, magic) {
		return size, nil
	}
	// The head ends with the line that begins with three dashes.
	at := bytes.Index(head, []byte("\n---"))
	if at < 0 {
		return 0, nil
	}
	end := bytes.IndexByte(head[at+1:], '\n')
	if end < 0 {
		return 0, nil
	}
	chunks := max(1, (size+chunk-1)/chunk)
	return int64(at+1+end+1) + nonce + size + chunks*tag, nil
}
