package corbel

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/big"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"diorthos/platform/corbelfile"
)

// A Signer signs packages by the key of a certificate.
type Signer struct {
	key  *ecdsa.PrivateKey
	cert []byte
}

// NewSigner makes a key and a certificate that is valid from one time to
// another.
func NewSigner(from, to time.Time) (*Signer, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	form := &x509.Certificate{
		SerialNumber: big.NewInt(from.Unix()),
		Subject:      pkix.Name{CommonName: "Corbel release signing", Organization: []string{"Corbel Works"}},
		NotBefore:    from,
		NotAfter:     to,
		KeyUsage:     x509.KeyUsageDigitalSignature,
	}
	cert, err := x509.CreateCertificate(rand.Reader, form, form, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	return &Signer{key, cert}, nil
}

// Sign gives a package certificate, signature and digest.
func (s *Signer) Sign(p *corbelfile.Pack) error {
	sig, err := ecdsa.SignASN1(rand.Reader, s.key, p.Digest())
	if err != nil {
		return err
	}
	p.Certificate, p.Signature = s.cert, sig
	return nil
}

// The offers that the vendor has.
const (
	OfferFirst   = "U7210"
	OfferUpdate  = "U7215"
	OfferRelease = "R8000"
	OfferDriver  = "D-berth-printer-3.4"
	OfferFeature = "F-berth-plans"
	OfferMedium  = "M7210" // the release as an install medium
)

// A Vendor publishes packages. It is safe for concurrent use.
type Vendor struct {
	mu    sync.Mutex
	packs map[string]*corbelfile.Pack
	raw   map[string][]byte
	pub   map[int]*published
	down  map[string]bool // by the serial of the machine that asks: lines fail one at a time
}

const architecture = "amd64"

// NewVendor makes all packages, signed with dates around now.
func NewVendor(now time.Time) (*Vendor, error) {
	signer, err := NewSigner(now.AddDate(0, -10, 0), now.AddDate(1, 2, 0))
	if err != nil {
		return nil, err
	}
	v := &Vendor{
		packs: map[string]*corbelfile.Pack{},
		raw:   map[string][]byte{},
		pub:   map[int]*published{},
		down:  map[string]bool{},
	}
	for _, build := range []int{BuildFirst, BuildBase, BuildNext, BuildRelease} {
		v.pub[build] = publish(build, architecture)
	}
	feature := v.pub[BuildBase].feature(architecture)
	driver := corbelfile.Manifest{
		Name:         "driver-berth-printer",
		Version:      "3.4",
		Build:        BuildBase,
		Architecture: architecture,
		Needs:        []string{"corbel-print"},
	}
	v.pub[BuildBase].add(&driver, "drivers/berth-printer.bin", false, content("berth-printer", "3.4", 2200))
	for _, p := range []struct {
		offer     corbelfile.Offer
		manifests []corbelfile.Manifest
	}{
		{corbelfile.Offer{
			ID:    OfferFirst,
			Kind:  "update",
			Title: "Corbel 7.2 update of October",
			Build: BuildBase,
			Base:  BuildFirst,
		}, v.pub[BuildBase].changedSince(v.pub[BuildFirst])},
		{corbelfile.Offer{
			ID:    OfferUpdate,
			Kind:  "update",
			Title: "Corbel 7.2 update of November",
			Build: BuildNext,
			Base:  BuildBase,
		}, v.pub[BuildNext].changedSince(v.pub[BuildBase])},
		{corbelfile.Offer{
			ID:    OfferRelease,
			Kind:  "upgrade",
			Title: "Corbel 8.0",
			Build: BuildRelease,
			Base:  BuildBase,
			Fit: &corbelfile.Fit{
				Memory:   4 << 30,
				Disk:     64 << 20,
				Free:     4 << 20,
				FreeBoot: 2 << 20,
				Flags:    []string{"aes", "vx2"},
				Width:    1024,
				Height:   768,
				Models: []string{
					"Havnar D4 desktop", "Havnar K1 kiosk", "Havnar B2 bridge computer", "Havnar L3 laptop",
					"Havnar S2 signage player",
				},
				BuildLeast: BuildBase,
			},
		}, v.pub[BuildRelease].changedSince(v.pub[BuildBase])},
		{corbelfile.Offer{
			ID:      OfferDriver,
			Kind:    "driver",
			Title:   "Berth printer driver 3.4",
			Build:   BuildBase,
			Base:    BuildBase,
			Device:  "berth-printer",
			Version: "3.4",
		}, []corbelfile.Manifest{driver}},
		{corbelfile.Offer{
			ID:      OfferFeature,
			Kind:    "feature",
			Title:   "Berth plans",
			Build:   BuildBase,
			Base:    BuildBase,
			Feature: FeatureName,
		}, []corbelfile.Manifest{feature}},
		{corbelfile.Offer{
			ID:    OfferMedium,
			Kind:  "install",
			Title: "Corbel 7.2 install medium",
			Build: BuildBase,
			Base:  0,
		}, append(append([]corbelfile.Manifest{}, v.pub[BuildBase].manifests...), feature)},
	} {
		p.offer.Architecture, p.offer.As = architecture, corbelfile.OwnerSystem
		pack := &corbelfile.Pack{Offer: p.offer, Manifests: p.manifests}
		pack.Contents, pack.Payloads = contents(p.manifests, v.pub[p.offer.Build].payloads)
		if err := v.publish(pack, signer); err != nil {
			return nil, err
		}
	}
	return v, nil
}

func (v *Vendor) publish(p *corbelfile.Pack, s *Signer) error {
	if err := s.Sign(p); err != nil {
		return err
	}
	v.packs[p.Offer.ID] = p
	v.raw[p.Offer.ID] = p.Bytes()
	return nil
}

// Offer is an offer with its package's digest, as the catalogue bears it.
func (v *Vendor) Offer(id string) corbelfile.Offer {
	o := v.packs[id].Offer
	o.Digest = corbelfile.PackDigest(v.raw[id])
	return o
}

// Resigned is a package signed anew, by a certificate of other dates.
func (v *Vendor) Resigned(id string, from, to time.Time) ([]byte, error) {
	s, err := NewSigner(from, to)
	if err != nil {
		return nil, err
	}
	p := *v.packs[id]
	if err := s.Sign(&p); err != nil {
		return nil, err
	}
	return p.Bytes(), nil
}

// wanting is a package of which one component asks something of the machine when
// it is started, with the offer for it.
func (v *Vendor) wanting(
	id, component string, wants corbelfile.Wants, now time.Time,
) ([]byte, corbelfile.Offer, error) {
	s, err := NewSigner(now.AddDate(0, -10, 0), now.AddDate(1, 2, 0))
	if err != nil {
		return nil, corbelfile.Offer{}, err
	}
	p := *v.packs[id]
	p.Manifests = slices.Clone(p.Manifests)
	for i := range p.Manifests {
		if p.Manifests[i].Name == component {
			p.Manifests[i].Wants = wants
		}
	}
	if err := s.Sign(&p); err != nil {
		return nil, corbelfile.Offer{}, err
	}
	raw, offer := p.Bytes(), p.Offer
	offer.Digest = corbelfile.PackDigest(raw)
	return raw, offer, nil
}

// SetDown takes the vendor's service away from one machine, or gives it back.
func (v *Vendor) SetDown(serial string, down bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.down[serial] = down
}

// Down reports whether the service was taken away from a machine.
func (v *Vendor) Down(serial string) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.down[serial]
}

// serialHeader is how a machine says who it is.
const serialHeader = "Corbel-Serial"

// ServeHTTP answers /state, /catalogue, /packages/ID and /payloads/BUILD/HASH.
func (v *Vendor) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	down := v.Down(r.Header.Get(serialHeader))
	if r.URL.Path == "/state" {
		state := map[string]string{"catalogue": "up", "packages": "up"}
		if down {
			state["packages"] = "down"
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(state) // the peer may be gone
		return
	}
	if down {
		http.Error(w, "the service is down for maintenance", http.StatusServiceUnavailable)
		return
	}
	if r.URL.Path == "/catalogue" {
		list := []corbelfile.Offer{}
		for _, id := range slices.Sorted(maps.Keys(v.packs)) {
			list = append(list, v.Offer(id))
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(corbelfile.Encode(list)) // the peer may be gone
		return
	}
	if id, ok := strings.CutPrefix(r.URL.Path, "/packages/"); ok && v.raw[id] != nil {
		_, _ = w.Write(v.raw[id]) // the peer may be gone
		return
	}
	if rest, ok := strings.CutPrefix(r.URL.Path, "/payloads/"); ok {
		number, hash, _ := strings.Cut(rest, "/")
		build, err := strconv.Atoi(number)
		if p := v.pub[build]; err == nil && p != nil {
			if data := v.payload(p, hash); data != nil {
				_, _ = w.Write(data) // the peer may be gone
				return
			}
		}
	}
	http.NotFound(w, r)
}

func (v *Vendor) payload(p *published, hash string) []byte {
	if hash == "manifests" {
		return corbelfile.Encode(p.manifests)
	}
	return p.payloads[hash]
}

// Link is how a machine reaches the vendor.
type Link struct {
	Base   string // address
	Client *http.Client

	serial string
}

// errDown means that the vendor says that its service is down.
var errDown = errors.New("the vendor's service is down")

// A statusError is an answer that is no success.
type statusError struct {
	path string
	code int
}

func (e *statusError) Error() string {
	return fmt.Sprintf("%s: the vendor answers %d %s", e.path, e.code, http.StatusText(e.code))
}

// state asks the service state feed.
func (l Link) state(ctx context.Context) error {
	raw, err := l.get(ctx, "/state")
	if err != nil {
		return err
	}
	var s map[string]string
	if err := json.Unmarshal(raw, &s); err != nil {
		return err
	}
	if s["packages"] != "up" {
		return errDown
	}
	return nil
}

func (l Link) get(ctx context.Context, path string) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, l.Base+path, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set(serialHeader, l.serial)
	res, err := l.Client.Do(r)
	if err != nil {
		return nil, err
	}
	raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	err = errors.Join(err, res.Body.Close())
	if err == nil && res.StatusCode != http.StatusOK {
		err = &statusError{path, res.StatusCode}
	}
	return raw, err
}
