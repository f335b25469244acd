package volumes

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"unicode"
)

// Keys open encrypted volumes: by passphrases or key files. What they opened is remembered while
// the program runs, and nowhere else.
type Keys struct {
	// Secrets are tried in turn.
	Secrets [][]byte
	// Ask is asked for a passphrase where none of the secrets fits; nil where nobody can be asked. An
	// empty answer leaves the volume closed.
	Ask func(volume string) ([]byte, error)

	mu     sync.Mutex
	opened map[string][]byte // volume keys, by what they are of
	failed map[string]error
}

// largestKey bounds a key file, in bytes, as cryptsetup does.
const largestKey = 8 << 20

// ErrNoKey means that an encrypted volume stays closed.
var ErrNoKey = errors.New("no key was given")

// ErrWrongKey means that a passphrase or a key file does not open a volume.
var ErrWrongKey = errors.New("the passphrase or key does not open it")

// AddFile adds the content of a key file, as it is, and without a line's end as people write one.
func (k *Keys) AddFile(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("key file: %w", err)
	}
	if info.Size() > largestKey {
		return fmt.Errorf("key file %s: it has %d bytes, a key has at most %d", path, info.Size(), largestKey)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("key file: %w", err)
	}
	k.Secrets = append(k.Secrets, raw)
	if line := strings.TrimRight(string(raw), "\r\n"); line != string(raw) && !strings.Contains(line, "\n") {
		k.Secrets = append(k.Secrets, []byte(line))
	}
	return nil
}

// open finds the key of a volume: try makes one of a secret, or says ErrWrongKey.
func (k *Keys) open(id, name string, try func(secret []byte) ([]byte, error)) ([]byte, error) {
	if k == nil {
		return nil, ErrNoKey
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if key := k.opened[id]; key != nil {
		return key, nil
	}
	if err := k.failed[id]; err != nil {
		return nil, err
	}
	key, err := k.first(name, try)
	if k.opened == nil {
		k.opened, k.failed = map[string][]byte{}, map[string]error{}
	}
	if err != nil {
		k.failed[id] = err
		return nil, err
	}
	k.opened[id] = key
	return key, nil
}

// Typed is a passphrase as a person would type it where a machine asks for one when it starts: the
// first of the secrets that is a line of text, else what is answered when asked. Nil for none.
func (k *Keys) Typed(volume string) []byte {
	if k == nil {
		return nil
	}
	for _, s := range k.Secrets {
		if len(s) > 0 && len(s) < 512 && strings.IndexFunc(string(s), unicode.IsControl) < 0 {
			return s
		}
	}
	if k.Ask == nil {
		return nil
	}
	if s, err := k.Ask(volume); err == nil {
		return s
	}
	return nil
}

const tries = 3

func (k *Keys) first(name string, try func(secret []byte) ([]byte, error)) ([]byte, error) {
	last := ErrNoKey
	for _, secret := range k.Secrets {
		key, err := try(secret)
		if err == nil {
			return key, nil
		}
		last = err
		if !errors.Is(err, ErrWrongKey) {
			return nil, err
		}
	}
	if k.Ask == nil {
		return nil, last
	}
	for range tries {
		secret, err := k.Ask(name)
		if err != nil || len(secret) == 0 {
			return nil, errors.Join(ErrNoKey, err)
		}
		key, err := try(secret)
		clear(secret)
		if err == nil {
			return key, nil
		}
		if last = err; !errors.Is(err, ErrWrongKey) {
			return nil, err
		}
	}
	return nil, last
}
