package volumes

import (
	"crypto/aes"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"

	"golang.org/x/crypto/xts"

	"diorthos/core/block"
)

// Bytes of a LUKS1 header. Numbers are big-endian.
const (
	luksMagic     = "LUKS\xba\xbe"
	luksCipher    = 8
	luksMode      = 40
	luksHash      = 72
	luksPayload   = 104 // in sectors
	luksKeyBytes  = 108
	luksDigest    = 112
	luksSalt      = 132
	luksRounds    = 164
	luksUUID      = 168
	luksSlots     = 208
	luksSlotSize  = 48
	luksSlotInUse = 0x00ac71f3
	luks1Header   = 592
	saltSize      = 32
	digestSize    = 20
)

// Bounds on what a header may ask for, so that a hostile one costs little.
const (
	mostRounds  = 1 << 27
	mostStripes = 8192
	mostKey     = 128     // bytes
	mostMemory  = 2 << 20 // KiB
	mostTime    = 64
)

// hashes are those that headers name.
var hashes = map[string]func() hash.Hash{
	"sha1": sha1.New, "sha256": sha256.New, "sha512": sha512.New, "sha384": sha512.New384, "sha224": sha256.New224,
}

var errCipher = errors.New("only AES in XTS mode with plain 64-bit sector numbers is opened here")

// openEncrypted opens the encrypted volumes for which there is a key.
func (s *Set) openEncrypted(keys *Keys) {
	for _, v := range slices.Clone(s.list) {
		if !strings.HasPrefix(v.Content.Kind, "luks") || v.Dev == nil || s.hasInner(v.Number) {
			continue
		}
		var dev block.Source
		var err error
		if v.Content.Kind == "luks1" {
			dev, err = openLUKS1(v, keys)
		} else {
			dev, err = openLUKS2(v, keys)
		}
		if err != nil {
			v.Problem = "encrypted, and not opened: " + err.Error()
			continue
		}
		v.Problem = ""
		id := v.Content.UUID
		s.inner(&Volume{
			Kind: Opened, Name: "what " + v.Name + " holds encrypted", ID: id, Within: []int{v.Number}, Dev: dev,
			Names: []string{"/dev/mapper/luks-" + id, "/dev/disk/by-id/dm-uuid-CRYPT-LUKS-" + strings.ReplaceAll(id, "-", "")},
		})
	}
}

func openLUKS1(v *Volume, keys *Keys) (block.Source, error) {
	b := make([]byte, luks1Header)
	if n, err := v.Dev.ReadAt(b, 0); n < len(b) {
		return nil, fmt.Errorf("its header: %w", err)
	}
	be := binary.BigEndian
	encryption := text0(b[luksCipher:luksMode]) + "-" + text0(b[luksMode:luksHash])
	newHash, ok := hashes[text0(b[luksHash:luksPayload])]
	size, payload := int(be.Uint32(b[luksKeyBytes:])), int64(be.Uint32(b[luksPayload:]))*512
	switch {
	case encryption != "aes-xts-plain64":
		return nil, fmt.Errorf("%s: %w", encryption, errCipher)
	case !ok:
		return nil, fmt.Errorf("its hash %q is not known", text0(b[luksHash:luksPayload]))
	case size != 32 && size != 64, payload <= 0 || payload >= v.Dev.Size(), be.Uint32(b[luksRounds:]) > mostRounds:
		return nil, errors.New("its header is damaged")
	}
	key, err := keys.open(v.Content.UUID, v.Name, func(secret []byte) ([]byte, error) {
		for i := range 8 {
			slot := b[luksSlots+i*luksSlotSize:][:luksSlotSize]
			rounds, stripes := int(be.Uint32(slot[4:])), int(be.Uint32(slot[44:]))
			if be.Uint32(slot) != luksSlotInUse || rounds > mostRounds || stripes <= 0 || stripes > mostStripes {
				continue
			}
			derived, err := pbkdf2.Key(newHash, string(secret), slot[8:8+saltSize], rounds, size)
			if err != nil {
				return nil, err
			}
			material, err := decrypted(v.Dev, int64(be.Uint32(slot[40:]))*512, size*stripes, derived)
			if err != nil {
				return nil, err
			}
			key := merged(material, size, newHash)
			digest, err := pbkdf2.Key(
				newHash,
				string(key),
				b[luksSalt:luksSalt+saltSize],
				int(be.Uint32(b[luksRounds:])),
				digestSize,
			)
			if err != nil {
				return nil, err
			}
			if subtle.ConstantTimeCompare(digest, b[luksDigest:luksDigest+digestSize]) == 1 {
				return key, nil
			}
		}
		return nil, ErrWrongKey
	})
	if err != nil {
		return nil, err
	}
	return newCrypted(stretch(v.Dev, payload, v.Dev.Size()-payload), key, 512, 0)
}

func text0(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\x00")
	return s
}

// decrypted reads bytes that are encrypted sector by sector, counted from their beginning.
func decrypted(dev block.Source, off int64, n int, key []byte) ([]byte, error) {
	if off < 0 || n <= 0 || off+int64(n) > dev.Size() {
		return nil, errors.New("its header is damaged: a key slot lies outside the volume")
	}
	whole := (n + 511) / 512 * 512
	b := make([]byte, whole)
	if got, err := dev.ReadAt(b, off); got < len(b) {
		return nil, fmt.Errorf("its key slots: %w", err)
	}
	c, err := xts.NewCipher(aes.NewCipher, key)
	if err != nil {
		return nil, err
	}
	for i := 0; i < len(b); i += 512 {
		c.Decrypt(b[i:i+512], b[i:i+512], uint64(i/512))
	}
	return b[:n], nil
}

// merged takes a key back out of its anti-forensic stripes.
func merged(material []byte, size int, newHash func() hash.Hash) []byte {
	key := make([]byte, size)
	for i := 0; i+size <= len(material); i += size {
		subtle.XORBytes(key, key, material[i:i+size])
		if i+2*size <= len(material) {
			diffuse(key, newHash)
		}
	}
	return key
}

// diffuse mixes a block in itself, a hash's length at a time.
func diffuse(b []byte, newHash func() hash.Hash) {
	h := newHash()
	for i, at := uint32(0), 0; at < len(b); i, at = i+1, at+h.Size() {
		part := b[at:min(at+h.Size(), len(b))]
		h.Reset()
		h.Write(binary.BigEndian.AppendUint32(nil, i))
		h.Write(part)
		copy(part, h.Sum(nil))
	}
}

// A crypted device is one whose sectors are encrypted, each with its number.
type crypted struct {
	dev    block.Source
	cipher *xts.Cipher
	sector int64
	tweak  uint64 // added to the numbers
}

func newCrypted(dev block.Source, key []byte, sector int64, tweak uint64) (block.Source, error) {
	c, err := xts.NewCipher(aes.NewCipher, key)
	if err != nil {
		return nil, err
	}
	d := &crypted{dev: dev, cipher: c, sector: sector, tweak: tweak}
	if _, ok := dev.(block.Device); !ok {
		return readOnly{d}, nil
	}
	return d, nil
}

func (c *crypted) Size() int64     { return c.dev.Size() / c.sector * c.sector }
func (c *crypted) SectorSize() int { return 512 }

// number is that of the sector at a byte; it counts units of 512 bytes whatever a sector has.
func (c *crypted) number(off int64) uint64 { return uint64(off/512) + c.tweak }

// ReadAt reads and decrypts whole sectors.
func (c *crypted) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= c.Size() {
		return 0, io.EOF
	}
	want := min(int64(len(p)), c.Size()-off)
	from, to := off/c.sector*c.sector, (off+want+c.sector-1)/c.sector*c.sector
	b := make([]byte, to-from)
	if n, err := c.dev.ReadAt(b, from); int64(n) < to-from {
		if err == nil {
			err = io.ErrUnexpectedEOF
		}
		return 0, err
	}
	for i := int64(0); i < to-from; i += c.sector {
		c.cipher.Decrypt(b[i:i+c.sector], b[i:i+c.sector], c.number(from+i))
	}
	copy(p[:want], b[off-from:])
	if want < int64(len(p)) {
		return int(want), io.EOF
	}
	return int(want), nil
}

// WriteAt encrypts whole sectors; of those that are not written whole the rest is read before.
func (c *crypted) WriteAt(p []byte, off int64) (int, error) {
	d, ok := c.dev.(block.Device)
	if !ok {
		return 0, block.ErrReadOnly
	}
	if off < 0 || off+int64(len(p)) > c.Size() {
		return 0, fmt.Errorf("write: bytes %d to %d lie outside the volume's %d bytes", off, off+int64(len(p)), c.Size())
	}
	if len(p) == 0 {
		return 0, nil
	}
	from, to := off/c.sector*c.sector, (off+int64(len(p))+c.sector-1)/c.sector*c.sector
	b := make([]byte, to-from)
	for _, edge := range []int64{0, to - from - c.sector} { // the first and the last sector
		if whole := from+edge >= off && from+edge+c.sector <= off+int64(len(p)); !whole {
			if _, err := c.ReadAt(b[edge:edge+c.sector], from+edge); err != nil {
				return 0, err
			}
		}
	}
	copy(b[off-from:], p)
	for i := int64(0); i < to-from; i += c.sector {
		c.cipher.Encrypt(b[i:i+c.sector], b[i:i+c.sector], c.number(from+i))
	}
	if _, err := d.WriteAt(b, from); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Sync makes what was written durable.
func (c *crypted) Sync() error {
	if d, ok := c.dev.(block.Device); ok {
		return d.Sync()
	}
	return nil
}

// For passes on what the writes that follow are for.
func (c *crypted) For(what string) { passOn(c.dev, what) }
