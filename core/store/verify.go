package store

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"sort"
	"sync"
)

// A Component of a system, as its index names it.
type Component struct {
	Name     string
	Version  string
	Manifest string // hash
}

// A Manifest says what a component consists of.
type Manifest struct {
	Component
	Needs []string
	Files []File
}

// A File is made from a payload.
type File struct {
	Path      string // in the running system
	Payload   string // hash
	Size      int64  // bytes
	Protected bool   // has to be like its payload
}

// A Store is read. Its methods may be called by several goroutines at once.
type Store interface {
	// Index lists the components that are to be there, and the build.
	Index() (build int, list []Component, err error)
	// Manifest reads one; an error that is not fs.ErrNotExist says that it is
	// damaged.
	Manifest(Component) (*Manifest, error)
	// Payload opens the bytes that a hash names.
	Payload(hash string) (io.ReadCloser, error)
	// Projected opens a file of the running system.
	Projected(path string) (io.ReadCloser, error)
	// NewHash is the hash by which payloads are named, and Name writes a sum as
	// a name.
	NewHash() hash.Hash
	Name(sum []byte) string
}

// Kinds of faults.
const (
	IndexDamaged      = "index-damaged"
	ManifestMissing   = "manifest-missing"
	ManifestDamaged   = "manifest-damaged"
	PayloadMissing    = "payload-missing"
	PayloadAltered    = "payload-altered"
	ProtectedMissing  = "protected-missing"
	ProtectedAltered  = "protected-altered"
	DependencyMissing = "dependency-missing"
	Unreadable        = "unreadable"
)

// A Fault is one thing that is wrong with a store.
type Fault struct {
	Kind      string `json:"kind"`
	Component string `json:"component"`
	Version   string `json:"version,omitempty"`
	Path      string `json:"path,omitempty"` // of the file
	Want      string `json:"want,omitempty"` // hash, or name of what is needed
	Got       string `json:"got,omitempty"`
}

func (f Fault) String() string {
	s := f.Kind + ": " + f.Component + " " + f.Version
	if f.Path != "" {
		s += ", " + f.Path
	}
	return s
}

// A Verification is what Verify found.
type Verification struct {
	Build      int     `json:"build"`
	Components int     `json:"components"`
	Files      int     `json:"files"`
	Bytes      int64   `json:"bytes"` // hashed
	Faults     []Fault `json:"faults"`
	// Unsummed names components that bring no checksums: of their files nothing is known but
	// whether they are there.
	Unsummed []string `json:"unsummed,omitempty"`
}

// Verify checks every component: its manifest, what it needs, every payload,
// and every protected file. workers components are checked at a time. progress,
// which may be nil, is told how many are done of how many.
func Verify(ctx context.Context, s Store, workers int, progress func(done, of int)) (*Verification, error) {
	build, list, err := s.Index()
	if err != nil {
		return &Verification{Faults: []Fault{{Kind: IndexDamaged, Got: err.Error()}}}, nil
	}
	names := map[string]bool{}
	for _, c := range list {
		names[c.Name] = true
	}
	report := &Verification{Build: build, Components: len(list), Faults: []Fault{}}
	var mu sync.Mutex
	var wait sync.WaitGroup
	jobs := make(chan Component)
	done := 0
	for range max(workers, 1) {
		wait.Add(1)
		go func() {
			defer wait.Done()
			v := &verifier{store: s, names: names, buf: make([]byte, 256<<10)}
			for c := range jobs {
				v.component(c)
				mu.Lock()
				if done++; progress != nil {
					progress(done, len(list))
				}
				mu.Unlock()
			}
			mu.Lock()
			defer mu.Unlock()
			report.Files += v.files
			report.Bytes += v.bytes
			report.Faults = append(report.Faults, v.faults...)
		}()
	}
	for _, c := range list {
		if ctx.Err() != nil {
			break
		}
		jobs <- c
	}
	close(jobs)
	wait.Wait()
	sort.Slice(report.Faults, func(i, k int) bool { return report.Faults[i].String() < report.Faults[k].String() })
	return report, ctx.Err()
}

type verifier struct {
	store  Store
	names  map[string]bool
	buf    []byte
	files  int
	bytes  int64
	faults []Fault
}

func (v *verifier) component(c Component) {
	at := func(kind string) *Fault {
		v.faults = append(v.faults, Fault{Kind: kind, Component: c.Name, Version: c.Version})
		return &v.faults[len(v.faults)-1]
	}
	m, err := v.store.Manifest(c)
	if err != nil {
		kind := ManifestDamaged
		if errors.Is(err, fs.ErrNotExist) {
			kind = ManifestMissing
		}
		f := at(kind)
		f.Want, f.Got = c.Manifest, err.Error()
		return
	}
	for _, need := range m.Needs {
		if !v.names[need] {
			at(DependencyMissing).Want = need
		}
	}
	for _, file := range m.Files {
		v.files++
		v.check(at, file, func() (io.ReadCloser, error) {
			return v.store.Payload(file.Payload)
		}, PayloadMissing, PayloadAltered)
		if file.Protected {
			v.check(at, file, func() (io.ReadCloser, error) {
				return v.store.Projected(file.Path)
			}, ProtectedMissing, ProtectedAltered)
		}
	}
}

func (v *verifier) check(
	at func(string) *Fault, file File, open func() (io.ReadCloser, error), missing, altered string,
) {
	got, n, err := v.sum(open)
	v.bytes += n
	kind := altered
	switch {
	case errors.Is(err, fs.ErrNotExist):
		kind, got = missing, ""
	case err != nil:
		kind, got = Unreadable, err.Error()
	case got == file.Payload:
		return
	}
	f := at(kind)
	f.Path, f.Want, f.Got = file.Path, file.Payload, got
}

func (v *verifier) sum(open func() (io.ReadCloser, error)) (string, int64, error) {
	in, err := open()
	if err != nil {
		return "", 0, err
	}
	h := v.store.NewHash()
	n, err := io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{in}, v.buf)
	if err = errors.Join(err, in.Close()); err != nil {
		return "", n, err
	}
	return v.store.Name(h.Sum(nil)), n, nil
}

// A Source can give payloads and manifests of one build.
type Source interface {
	Title() string
	Build() int
	// Payload is the bytes that a hash names; fs.ErrNotExist if it has none.
	Payload(ctx context.Context, hash string) ([]byte, error)
	// Manifest is the raw manifest of a component.
	Manifest(ctx context.Context, name, version string) ([]byte, error)
}

// A Writer is a store that can be repaired.
type Writer interface {
	Store
	PutPayload(hash string, data []byte) error
	PutManifest(c Component, raw []byte) error
	PutProjected(path string, data []byte) error
	PutIndex(build int, list []Component) error
}

var (
	// ErrOtherBuild means that all sources at hand are of another build.
	ErrOtherBuild = errors.New("no source of the machine's build")
	// ErrNotInSource means that no source has what is needed.
	ErrNotInSource = errors.New("no source has it")
)

// Repair puts right what Verify found, from the store itself where that is
// enough and else from the first source of the same build that has it. It
// returns in words what it did.
func Repair(ctx context.Context, w Writer, report *Verification, sources []Source) (done []string, err error) {
	r := &repairer{ctx: ctx, w: w, build: report.Build, sources: sources}
	if err := r.index(report); err != nil {
		return nil, err
	}
	for pass := 0; pass < 4; pass++ { // a manifest that is back may list what is missing too
		fresh, err := Verify(ctx, w, 1, nil)
		if err != nil || len(fresh.Faults) == 0 {
			return r.done, err
		}
		r.order(fresh.Faults)
		for _, f := range fresh.Faults {
			if err := r.fault(f); err != nil {
				return nil, fmt.Errorf("%s: %w", f, err)
			}
		}
	}
	return nil, errors.New("store: still not whole after four passes")
}

type repairer struct {
	ctx     context.Context //nolint:containedctx // lives as long as one call
	w       Writer
	build   int
	sources []Source
	done    []string
}

// order puts payloads before the files that are made from them.
func (r *repairer) order(list []Fault) {
	rank := map[string]int{
		ManifestMissing:   0,
		ManifestDamaged:   0,
		DependencyMissing: 1,
		PayloadMissing:    2,
		PayloadAltered:    2,
	}
	sort.SliceStable(list, func(i, k int) bool {
		a, known := rank[list[i].Kind]
		if !known {
			a = 3
		}
		b, known := rank[list[k].Kind]
		if !known {
			b = 3
		}
		return a < b
	})
}

func (r *repairer) index(report *Verification) error {
	for _, f := range report.Faults {
		if f.Kind == IndexDamaged {
			return fmt.Errorf("the index of the store is damaged: %s: return to a checkpoint, or reinstall", f.Got)
		}
	}
	return nil
}

// fits lists the sources of the machine's build.
func (r *repairer) fits() ([]Source, error) {
	var list []Source
	other := ""
	for _, s := range r.sources {
		if s.Build() == r.build {
			list = append(list, s)
		} else {
			other += fmt.Sprintf("; %s is of build %d", s.Title(), s.Build())
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%w %d%s", ErrOtherBuild, r.build, other)
	}
	return list, nil
}

func (r *repairer) fault(f Fault) error {
	switch f.Kind {
	case ManifestMissing, ManifestDamaged:
		return r.manifest(Component{Name: f.Component, Version: f.Version, Manifest: f.Want})
	case DependencyMissing:
		return r.dependency(f.Want)
	case PayloadMissing, PayloadAltered:
		data, from, err := r.payload(f.Want)
		if err != nil {
			return err
		}
		r.did("payload %s of %s from %s", f.Want, f.Component, from)
		return r.w.PutPayload(f.Want, data)
	case ProtectedMissing, ProtectedAltered:
		data, err := r.own(f.Want)
		if err != nil {
			return err
		}
		r.did("%s from its payload", f.Path)
		return r.w.PutProjected(f.Path, data)
	}
	return errors.New("the disk cannot be read there: copy it before anything else")
}

func (r *repairer) did(format string, a ...any) { r.done = append(r.done, fmt.Sprintf(format, a...)) }

// own reads a payload of the store itself, which is whole by now.
func (r *repairer) own(hash string) ([]byte, error) {
	in, err := r.w.Payload(hash)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(in)
	return data, errors.Join(err, in.Close())
}

// payload looks first among the files of the running system: a protected file
// is a copy of its payload.
func (r *repairer) payload(hash string) ([]byte, string, error) {
	if data := r.fromSystem(hash); data != nil {
		return data, "the running system's own copy", nil
	}
	list, err := r.fits()
	if err != nil {
		return nil, "", err
	}
	for _, s := range list {
		data, err := s.Payload(r.ctx, hash)
		if err == nil && r.named(data) == hash {
			return data, s.Title(), nil
		}
	}
	return nil, "", fmt.Errorf("%w: payload %s", ErrNotInSource, hash)
}

func (r *repairer) named(data []byte) string {
	h := r.w.NewHash()
	_, _ = h.Write(data) // never fails
	return r.w.Name(h.Sum(nil))
}

func (r *repairer) fromSystem(hash string) []byte {
	_, list, err := r.w.Index()
	if err != nil {
		return nil
	}
	for _, c := range list {
		m, err := r.w.Manifest(c)
		if err != nil {
			continue
		}
		for _, f := range m.Files {
			if f.Payload != hash {
				continue
			}
			in, err := r.w.Projected(f.Path)
			if err != nil {
				continue
			}
			data, err := io.ReadAll(in)
			if errors.Join(err, in.Close()) == nil && r.named(data) == hash {
				return data
			}
		}
	}
	return nil
}

func (r *repairer) manifest(c Component) error {
	list, err := r.fits()
	if err != nil {
		return err
	}
	for _, s := range list {
		raw, err := s.Manifest(r.ctx, c.Name, c.Version)
		if err == nil && r.named(raw) == c.Manifest {
			r.did("manifest of %s %s from %s", c.Name, c.Version, s.Title())
			return r.w.PutManifest(c, raw)
		}
	}
	return fmt.Errorf("%w: manifest of %s %s", ErrNotInSource, c.Name, c.Version)
}

// dependency puts a component back into the index: by its manifest in the
// store, if that is there, else by that of a source.
func (r *repairer) dependency(name string) error {
	build, list, err := r.w.Index()
	if err != nil {
		return err
	}
	sources, err := r.fits()
	if err != nil {
		return err
	}
	for _, s := range sources {
		raw, err := s.Manifest(r.ctx, name, "")
		if err != nil {
			continue
		}
		c, err := r.version(raw, name)
		if err != nil {
			continue
		}
		if err := r.w.PutManifest(c, raw); err != nil {
			return err
		}
		r.did("%s %s into the index, by %s", name, c.Version, s.Title())
		return r.w.PutIndex(build, append(list, c))
	}
	return fmt.Errorf("%w: component %s", ErrNotInSource, name)
}

// A Parser of raw manifests tells what component one is of. A Writer that is
// one can take components into its index.
type Parser interface {
	Parse(raw []byte) (*Manifest, error)
}

func (r *repairer) version(raw []byte, name string) (Component, error) {
	p, ok := r.w.(Parser)
	if !ok {
		return Component{}, errors.New("this kind of store does not take components into its index")
	}
	m, err := p.Parse(raw)
	if err != nil || m.Name != name {
		return Component{}, fmt.Errorf("manifest of %s: %w", name, err)
	}
	m.Component.Manifest = r.named(raw)
	return m.Component, nil
}
