package corbelfile

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

const packMagic = "CORBEL-PACK-1\n"

// maxHead bounds the head of a package, in bytes.
const maxHead = 4 << 20

// A Pack is a package: an update, a release, a driver, a feature, or an
// install medium. Payloads follow in the order of Contents.
type Pack struct {
	Offer     Offer      `json:"offer"`
	Manifests []Manifest `json:"manifests"`
	Retires   []string   `json:"retires,omitempty"` // components that go
	Contents  []Content  `json:"contents"`
	// Certificate (X.509, DER) is the one by whose key Signature (ECDSA over
	// the SHA-256 of the head without it, and of the payloads) was made.
	Certificate []byte `json:"certificate,omitempty"`
	Signature   []byte `json:"signature,omitempty"`

	Payloads map[string][]byte `json:"-"`
}

// Content is one payload.
type Content struct {
	Payload string `json:"payload"` // hash
	Size    int    `json:"size"`
}

// Digest is what is signed.
func (p *Pack) Digest() []byte {
	bare := *p
	bare.Signature, bare.Certificate = nil, nil
	bare.Offer.Digest = ""
	h := sha256.New()
	head, err := json.Marshal(&bare)
	if err != nil {
		panic(err) // only types of this package
	}
	_, _ = h.Write(head)
	for _, c := range p.Contents {
		_, _ = h.Write(p.Payloads[c.Payload])
	}
	return h.Sum(nil)
}

// Bytes writes the package.
func (p *Pack) Bytes() []byte {
	head, err := json.Marshal(p)
	if err != nil {
		panic(err) // only types of this package
	}
	out := append([]byte(packMagic), binary.LittleEndian.AppendUint32(nil, uint32(len(head)))...)
	out = append(out, head...)
	for _, c := range p.Contents {
		out = append(out, p.Payloads[c.Payload]...)
	}
	return out
}

// ReadPack reads a package. What its payloads hold is not looked at: see
// Damaged.
func ReadPack(raw []byte) (*Pack, error) {
	rest, ok := bytes.CutPrefix(raw, []byte(packMagic))
	if !ok || len(rest) < 4 {
		return nil, &FormatError{
			In:   "corbel",
			What: "package",
			Want: fmt.Sprintf("%q at its start", packMagic),
			Got:  fmt.Sprintf("%.16q", raw),
		}
	}
	n := binary.LittleEndian.Uint32(rest)
	if n > maxHead || int(n) > len(rest)-4 {
		return nil, &FormatError{
			In:   "corbel",
			What: "package: length of the head",
			Want: fmt.Sprintf("at most %d", len(rest)-4),
			Got:  fmt.Sprint(n),
		}
	}
	p := &Pack{Payloads: map[string][]byte{}}
	if err := json.Unmarshal(rest[4:4+n], p); err != nil {
		return nil, &FormatError{In: "corbel", What: "package: head", Want: "JSON", Got: err.Error()}
	}
	body := rest[4+n:]
	for _, c := range p.Contents {
		if c.Size < 0 || c.Size > len(body) {
			return nil, &FormatError{
				In:   "corbel",
				What: "package: payload " + c.Payload,
				Want: fmt.Sprintf("%d bytes", c.Size),
				Got:  fmt.Sprintf("%d are left", len(body)),
			}
		}
		p.Payloads[c.Payload], body = body[:c.Size], body[c.Size:]
	}
	return p, nil
}

// PackDigest is what the catalogue says of a package: the name of all that is
// signed. A package that cannot be read has one that no catalogue bears.
func PackDigest(raw []byte) string {
	p, err := ReadPack(raw)
	if err != nil {
		return "unreadable"
	}
	return hex.EncodeToString(p.Digest()[:8])
}

// Damaged names the first payload that is not what its hash says; empty when
// all are.
func (p *Pack) Damaged() string {
	for _, c := range p.Contents {
		if Hash(p.Payloads[c.Payload]) != c.Payload {
			return c.Payload
		}
	}
	return ""
}

// Why a signature is not accepted.
var (
	ErrSignature   = errors.New("the signature is not by the certificate")
	ErrExpired     = errors.New("the certificate has expired")
	ErrNotYetValid = errors.New("the certificate is not yet valid")
)

// Validity is the span of the package's certificate.
func (p *Pack) Validity() (from, to time.Time, err error) {
	cert, err := x509.ParseCertificate(p.Certificate)
	if err != nil {
		return from, to, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	return cert.NotBefore, cert.NotAfter, nil
}

// Verify holds the signature against the certificate and its dates against a
// clock.
func (p *Pack) Verify(clock time.Time) error {
	cert, err := x509.ParseCertificate(p.Certificate)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSignature, err)
	}
	key, ok := cert.PublicKey.(*ecdsa.PublicKey)
	if !ok || !ecdsa.VerifyASN1(key, p.Digest(), p.Signature) {
		return ErrSignature
	}
	switch {
	case clock.After(cert.NotAfter):
		return fmt.Errorf("%w: on %s", ErrExpired, cert.NotAfter.Format(time.DateOnly))
	case clock.Before(cert.NotBefore):
		return fmt.Errorf("%w: before %s", ErrNotYetValid, cert.NotBefore.Format(time.DateOnly))
	}
	return nil
}
