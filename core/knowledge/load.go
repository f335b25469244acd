package knowledge

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml"

	"diorthos/core/catalogue"
	"diorthos/core/codes"
	"diorthos/core/reading"
)

// Knowledge is one loaded body of knowledge. It does not change and is safe
// for concurrent use.
type Knowledge struct {
	Version    string // changes whenever a file does
	Dialects   []*reading.Dialect
	Lexicon    *reading.Lexicon
	Codes      *codes.Table
	Causes     map[string]*Cause
	Signatures []*Signature
	Remedies   map[string]*Remedy
	Releases   []*Release // the newest first
	Checks     []*Check
	languages  []reading.Language
	Reader     *reading.Reader // reads logs and watches for all signatures
}

// Load reads and checks every YAML file below the shipped knowledge and the
// site's own folders, of which a file takes the place of an earlier one of the
// same name. Unknown fields, broken patterns and names that lead nowhere are
// errors. A code family may also be a table, see [ReadCodeTable].
func Load(shipped fs.FS, site ...fs.FS) (*Knowledge, error) {
	k := &Knowledge{Lexicon: &reading.Lexicon{}, Causes: map[string]*Cause{}, Remedies: map[string]*Remedy{}}
	var families []codes.Family
	sum := sha256.New()
	where := map[string]fs.FS{}
	for _, files := range append([]fs.FS{shipped}, site...) {
		err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && (path.Ext(name) == ".yaml" || path.Ext(name) == ".csv") {
				where[name] = files
			}
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("knowledge: %w", err)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(where)) {
		text, err := fs.ReadFile(where[name], name)
		if err != nil {
			return nil, fmt.Errorf("knowledge: %w", err)
		}
		_, _ = fmt.Fprintf(sum, "%s %d\n", name, len(text))
		_, _ = sum.Write(text)
		if err := k.file(name, text, &families); err != nil {
			return nil, err
		}
	}
	var err error
	k.Version = hex.EncodeToString(sum.Sum(nil))[:12]
	if k.Codes, err = codes.NewTable(families); err != nil {
		return nil, fmt.Errorf("knowledge: %w", err)
	}
	for _, f := range families {
		for _, e := range f.Entries {
			if f.Sounds { // programs print these texts where they have no words of their own
				k.Lexicon.Errors = append(k.Lexicon.Errors, e.Text)
			}
		}
	}
	if err := k.link(); err != nil {
		return nil, err
	}
	if k.Reader, err = reading.NewReader(k.Dialects, k.Lexicon, k.watches()); err != nil {
		return nil, fmt.Errorf("knowledge: %w", err)
	}
	k.Reader.Learn(k.languages, func(language string) [][]catalogue.Message {
		var lists [][]catalogue.Message
		for _, files := range append([]fs.FS{shipped}, site...) {
			lists = append(lists, catalogues(files, language)...)
		}
		return lists
	})
	return k, nil
}

// catalogues reads those of one language. One that is damaged is left out: it
// can only make messages known.
func catalogues(files fs.FS, language string) (lists [][]catalogue.Message) {
	names, _ := fs.Glob(files, path.Join("catalogues", language, "*.mo")) // the pattern is right
	for _, name := range names {
		raw, err := fs.ReadFile(files, name)
		if err != nil {
			continue
		}
		if list, err := catalogue.Read(raw); err == nil {
			lists = append(lists, list)
		}
	}
	return lists
}

// file reads one file into the place that its folder says.
func (k *Knowledge) file(name string, text []byte, families *[]codes.Family) error {
	switch folder, _, _ := strings.Cut(name, "/"); folder {
	case "lexicon.yaml":
		return decode(name, text, k.Lexicon)
	case "languages.yaml":
		var doc struct {
			Languages []reading.Language `yaml:"languages"`
		}
		err := decode(name, text, &doc)
		k.languages = append(k.languages, doc.Languages...)
		return err
	case "dialects":
		d := &reading.Dialect{}
		k.Dialects = append(k.Dialects, d)
		return decode(name, text, d)
	case "codes":
		var f codes.Family
		if path.Ext(name) == ".csv" {
			f, err := ReadCodeTable(name, text)
			*families = append(*families, f)
			return err
		}
		err := decode(name, text, &f)
		*families = append(*families, f)
		return err
	case "causes":
		var doc struct {
			Family string   `yaml:"family"` // of systems for which all of them are; empty for any
			Causes []*Cause `yaml:"causes"`
		}
		if err := decode(name, text, &doc); err != nil {
			return err
		}
		for _, c := range doc.Causes {
			if k.Causes[c.ID] != nil {
				return fmt.Errorf("%s: cause %q is there twice", name, c.ID)
			}
			c.file = name
			c.Family = doc.Family
			k.Causes[c.ID] = c
		}
	case "signatures":
		var doc struct {
			Signatures []*Signature `yaml:"signatures"`
		}
		if err := decode(name, text, &doc); err != nil {
			return err
		}
		for _, s := range doc.Signatures {
			s.file = name
		}
		k.Signatures = append(k.Signatures, doc.Signatures...)
	case "releases":
		r := &Release{file: name}
		k.Releases = append(k.Releases, r)
		return decode(name, text, r)
	case "checks":
		var doc struct {
			Checks []*Check `yaml:"checks"`
		}
		if err := decode(name, text, &doc); err != nil {
			return err
		}
		for _, c := range doc.Checks {
			c.file = name
		}
		k.Checks = append(k.Checks, doc.Checks...)
	case "remedies":
		var doc struct {
			Remedies []*Remedy `yaml:"remedies"`
		}
		if err := decode(name, text, &doc); err != nil {
			return err
		}
		for _, r := range doc.Remedies {
			if k.Remedies[r.ID] != nil {
				return fmt.Errorf("%s: remedy %q is there twice", name, r.ID)
			}
			r.file = name
			k.Remedies[r.ID] = r
		}
	default:
		return fmt.Errorf("%s: knowledge lies in dialects, codes, causes, signatures, remedies, releases or checks", name)
	}
	return nil
}

func decode(name string, text []byte, into any) error {
	if err := yaml.UnmarshalWithOptions(text, into, yaml.Strict()); err != nil {
		var at yaml.Error
		if errors.As(err, &at) && at.GetToken() != nil {
			return fmt.Errorf("%s:%d: %s", name, at.GetToken().Position.Line, at.GetMessage())
		}
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// link checks that every name leads somewhere and compiles what is to be
// compiled.
func (k *Knowledge) link() error {
	for _, c := range k.Causes {
		if c.Title == "" || c.Tell == "" || c.Prior <= 0 || c.Prior >= 0.5 {
			return fmt.Errorf("%s: cause %q: needs title, tell and a prior above 0 and below 0.5", c.file, c.ID)
		}
		if c.Explains != ExplainsStart && c.Explains != ExplainsAttempt {
			return fmt.Errorf("%s: cause %q: explains %q: want %s or %s", c.file, c.ID, c.Explains, ExplainsStart, ExplainsAttempt)
		}
		for _, id := range c.Remedies {
			if k.Remedies[id] == nil {
				return fmt.Errorf("%s: cause %q: no remedy is called %q", c.file, c.ID, id)
			}
		}
	}
	env, err := newEnvironment()
	if err != nil {
		return err
	}
	for _, r := range k.Remedies {
		if err := r.check(env); err != nil {
			return fmt.Errorf("%s: remedy %q: %w", r.file, r.ID, err)
		}
	}
	for _, r := range k.Releases {
		if err := r.compile(env); err != nil {
			return fmt.Errorf("%s: release %q: %w", r.file, r.ID, err)
		}
	}
	sort.SliceStable(k.Releases, func(i, j int) bool { return k.Releases[i].Published > k.Releases[j].Published })
	for _, c := range k.Checks {
		if err := c.compile(env, k.Causes); err != nil {
			return fmt.Errorf("%s: check %q: %w", c.file, c.ID, err)
		}
	}
	for _, s := range k.Signatures {
		if k.Causes[s.Cause] == nil {
			return fmt.Errorf("%s: signature %q: no cause is called %q", s.file, s.ID, s.Cause)
		}
		if err := s.compile(env); err != nil {
			return fmt.Errorf("%s: signature %q: %w", s.file, s.ID, err)
		}
	}
	return nil
}

func (k *Knowledge) watches() []reading.Watch {
	var list []reading.Watch
	for _, s := range k.Signatures {
		for i, e := range s.Events {
			list = append(list, reading.Watch{ID: s.WatchID(i), Match: e.Match})
		}
	}
	for _, c := range k.Checks {
		if c.Seen != "" {
			list = append(list, reading.Watch{ID: c.WatchID(), Match: c.Seen})
		}
	}
	return list
}
