package volumes

import (
	"bytes"
	"crypto/pbkdf2"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"golang.org/x/crypto/argon2"

	"diorthos/core/block"
)

// Bytes of a LUKS2 header. Numbers are big-endian.
const (
	luks2Size     = 8
	luks2Sequence = 16
	luks2Sum      = 448
	luks2Binary   = 4096 // of the binary part, before the text
	secondMagic   = "SKUL\xba\xbe"
	smallest2     = 16 << 10
	largest2      = 4 << 20
)

// A luks2 header is the JSON part of it, as far as it is used.
type luks2 struct {
	Keyslots map[string]struct {
		Type    string `json:"type"`
		KeySize int    `json:"key_size"`
		AF      struct {
			Type    string `json:"type"`
			Stripes int    `json:"stripes"`
			Hash    string `json:"hash"`
		} `json:"af"`
		Area struct {
			Type       string `json:"type"`
			Encryption string `json:"encryption"`
			KeySize    int    `json:"key_size"`
			Offset     string `json:"offset"`
			Size       string `json:"size"`
		} `json:"area"`
		KDF struct {
			Type       string `json:"type"`
			Salt       []byte `json:"salt"`
			Hash       string `json:"hash"`
			Iterations int    `json:"iterations"`
			Time       uint32 `json:"time"`
			Memory     uint32 `json:"memory"` // KiB
			CPUs       uint8  `json:"cpus"`
		} `json:"kdf"`
	} `json:"keyslots"`
	Segments map[string]struct {
		Type       string `json:"type"`
		Offset     string `json:"offset"`
		Size       string `json:"size"`
		Tweak      string `json:"iv_tweak"`
		Encryption string `json:"encryption"`
		Sector     int64  `json:"sector_size"`
	} `json:"segments"`
	Digests map[string]struct {
		Type       string   `json:"type"`
		Keyslots   []string `json:"keyslots"`
		Segments   []string `json:"segments"`
		Salt       []byte   `json:"salt"`
		Digest     []byte   `json:"digest"`
		Hash       string   `json:"hash"`
		Iterations int      `json:"iterations"`
	} `json:"digests"`
}

// readLUKS2 reads the newer of the two headers that is whole.
func readLUKS2(dev block.Source) (*luks2, error) {
	var best *luks2
	var sequence uint64
	var why error
	offsets := []int64{0}
	for at := int64(smallest2); at <= largest2; at *= 2 {
		offsets = append(offsets, at)
	}
	for _, at := range offsets {
		h, n, err := luks2At(dev, at)
		switch {
		case err != nil && at == 0:
			why = err
		case err == nil && (best == nil || n > sequence):
			best, sequence = h, n
		}
	}
	if best == nil {
		return nil, fmt.Errorf("both of its headers are damaged: %w", why)
	}
	return best, nil
}

func luks2At(dev block.Source, at int64) (h *luks2, sequence uint64, err error) {
	head := make([]byte, luks2Binary)
	if n, err := dev.ReadAt(head, at); n < len(head) {
		return nil, 0, err
	}
	magic := luksMagic
	if at > 0 {
		magic = secondMagic
	}
	size := int64(binary.BigEndian.Uint64(head[luks2Size:]))
	if string(head[:6]) != magic || binary.BigEndian.Uint16(head[6:]) != 2 || size < smallest2 || size > largest2 {
		return nil, 0, errors.New("no header")
	}
	whole := make([]byte, size)
	if n, err := dev.ReadAt(whole, at); n < len(whole) {
		return nil, 0, err
	}
	want := bytes.Clone(whole[luks2Sum : luks2Sum+sha256.Size])
	clear(whole[luks2Sum : luks2Sum+64])
	if got := sha256.Sum256(whole); !bytes.Equal(got[:], want) {
		return nil, 0, errors.New("the checksum of its header is wrong")
	}
	text, _, _ := bytes.Cut(whole[luks2Binary:], []byte{0})
	h = &luks2{}
	if err := json.Unmarshal(text, h); err != nil {
		return nil, 0, fmt.Errorf("its header: %w", err)
	}
	return h, binary.BigEndian.Uint64(head[luks2Sequence:]), nil
}

func openLUKS2(v *Volume, keys *Keys) (block.Source, error) {
	h, err := readLUKS2(v.Dev)
	if err != nil {
		return nil, err
	}
	if len(h.Segments) != 1 {
		return nil, fmt.Errorf("it has %d segments: it is being encrypted anew, which is not followed", len(h.Segments))
	}
	var segment string
	for segment = range h.Segments {
	}
	seg := h.Segments[segment]
	off, err1 := strconv.ParseInt(seg.Offset, 10, 64)
	tweak, err2 := strconv.ParseUint(seg.Tweak, 10, 64)
	size := v.Dev.Size() - off
	if seg.Size != "dynamic" {
		n, err := strconv.ParseInt(seg.Size, 10, 64)
		if err != nil || n > size {
			return nil, errors.New("its header is damaged: its segment lies outside the volume")
		}
		size = n
	}
	switch {
	case err1 != nil || err2 != nil || off <= 0 || size <= 0:
		return nil, errors.New("its header is damaged: where its segment lies cannot be told")
	case seg.Type != "crypt" || seg.Encryption != "aes-xts-plain64":
		return nil, fmt.Errorf("%s: %w", seg.Encryption, errCipher)
	case seg.Sector < 512 || seg.Sector > 4096 || seg.Sector&(seg.Sector-1) != 0:
		return nil, fmt.Errorf("its header is damaged: sectors of %d bytes", seg.Sector)
	}
	key, err := keys.open(
		v.Content.UUID,
		v.Name,
		func(secret []byte) ([]byte, error) { return h.key(v.Dev, segment, secret) },
	)
	if err != nil {
		return nil, err
	}
	return newCrypted(stretch(v.Dev, off, size), key, seg.Sector, tweak)
}

// key tries a secret on every key slot of a segment.
func (h *luks2) key(dev block.Source, segment string, secret []byte) ([]byte, error) {
	var failed error
	for _, d := range h.Digests {
		if !slices.Contains(d.Segments, segment) {
			continue
		}
		newHash, ok := hashes[d.Hash]
		if !ok || d.Type != "pbkdf2" || d.Iterations > mostRounds || d.Iterations <= 0 {
			return nil, fmt.Errorf("its digest %q by %q is not known", d.Type, d.Hash)
		}
		for _, n := range slices.Sorted(slices.Values(d.Keyslots)) {
			key, err := h.slot(dev, n, secret)
			if err != nil {
				failed = err
				continue
			}
			digest, err := pbkdf2.Key(newHash, string(key), d.Salt, d.Iterations, len(d.Digest))
			if err != nil {
				return nil, err
			}
			if subtle.ConstantTimeCompare(digest, d.Digest) == 1 {
				return key, nil
			}
		}
	}
	if failed != nil {
		return nil, failed
	}
	return nil, ErrWrongKey
}

// slot is the key that a secret takes out of a key slot; it need not be the right one.
func (h *luks2) slot(dev block.Source, name string, secret []byte) ([]byte, error) {
	k, ok := h.Keyslots[name]
	newHash := hashes[k.AF.Hash]
	off, err := strconv.ParseInt(k.Area.Offset, 10, 64)
	switch {
	case !ok || err != nil || k.KeySize <= 0 || k.KeySize > mostKey || k.AF.Stripes <= 0 || k.AF.Stripes > mostStripes:
		return nil, fmt.Errorf("key slot %s is damaged", name)
	case k.Type != "luks2" || k.AF.Type != "luks1" || newHash == nil || k.Area.Encryption != "aes-xts-plain64" ||
		k.Area.KeySize != 32 && k.Area.KeySize != 64:
		return nil, fmt.Errorf("key slot %s is of a kind that is not opened here", name)
	}
	var derived []byte
	switch kdf := k.KDF; kdf.Type {
	case "argon2i", "argon2id":
		if kdf.Memory > mostMemory || kdf.Time > mostTime || kdf.CPUs == 0 || kdf.Time == 0 {
			return nil, fmt.Errorf("key slot %s asks for more than is given: %d KiB, %d rounds", name, kdf.Memory, kdf.Time)
		}
		derive := argon2.IDKey
		if kdf.Type == "argon2i" {
			derive = argon2.Key
		}
		derived = derive(secret, kdf.Salt, kdf.Time, kdf.Memory, kdf.CPUs, uint32(k.Area.KeySize))
	case "pbkdf2":
		kdfHash, ok := hashes[kdf.Hash]
		if !ok || kdf.Iterations <= 0 || kdf.Iterations > mostRounds {
			return nil, fmt.Errorf("key slot %s is damaged", name)
		}
		if derived, err = pbkdf2.Key(kdfHash, string(secret), kdf.Salt, kdf.Iterations, k.Area.KeySize); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("key slot %s derives its key by %q, which is not known", name, kdf.Type)
	}
	material, err := decrypted(dev, off, k.KeySize*k.AF.Stripes, derived)
	if err != nil {
		return nil, err
	}
	return merged(material, k.KeySize, newHash), nil
}
