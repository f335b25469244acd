package store_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"diorthos/core/store"
)

// memory is a small store: manifests are JSON, names are the first half of
// SHA-256.
type memory struct {
	title     string
	build     int
	list      []store.Component
	manifests map[string][]byte
	payloads  map[string][]byte
	system    map[string][]byte
	noIndex   bool
}

func name(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:16])
}

func (m *memory) Title() string          { return m.title }
func (m *memory) Build() int             { return m.build }
func (m *memory) NewHash() hash.Hash     { return sha256.New() }
func (m *memory) Name(sum []byte) string { return hex.EncodeToString(sum[:16]) }

func (m *memory) Index() (int, []store.Component, error) {
	if m.noIndex {
		return 0, nil, errors.New("the seal is broken")
	}
	return m.build, m.list, nil
}

func (m *memory) Manifest(c store.Component) (*store.Manifest, error) {
	raw, ok := m.manifests[c.Name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	if name(raw) != c.Manifest {
		return nil, fmt.Errorf("its hash is %s", name(raw))
	}
	return m.Parse(raw)
}

func (m *memory) Parse(raw []byte) (*store.Manifest, error) {
	var out store.Manifest
	err := json.Unmarshal(raw, &out)
	out.Component.Manifest = name(raw)
	return &out, err
}

func open(from map[string][]byte, key string) (io.ReadCloser, error) {
	data, ok := from[key]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return io.NopCloser(bytes.NewReader(data)), nil
}

func (m *memory) Payload(h string) (io.ReadCloser, error)      { return open(m.payloads, h) }
func (m *memory) Projected(path string) (io.ReadCloser, error) { return open(m.system, path) }

func (m *memory) PutPayload(h string, data []byte) error      { m.payloads[h] = data; return nil }
func (m *memory) PutProjected(path string, data []byte) error { m.system[path] = data; return nil }
func (m *memory) PutManifest(c store.Component, raw []byte) error {
	m.manifests[c.Name] = raw
	return nil
}
func (m *memory) PutIndex(build int, list []store.Component) error {
	m.build, m.list = build, list
	return nil
}

// source is a whole store to repair from.
type source struct{ *memory }

func (s source) Payload(_ context.Context, h string) ([]byte, error) {
	if data, ok := s.payloads[h]; ok {
		return data, nil
	}
	return nil, fs.ErrNotExist
}

func (s source) Manifest(_ context.Context, component, _ string) ([]byte, error) {
	if raw, ok := s.manifests[component]; ok {
		return raw, nil
	}
	return nil, fs.ErrNotExist
}

// fresh makes a store of twelve components, each of which needs the one before.
func fresh(title string, build int) *memory {
	m := &memory{
		title:     title,
		build:     build,
		manifests: map[string][]byte{},
		payloads:  map[string][]byte{},
		system:    map[string][]byte{},
	}
	r := rand.New(rand.NewPCG(uint64(build), 1))
	for i := range 12 {
		x := store.Manifest{Component: store.Component{
			Name:    fmt.Sprintf("part-%02d", i),
			Version: fmt.Sprintf("1.%d", build),
		}}
		if i > 0 {
			x.Needs = []string{fmt.Sprintf("part-%02d", i-1)}
		}
		for k := range 1 + r.IntN(4) {
			data := make([]byte, 10+r.IntN(5000))
			for b := range data {
				data[b] = byte(r.Uint32())
			}
			f := store.File{
				Path:      fmt.Sprintf("%s/%d.bin", x.Name, k),
				Payload:   name(data),
				Size:      int64(len(data)),
				Protected: k%2 == 0,
			}
			x.Files = append(x.Files, f)
			m.payloads[f.Payload], m.system[f.Path] = data, slices.Clone(data)
		}
		raw, _ := json.Marshal(x) // plain strings and numbers
		m.manifests[x.Name] = raw
		m.list = append(m.list, store.Component{Name: x.Name, Version: x.Version, Manifest: name(raw)})
	}
	return m
}

// harm does one thing to the store, and says what has to be found.
func harm(m *memory, r *rand.Rand) string {
	spoil := func(from map[string][]byte, gone, altered string) string {
		keys := slices.Sorted(maps.Keys(from))
		key := keys[r.IntN(len(keys))]
		if r.IntN(2) == 0 {
			delete(from, key)
			return gone
		}
		from[key] = slices.Clone(from[key])
		from[key][r.IntN(len(from[key]))] ^= byte(1 + r.IntN(255))
		return altered
	}
	switch r.IntN(4) {
	case 0:
		return spoil(m.payloads, store.PayloadMissing, store.PayloadAltered)
	case 1:
		return spoil(m.manifests, store.ManifestMissing, store.ManifestDamaged)
	case 2: // one that another needs
		m.list = slices.Delete(slices.Clone(m.list), 4, 5)
		return store.DependencyMissing
	}
	var protected []string
	for path := range m.system {
		if strings.HasSuffix(path, "/0.bin") || strings.HasSuffix(path, "/2.bin") {
			protected = append(protected, path)
		}
	}
	slices.Sort(protected)
	only := map[string][]byte{protected[r.IntN(len(protected))]: nil}
	for path := range only {
		only[path] = m.system[path]
		kind := spoil(only, store.ProtectedMissing, store.ProtectedAltered)
		if data, there := only[path]; there {
			m.system[path] = data
		} else {
			delete(m.system, path)
		}
		return kind
	}
	return ""
}

// Whatever one or several things are done to a store, verification names each
// kind, repair by a source of the same build makes it whole, and every byte is
// the one that it was.
func TestWhateverIsDamagedIsFoundAndRepaired(t *testing.T) {
	whole, twin := fresh("this machine", 7), source{fresh("a twin", 7)}
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 2))
		m := &memory{
			title:     "broken",
			build:     whole.build,
			list:      slices.Clone(whole.list),
			manifests: maps.Clone(whole.manifests),
			payloads:  maps.Clone(whole.payloads),
			system:    maps.Clone(whole.system),
		}
		kind := harm(m, r)
		report, err := store.Verify(t.Context(), m, 2, nil)
		if err != nil || len(report.Faults) != 1 || report.Faults[0].Kind != kind {
			t.Fatalf("seed %d: %s was done, found is %+v, %v", seed, kind, report, err)
		}
		for range r.IntN(3) {
			harm(m, r)
		}
		if report, err = store.Verify(t.Context(), m, 2, nil); err != nil {
			t.Fatal(err)
		}
		done, err := store.Repair(t.Context(), m, report, []store.Source{source{fresh("of another build", 8)}, twin})
		if err != nil || len(done) == 0 {
			t.Fatalf("seed %d: %v: %+v", seed, err, report.Faults)
		}
		if again, err := store.Verify(t.Context(), m, 1, nil); err != nil || len(again.Faults) > 0 {
			t.Fatalf("seed %d: after the repair: %+v, %v", seed, again, err)
		}
		slices.SortFunc(m.list, func(a, b store.Component) int { return strings.Compare(a.Name, b.Name) })
		if !reflect.DeepEqual(m.list, whole.list) || !reflect.DeepEqual(m.manifests, whole.manifests) ||
			!reflect.DeepEqual(m.payloads, whole.payloads) {
			t.Fatalf("seed %d: the store is whole, and not the one that it was", seed)
		}
		for path, data := range whole.system {
			if path[len(path)-5] != '1' && path[len(path)-5] != '3' && !bytes.Equal(m.system[path], data) {
				t.Errorf("seed %d: protected file %s differs", seed, path)
			}
		}
	}
}

func TestASourceOfAnotherBuildIsRefused(t *testing.T) {
	m := fresh("this machine", 7)
	_, f := first(t, m)
	delete(m.payloads, f.Payload)
	delete(m.system, f.Path)
	report, err := store.Verify(t.Context(), m, 2, nil)
	if err != nil {
		t.Fatal(err)
	}
	before := maps.Clone(m.payloads)
	for name, c := range map[string]struct {
		sources []store.Source
		want    error
	}{
		"none":                 {nil, store.ErrOtherBuild},
		"of another build":     {[]store.Source{source{fresh("U8", 8)}}, store.ErrOtherBuild},
		"without that payload": {[]store.Source{source{m}}, store.ErrNotInSource},
	} {
		if _, err := store.Repair(t.Context(), m, report, c.sources); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if !reflect.DeepEqual(m.payloads, before) {
		t.Error("a refused repair has written")
	}
}

// A protected file of the running system is a copy of its payload: no source is
// asked for what is there.
func TestTheSystemsOwnCopyIsTakenFirst(t *testing.T) {
	m := fresh("this machine", 7)
	_, f := first(t, m)
	delete(m.payloads, f.Payload)
	report, err := store.Verify(t.Context(), m, 1, nil)
	if err != nil {
		t.Fatal(err)
	}
	done, err := store.Repair(t.Context(), m, report, nil)
	if err != nil || len(done) != 1 || !strings.Contains(done[0], "own copy") {
		t.Errorf("%v %v", done, err)
	}
}

func TestAnIndexThatCannotBeReadIsOneFault(t *testing.T) {
	m := fresh("this machine", 7)
	m.noIndex = true
	report, err := store.Verify(t.Context(), m, 2, nil)
	if err != nil || len(report.Faults) != 1 || report.Faults[0].Kind != store.IndexDamaged {
		t.Fatalf("%+v %v", report, err)
	}
	if _, err := store.Repair(t.Context(), m, report, []store.Source{source{fresh("a twin", 7)}}); err == nil ||
		!strings.Contains(err.Error(), "checkpoint") {
		t.Errorf("%v", err)
	}
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	m.noIndex = false
	if _, err := store.Verify(stopped, m, 2, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

func first(t *testing.T, m *memory) (*store.Manifest, store.File) {
	t.Helper()
	x, err := m.Manifest(m.list[0])
	if err != nil {
		t.Fatal(err)
	}
	return x, x.Files[0]
}
