package corbel

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"

	"diorthos/core/fat"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/platform/corbelfile"
)

// componentStore is Corbel's store as the core sees one.
type componentStore struct {
	fsys fs.FS
	edit *fat.Editor // nil when it is only read
}

func (s *System) store() *componentStore { return &componentStore{s.sys, s.edit} }

// Components is the system's component store.
func (s *System) Components() store.Writer { return s.store() }

// StoreOn is the store on a volume or in a folder, to be verified.
func StoreOn(fsys fs.FS) store.Store { return &componentStore{fsys: fsys} }

func manifestPath(name, version string) string {
	return path.Join(corbelfile.ManifestFolder, name+"-"+version)
}

func payloadPath(hash string) string { return path.Join(corbelfile.PayloadFolder, hash) }

func (c *componentStore) index() (raw []byte, x *corbelfile.Index, err error) {
	if raw, err = fs.ReadFile(c.fsys, corbelfile.IndexPath); err != nil {
		return nil, nil, err
	}
	x = &corbelfile.Index{}
	return raw, x, corbelfile.Unseal(corbelfile.KindIndex, raw, x)
}

// Index lists the components.
func (c *componentStore) Index() (int, []store.Component, error) {
	_, x, err := c.index()
	if err != nil {
		return 0, nil, err
	}
	list := make([]store.Component, len(x.Components))
	for i, in := range x.Components {
		list[i] = store.Component(in)
	}
	return x.Build, list, nil
}

func (c *componentStore) read(name, version string) (*corbelfile.Manifest, error) {
	raw, err := fs.ReadFile(c.fsys, manifestPath(name, version))
	if err != nil {
		return nil, err
	}
	m := &corbelfile.Manifest{}
	return m, corbelfile.Unseal(corbelfile.KindManifest, raw, m)
}

// Manifest reads that of a component, and refuses one that is not what the
// index says.
func (c *componentStore) Manifest(want store.Component) (*store.Manifest, error) {
	raw, err := fs.ReadFile(c.fsys, manifestPath(want.Name, want.Version))
	if err != nil {
		return nil, err
	}
	if got := corbelfile.Hash(raw); got != want.Manifest {
		return nil, fmt.Errorf("its hash is %s", got)
	}
	return c.Parse(raw)
}

// Parse reads a raw manifest.
func (c *componentStore) Parse(raw []byte) (*store.Manifest, error) {
	var m corbelfile.Manifest
	if err := corbelfile.Unseal(corbelfile.KindManifest, raw, &m); err != nil {
		return nil, err
	}
	out := &store.Manifest{
		Component: store.Component{Name: m.Name, Version: m.Version, Manifest: corbelfile.Hash(raw)},
		Needs:     m.Needs,
	}
	for _, f := range m.Files {
		out.Files = append(out.Files, store.File{Path: f.Path, Payload: f.Payload, Size: f.Size, Protected: f.Protected})
	}
	return out, nil
}

// Payload opens what a hash names.
func (c *componentStore) Payload(hash string) (io.ReadCloser, error) {
	return c.fsys.Open(payloadPath(hash))
}

// Projected opens a file of the running system.
func (c *componentStore) Projected(name string) (io.ReadCloser, error) {
	return c.fsys.Open(path.Join(corbelfile.SystemFolder, name))
}

// NewHash is SHA-256, of which names have the first eight bytes.
func (c *componentStore) NewHash() hash.Hash { return sha256.New() }

// Name writes a sum as a name.
func (c *componentStore) Name(sum []byte) string { return hex.EncodeToString(sum[:8]) }

// PutPayload writes a payload; what stood there is replaced.
func (c *componentStore) PutPayload(hash string, data []byte) error {
	return c.edit.WriteFile(payloadPath(hash), data)
}

// PutManifest writes a manifest.
func (c *componentStore) PutManifest(of store.Component, raw []byte) error {
	return c.edit.WriteFile(manifestPath(of.Name, of.Version), raw)
}

// PutProjected writes a file of the running system.
func (c *componentStore) PutProjected(name string, data []byte) error {
	at := path.Join(corbelfile.SystemFolder, name)
	if err := c.edit.Mkdir(path.Dir(at)); err != nil {
		return err
	}
	return c.edit.WriteFile(at, data)
}

// PutIndex writes the index.
func (c *componentStore) PutIndex(build int, list []store.Component) error {
	x := corbelfile.Index{Build: build}
	for _, in := range list {
		x.Components = append(x.Components, corbelfile.Component(in))
	}
	return c.edit.WriteFile(corbelfile.IndexPath, corbelfile.Seal(corbelfile.KindIndex, x))
}

// A packSource is an install medium or a package.
type packSource struct {
	title string
	pack  *corbelfile.Pack
}

// PackSource opens an install medium as a source. One of which a payload is
// damaged is refused.
func PackSource(title string, raw []byte) (store.Source, error) {
	p, err := corbelfile.ReadPack(raw)
	if err != nil {
		return nil, err
	}
	if bad := p.Damaged(); bad != "" {
		return nil, fmt.Errorf("%s: payload %s is damaged", title, bad)
	}
	return &packSource{title, p}, nil
}

func (s *packSource) Title() string { return s.title }
func (s *packSource) Build() int    { return s.pack.Offer.Build }

func (s *packSource) Payload(_ context.Context, hash string) ([]byte, error) {
	if data, ok := s.pack.Payloads[hash]; ok {
		return data, nil
	}
	return nil, fs.ErrNotExist
}

func (s *packSource) Manifest(_ context.Context, name, version string) ([]byte, error) {
	return pick(s.pack.Manifests, name, version)
}

func pick(list []corbelfile.Manifest, name, version string) ([]byte, error) {
	i := slices.IndexFunc(list, func(m corbelfile.Manifest) bool {
		return m.Name == name && (version == "" || m.Version == version)
	})
	if i < 0 {
		return nil, fs.ErrNotExist
	}
	return corbelfile.Seal(corbelfile.KindManifest, list[i]), nil
}

// A twinSource is a healthy machine's volume.
type twinSource struct {
	title string
	*componentStore
	build int
}

// TwinSource takes the store on a healthy machine's volume as a source.
func TwinSource(title string, fsys fs.FS) (store.Source, error) {
	c := &componentStore{fsys: fsys}
	build, _, err := c.Index()
	return &twinSource{title, c, build}, err
}

func (s *twinSource) Title() string { return s.title }
func (s *twinSource) Build() int    { return s.build }

func (s *twinSource) Payload(_ context.Context, hash string) ([]byte, error) {
	return fs.ReadFile(s.fsys, payloadPath(hash))
}

func (s *twinSource) Manifest(_ context.Context, name, version string) ([]byte, error) {
	if version == "" {
		_, list, err := s.Index()
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(list, func(c store.Component) bool { return c.Name == name })
		if i < 0 {
			return nil, fs.ErrNotExist
		}
		version = list[i].Version
	}
	return fs.ReadFile(s.fsys, manifestPath(name, version))
}

// A vendorSource asks the vendor's service for one build.
type vendorSource struct {
	base   string
	build  int
	client *http.Client
}

// VendorSource asks the vendor's service at an address for the payloads of one
// build.
func VendorSource(base string, build int) store.Source {
	return &vendorSource{strings.TrimSuffix(base, "/"), build, http.DefaultClient}
}

func (s *vendorSource) Title() string { return "the vendor's service" }
func (s *vendorSource) Build() int    { return s.build }

// maxAnswer bounds an answer of the vendor, in bytes.
const maxAnswer = 64 << 20

func (s *vendorSource) get(ctx context.Context, what string) ([]byte, error) {
	return s.ask(ctx, fmt.Sprintf("%s/payloads/%d/%s", s.base, s.build, what))
}

func (s *vendorSource) ask(ctx context.Context, address string) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	res, err := s.client.Do(r)
	if err != nil {
		return nil, err
	}
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	err = errors.Join(err, res.Body.Close())
	if err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("the vendor answers %s: %w", res.Status, fs.ErrNotExist)
	}
	return raw, err
}

func (s *vendorSource) Payload(ctx context.Context, hash string) ([]byte, error) {
	return s.get(ctx, hash)
}

func (s *vendorSource) Manifest(ctx context.Context, name, version string) ([]byte, error) {
	raw, err := s.get(ctx, "manifests")
	if err != nil {
		return nil, err
	}
	var list []corbelfile.Manifest
	if err := corbelfile.Decode("the vendor's manifests", raw, &list); err != nil {
		return nil, err
	}
	return pick(list, name, version)
}

// PutFeature puts the payload of every feature that is asked for into the
// store, from the first source of the machine's build that has it.
func (s *System) PutFeature(
	ctx context.Context, sources []store.Source, _ system.ToolOptions,
) (done []string, err error) {
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil {
		return nil, err
	}
	features, err := read[[]corbelfile.Feature](s.sys, corbelfile.FeaturesPath)
	if err != nil {
		return nil, err
	}
	st := s.store()
	other := errors.New("corbel: no source was given: name an install medium or the vendor's service by --source")
	for _, f := range features {
		if f.On {
			continue
		}
		for _, src := range sources {
			if src.Build() != rel.Build {
				other = fmt.Errorf("%w %d: %s is of build %d", store.ErrOtherBuild, rel.Build, src.Title(), src.Build())
				continue
			}
			if done, err = st.take(ctx, src, f.Component); err == nil {
				return done, nil
			}
			other = err
		}
	}
	return nil, other
}

// FeatureStored names a feature that is not on and whose payload lies whole in
// the store, for the build that the machine has.
func (s *System) FeatureStored(context.Context, system.ToolOptions) (string, error) {
	rel, err := read[corbelfile.Release](s.sys, corbelfile.ReleasePath)
	if err != nil {
		return "", err
	}
	features, err := read[[]corbelfile.Feature](s.sys, corbelfile.FeaturesPath)
	if err != nil {
		return "", err
	}
	for _, f := range features {
		manifests, _ := fs.Glob(s.sys, manifestPath(f.Component, "*")) // the pattern is right
		for _, name := range manifests {
			raw, err := fs.ReadFile(s.sys, name)
			var m corbelfile.Manifest
			if f.On || err != nil || corbelfile.Unseal(corbelfile.KindManifest, raw, &m) != nil || m.Build != rel.Build {
				continue
			}
			whole := !slices.ContainsFunc(m.Files, func(file corbelfile.File) bool {
				data, err := fs.ReadFile(s.sys, payloadPath(file.Payload))
				return err != nil || corbelfile.Hash(data) != file.Payload
			})
			if whole {
				return f.Name, nil
			}
		}
	}
	return "", errors.New("corbel: no feature's payload is whole in the store")
}

// take copies one component from a source into the store.
func (c *componentStore) take(ctx context.Context, src store.Source, name string) ([]string, error) {
	raw, err := src.Manifest(ctx, name, "")
	if err != nil {
		return nil, fmt.Errorf("%s: %s: %w", src.Title(), name, err)
	}
	m, err := c.Parse(raw)
	if err != nil {
		return nil, err
	}
	for _, f := range m.Files {
		data, err := src.Payload(ctx, f.Payload)
		if err != nil {
			return nil, fmt.Errorf("%s: payload %s: %w", src.Title(), f.Payload, err)
		}
		if corbelfile.Hash(data) != f.Payload {
			return nil, fmt.Errorf("%s: payload %s is damaged there", src.Title(), f.Payload)
		}
		if err := c.PutPayload(f.Payload, data); err != nil {
			return nil, err
		}
	}
	return []string{fmt.Sprintf("%s %s from %s", m.Name, m.Version, src.Title())}, c.PutManifest(m.Component, raw)
}

var _ store.Writer = (*componentStore)(nil)
