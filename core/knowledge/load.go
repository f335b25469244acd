package knowledge

import (
	"bytes"
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
	"github.com/klauspost/compress/gzip"

	"diorthos/core/action"
	"diorthos/core/boot"
	"diorthos/core/catalogue"
	"diorthos/core/codes"
	"diorthos/core/messages"
	"diorthos/core/reading"
)

// Knowledge is one loaded body of knowledge. It does not change and is safe
// for concurrent use.
type Knowledge struct {
	site       *site  // what outcomes at the site have taught; nil for nothing
	Version    string // changes whenever a file does
	Dialects   []*reading.Dialect
	Lexicon    *reading.Lexicon
	Healthy    reading.Templates // what runs printed that succeeded
	Codes      *codes.Table
	Kinds      map[string]*Kind
	Causes     map[string]*Cause
	Signatures []*Signature
	Remedies   map[string]*Remedy
	Releases   []*Release // the newest first
	Checks     []*Check
	Families   map[string]*Family
	Limits     Limits
	Mends      map[boot.Fault]action.ID // what mends a broken link of a chain
	Jobs       []Job
	Messages   []*messages.Message
	Book       *messages.Book // of all messages
	languages  []reading.Language
	Reader     *reading.Reader // reads logs and watches for all signatures

	messageFiles map[*messages.Message]string
}

// Load reads and checks every YAML file below the shipped knowledge and the
// site's own folders, of which a file takes the place of an earlier one of the
// same name. Unknown fields, broken patterns and names that lead nowhere are
// errors. A code family may also be a table, see [ReadCodeTable].
func Load(shipped fs.FS, site ...fs.FS) (*Knowledge, error) {
	k := &Knowledge{
		Lexicon:  &reading.Lexicon{},
		Healthy:  reading.Templates{},
		Kinds:    map[string]*Kind{},
		Causes:   map[string]*Cause{},
		Remedies: map[string]*Remedy{},
		Families: map[string]*Family{},

		messageFiles: map[*messages.Message]string{},
	}
	var families []codes.Family
	sum := sha256.New()
	where := map[string]fs.FS{}
	for _, files := range append([]fs.FS{shipped}, site...) {
		err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && slices.Contains([]string{".yaml", ".csv", ".gz"}, path.Ext(name)) {
				where[name] = files
			}
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("knowledge: %w", err)
		}
	}
	texts := map[string][]byte{}
	for _, name := range slices.Sorted(maps.Keys(where)) {
		text, err := fs.ReadFile(where[name], name)
		if err != nil {
			return nil, fmt.Errorf("knowledge: %w", err)
		}
		texts[name] = text
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
			if f.IsError { // programs print these texts where they have no words of their own
				k.Lexicon.Errors = append(k.Lexicon.Errors, e.Text)
			}
		}
	}
	if err := k.link(texts); err != nil {
		return nil, err
	}
	k.Book = messages.New(k.Messages)
	k.Reader, err = reading.NewReader(k.Dialects, k.Lexicon, k.Healthy, k.watches(), reading.Languages{
		Known: k.languages,
		Catalogues: func(language string) (lists [][]catalogue.Message) {
			for _, files := range append([]fs.FS{shipped}, site...) {
				lists = append(lists, catalogues(files, language)...)
			}
			return lists
		},
	})
	if err != nil {
		return nil, fmt.Errorf("knowledge: %w", err)
	}
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
	case "limits.yaml":
		var doc struct {
			Limits Limits `yaml:"limits"`
		}
		err := decode(name, text, &doc)
		k.Limits = doc.Limits
		return err
	case "kinds.yaml":
		var doc struct {
			Kinds []*Kind `yaml:"kinds"`
		}
		err := decode(name, text, &doc)
		for _, kind := range doc.Kinds {
			k.Kinds[kind.ID] = kind
		}
		return err
	case "jobs.yaml":
		var doc struct {
			Jobs []Job `yaml:"jobs"`
		}
		err := decode(name, text, &doc)
		k.Jobs = append(k.Jobs, doc.Jobs...)
		return err
	case "faults.yaml":
		var doc struct {
			Faults map[boot.Fault]action.ID `yaml:"faults"`
		}
		err := decode(name, text, &doc)
		k.Mends = doc.Faults
		return err
	case "languages.yaml":
		var doc struct {
			Languages []reading.Language `yaml:"languages"`
		}
		err := decode(name, text, &doc)
		k.languages = append(k.languages, doc.Languages...)
		return err
	case "healthy":
		return k.healthy(name, text)
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
	case "families":
		f := &Family{file: name}
		if err := decode(name, text, f); err != nil {
			return err
		}
		k.Families[f.ID] = f
	case "messages":
		var doc struct {
			Family   string              `yaml:"family"`
			Messages []*messages.Message `yaml:"messages"`
		}
		if err := decode(name, text, &doc); err != nil {
			return err
		}
		for _, m := range doc.Messages {
			m.Family = doc.Family
			k.messageFiles[m] = name
		}
		k.Messages = append(k.Messages, doc.Messages...)
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
		return fmt.Errorf(
			"%s: knowledge lies in dialects, codes, causes, signatures, remedies, releases, families, checks, "+
				"messages or healthy", name,
		)
	}
	return nil
}

// healthy reads templates of lines, packed with gzip.
func (k *Knowledge) healthy(name string, packed []byte) error {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	templates, err := reading.ReadTemplates(z)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	maps.Copy(k.Healthy, templates)
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
// compiled. Errors name the file and, where it can be told, the line.
func (k *Knowledge) link(texts map[string][]byte) error {
	at := func(file, what, id string, err error) error {
		if err == nil {
			return nil
		}
		return fmt.Errorf("%s: %s %q: %w", placeOf(file, texts[file], id, err), what, id, err)
	}
	for _, c := range k.Causes {
		if err := at(c.file, "cause", c.ID, k.checkCause(c)); err != nil {
			return err
		}
	}
	env, err := newEnvironment()
	if err != nil {
		return err
	}
	for _, r := range k.Remedies {
		if err := at(r.file, "remedy", r.ID, r.check(env, k.Remedies)); err != nil {
			return err
		}
	}
	for _, r := range k.Releases {
		if err := at(r.file, "release", r.ID, r.compile(env)); err != nil {
			return err
		}
	}
	sort.SliceStable(k.Releases, func(i, j int) bool { return k.Releases[i].Published > k.Releases[j].Published })
	for _, f := range k.Families {
		if err := at(f.file, "family", f.ID, f.check(k.Releases, k.Remedies)); err != nil {
			return err
		}
	}
	for _, c := range k.Checks {
		if err := at(c.file, "check", c.ID, c.compile(env, k.Causes)); err != nil {
			return err
		}
	}
	known := map[string]bool{}
	for _, m := range k.Messages {
		err := k.checkMessage(m)
		if known[m.ID] {
			err = errors.New("is there twice")
		}
		known[m.ID] = true
		if err := at(k.messageFiles[m], "message", m.ID, err); err != nil {
			return err
		}
	}
	for _, s := range k.Signatures {
		err := s.compile(env)
		if k.Causes[s.Cause] == nil {
			err = fmt.Errorf("no cause is called %q", s.Cause)
		}
		if err := at(s.file, "signature", s.ID, err); err != nil {
			return err
		}
	}
	return errors.Join(k.Limits.check(), checkKinds(k.Kinds), k.checkMends(), k.checkJobs())
}

func (k *Knowledge) checkMessage(m *messages.Message) error {
	if m.ID == "" || m.Says == "" || m.By == "" || m.At == "" {
		return errors.New("needs id, says, by and at")
	}
	if m.When != ExplainsStart && m.When != ExplainsAttempt {
		return fmt.Errorf("when %q: want %s or %s", m.When, ExplainsStart, ExplainsAttempt)
	}
	sum := 0.0
	for id, share := range m.Causes {
		if k.Causes[id] == nil {
			return fmt.Errorf("no cause is called %q", id)
		}
		sum += share
	}
	if sum > 1.001 {
		return fmt.Errorf("its causes have %.2f of all failures together: at most 1", sum)
	}
	return nil
}

func (k *Knowledge) checkCause(c *Cause) error {
	if c.Title == "" || c.Tell == "" || c.Prior <= 0 || c.Prior >= 0.5 {
		return errors.New("needs title, tell and a prior above 0 and below 0.5")
	}
	if c.Explains != ExplainsStart && c.Explains != ExplainsAttempt {
		return fmt.Errorf("explains %q: want %s or %s", c.Explains, ExplainsStart, ExplainsAttempt)
	}
	if c.Kind != "" && k.Kinds[c.Kind] == nil {
		return fmt.Errorf("kind %q: want one of %v", c.Kind, slices.Sorted(maps.Keys(k.Kinds)))
	}
	for _, id := range c.Remedies {
		if k.Remedies[id] == nil {
			return fmt.Errorf("no remedy is called %q", id)
		}
	}
	return nil
}

// checkMends looks whether faults and actions of faults.yaml are there.
func (k *Knowledge) checkMends() error {
	for fault, id := range k.Mends {
		if !slices.Contains(boot.Faults(), fault) {
			return fmt.Errorf("faults.yaml: no link of a chain has the fault %q", fault)
		}
		if a, ok := action.Named(id); !ok || a.ID != id {
			return fmt.Errorf("faults.yaml: %s: no action is called %q", fault, id)
		}
	}
	return nil
}

// placeOf is the file, with the line of an expression that does not compile, or
// else of what is called id.
func placeOf(file string, text []byte, id string, err error) string {
	var bad *expressionError
	at := -1
	if errors.As(err, &bad) {
		first, _, _ := strings.Cut(bad.text, "\n")
		at = bytes.Index(text, []byte(first))
	}
	if at < 0 {
		at = max(bytes.Index(text, []byte("id: "+id)), bytes.Index(text, []byte("id: '"+id+"'")))
	}
	if at < 0 {
		return file
	}
	return fmt.Sprintf("%s:%d", file, 1+bytes.Count(text[:at], []byte("\n")))
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
