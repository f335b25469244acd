package media

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	pgp "github.com/ProtonMail/go-crypto/openpgp/errors"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// A Signature says what a detached OpenPGP signature (RFC 9580) proves.
type Signature struct {
	Good        bool      `json:"good"`
	Text        string    `json:"text"` // one sentence for a technician
	Signer      string    `json:"signer,omitempty"`
	Fingerprint string    `json:"fingerprint,omitempty"` // of the signer's primary key, in hex
	Made        time.Time `json:"made,omitzero"`
}

// maxSignature bounds what is read of a signature and of a keyring, in bytes.
const maxSignature = 32 << 20

// CheckSignature holds a detached signature over signed against the keys of a
// keyring, both with or without armour. A signature that proves nothing is no
// error; one that cannot be read, or a keyring that cannot, is.
func CheckSignature(signed, signature, keyring io.Reader, now time.Time) (Signature, error) {
	keys, err := readKeys(keyring)
	if err != nil {
		return Signature{}, fmt.Errorf("keyring: %w", err)
	}
	raw, armoured, err := readArmour(signature)
	if err != nil {
		return Signature{}, fmt.Errorf("signature: %w", err)
	}
	var packets io.Reader = bytes.NewReader(raw)
	if armoured {
		block, err := armor.Decode(packets)
		if err != nil {
			return Signature{}, fmt.Errorf("signature: %w", err)
		}
		packets = block.Body
	}
	made, signer, err := openpgp.VerifyDetachedSignature(keys, signed, packets, &packet.Config{Time: func() time.Time {
		return now
	}})
	s := Signature{Good: err == nil}
	if made != nil {
		s.Made = made.CreationTime
	}
	if signer != nil {
		s.Fingerprint = fmt.Sprintf("%X", signer.PrimaryKey.Fingerprint)
		if id := signer.PrimaryIdentity(); id != nil {
			s.Signer = id.Name
		}
	}
	if s.Text, err = s.explain(err, now); err != nil {
		return Signature{}, err
	}
	return s, nil
}

// explain returns the error again when it does not tell of the signature.
func (s Signature) explain(err error, now time.Time) (string, error) {
	var bad pgp.SignatureError
	switch {
	case err == nil:
		return "good, by " + s.Signer, nil
	case errors.Is(err, pgp.ErrUnknownIssuer):
		return "not to be judged: it was made with a key that is not in the keyring", nil
	case (errors.Is(err, pgp.ErrSignatureExpired) || errors.Is(err, pgp.ErrKeyExpired)) && s.Made.After(now):
		return fmt.Sprintf(
			"not valid yet: it was made on %s, and it is %s by this machine's clock",
			s.Made.UTC().Format(time.DateTime), now.UTC().Format(time.DateTime),
		), nil
	case errors.Is(err, pgp.ErrSignatureExpired):
		return "expired; made by " + s.Signer, nil
	case errors.Is(err, pgp.ErrKeyExpired):
		return "made with a key that has expired: " + s.Signer, nil
	case errors.Is(err, pgp.ErrKeyRevoked):
		return "made with a key that was revoked: " + s.Signer, nil
	case errors.As(err, &bad):
		return "bad: what was signed is not what lies here (" + string(bad) + ")", nil
	}
	return "", fmt.Errorf("signature: %w", err)
}

func readKeys(r io.Reader) (openpgp.EntityList, error) {
	raw, armoured, err := readArmour(r)
	if err != nil {
		return nil, err
	}
	read := openpgp.ReadKeyRing
	if armoured {
		read = openpgp.ReadArmoredKeyRing
	}
	keys, err := read(bytes.NewReader(raw))
	if err == nil && len(keys) == 0 {
		err = errors.New("holds no keys")
	}
	return keys, err
}

func readArmour(r io.Reader) (raw []byte, armoured bool, err error) {
	raw, err = io.ReadAll(io.LimitReader(r, maxSignature))
	return raw, bytes.HasPrefix(bytes.TrimSpace(raw), []byte("-----BEGIN PGP ")), err
}
