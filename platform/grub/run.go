package grub

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
)

// A Volume is one that GRUB can read from.
type Volume struct {
	Device string // as GRUB calls it, without its disk's other names: hd0,gpt2
	UUID   string
	Label  string
	Files  fs.FS // nil where the file system cannot be read
}

// Begin says how a loader begins.
type Begin struct {
	Device string // of the volume that its prefix is on
	Prefix string // folder of its files there
	Config string // its first commands; empty to read grub.cfg in the prefix
	UEFI   bool
}

// A File is one on a volume.
type File struct {
	Volume *Volume
	Path   string // without a slash before it
}

func (f File) String() string { return fmt.Sprintf("(%s)/%s", f.Volume.Device, f.Path) }

// A Missing is the first command that fails.
type Missing struct {
	File string // of the configuration
	Line int
	What string // the command
	Why  string
}

func (m *Missing) String() string {
	if m.Line == 0 {
		return m.What + ": " + m.Why
	}
	return fmt.Sprintf("%s line %d: %s: %s", m.File, m.Line, m.What, m.Why)
}

// A Start is what an entry loads.
type Start struct {
	Title     string
	ID        string
	Kernel    File // no volume where none is started
	Arguments string
	Early     []File
	Chain     string   // another loader that is started
	Missing   *Missing // the first command that fails; nil where none does
}

// An Entry of the menu.
type Entry struct {
	Title string
	ID    string
	Sub   []*Entry // of a submenu

	file  string
	block []statement
	args  []string
}

// A Menu is what a configuration offers.
type Menu struct {
	Entries []*Entry
	Files   []string // of the configuration that were read
	// Problem is why there is no menu: the loader stops at its prompt.
	Problem *Missing

	state *state
}

// Bounds of a run: a script can call itself.
const (
	maxSteps  = 200_000
	maxNested = 20
	maxConfig = 4 << 20 // bytes of one file
)

var errSteps = errors.New("the configuration does not end")

type state struct {
	volumes   []Volume
	vars      map[string]string
	functions map[string][]statement
	file      string // that is being run
	steps     int
	nested    int
	menu      *Menu
	into      *[]*Entry // where entries go
	start     *Start    // of the entry that is being run
	args      []string  // of the function that is being run
	normal    bool      // a configuration was read from a file
}

// Run runs a configuration over volumes and gives its menu.
func Run(volumes []Volume, b Begin) (*Menu, error) {
	s := &state{volumes: volumes, functions: map[string][]statement{}, vars: map[string]string{
		"root": b.Device, "prefix": "(" + b.Device + ")" + b.Prefix, "cmdpath": "(" + b.Device + ")",
		"grub_platform": "pc", "grub_cpu": "i386", "default": "0",
	}}
	if b.UEFI {
		s.vars["grub_platform"], s.vars["grub_cpu"] = "efi", "x86_64"
	}
	for _, f := range []string{
		"platform_search_hint", "menuentry_id", "all_video_module", "default_font_path", "menuentry_options", "200_final",
		"chainloader_bpb", "ntldr", "nativedisk_cmd", "timeout_style",
	} {
		s.vars["feature_"+f] = "y"
	}
	s.menu = &Menu{state: s}
	s.into = &s.menu.Entries
	var err error
	if b.Config != "" {
		s.file = "the loader's own commands"
		err = s.script(b.Config)
	}
	if err == nil && !s.normal && len(s.menu.Entries) == 0 { // what the loader does by itself
		_, err = s.configFile(s.vars["prefix"] + "/grub.cfg")
	}
	var syntax *SyntaxError
	switch {
	case errors.As(err, &syntax):
		s.menu.Problem = &Missing{File: s.file, Line: syntax.Line, What: "the configuration", Why: syntax.Want}
	case err != nil && !errors.Is(err, errSteps):
		s.menu.Problem = &Missing{File: s.file, What: "the configuration", Why: err.Error()}
	case err != nil:
		return s.menu, err
	case len(s.menu.Entries) == 0:
		s.menu.Problem = &Missing{File: s.file, What: "the configuration", Why: "it has no entry"}
	}
	return s.menu, nil
}

func (s *state) script(text string) error {
	list, err := parse(text)
	if err != nil {
		return err
	}
	_, err = s.all(list)
	return err
}

// configFile runs another file of configuration.
func (s *state) configFile(name string) (bool, error) {
	if s.nested++; s.nested > maxNested {
		return false, errSteps
	}
	defer func() { s.nested-- }()
	f, err := s.find(name)
	if err != nil {
		return false, err
	}
	info, err := fs.Stat(f.Volume.Files, f.Path)
	if err != nil || info.Size() > maxConfig {
		return false, fmt.Errorf("%s is not there, or too large", f)
	}
	raw, err := fs.ReadFile(f.Volume.Files, f.Path)
	if err != nil {
		return false, fmt.Errorf("%s: %w", f, err)
	}
	before := s.file
	s.file, s.normal = f.String(), true
	s.menu.Files = append(s.menu.Files, s.file)
	if err := s.script(string(raw)); err != nil {
		return false, err // the file's name stays: it is the one at fault
	}
	s.file = before
	return true, nil
}

// all runs statements; ok is how the last ended.
func (s *state) all(list []statement) (ok bool, err error) {
	ok = true
	for _, one := range list {
		if s.steps++; s.steps > maxSteps {
			return false, errSteps
		}
		if ok, err = s.one(one); err != nil {
			return ok, err
		}
	}
	return ok, nil
}

func (s *state) one(one statement) (bool, error) {
	switch one.kind {
	case "if":
		for i, test := range one.tests {
			if yes, err := s.all(test); yes || err != nil {
				if err != nil {
					return false, err
				}
				return s.all(one.bodies[i])
			}
		}
		if len(one.bodies) > len(one.tests) {
			return s.all(one.bodies[len(one.tests)])
		}
		return true, nil
	case "for":
		for _, value := range s.expandAll(one.words) {
			s.vars[one.variable] = value
			if _, err := s.all(one.bodies[0]); err != nil {
				return false, err
			}
		}
		return true, nil
	case "while", "until":
		for {
			yes, err := s.all(one.tests[0])
			if err != nil || yes != (one.kind == "while") {
				return true, err
			}
			if s.steps++; s.steps > maxSteps {
				return false, errSteps
			}
			if _, err := s.all(one.bodies[0]); err != nil {
				return false, err
			}
		}
	}
	return s.command(one)
}

func (s *state) expandAll(words []word) (list []string) {
	for _, w := range words {
		list = append(list, s.expand(w)...)
	}
	return list
}

// expand gives the words that a word becomes: none for an empty variable, several for one
// with spaces.
func (s *state) expand(w word) []string {
	var out []string
	current, any := "", false
	for _, p := range w {
		text := p.text
		if p.variable {
			text = s.value(p.text)
		}
		if p.quoted || !p.variable {
			current, any = current+text, true
			continue
		}
		for i, part := range strings.Fields(text) {
			if i > 0 {
				out, current = append(out, current), ""
			}
			current, any = current+part, true
		}
	}
	if any {
		out = append(out, current)
	}
	return out
}

func (s *state) value(name string) string {
	if n, err := strconv.Atoi(name); err == nil {
		if n > 0 && n <= len(s.args) {
			return s.args[n-1]
		}
		return ""
	}
	switch name {
	case "@", "*":
		return strings.Join(s.args, " ")
	case "#":
		return strconv.Itoa(len(s.args))
	}
	return s.vars[name]
}

// errNoVolume means that a device is none of those that are there.
var errNoVolume = errors.New("no such device")

// find takes a name of a file apart: with a device before it, or on the root.
func (s *state) find(name string) (File, error) {
	device, rest := s.vars["root"], name
	if strings.HasPrefix(name, "(") {
		end := strings.IndexByte(name, ')')
		if end < 0 {
			return File{}, fmt.Errorf("%q names no file", name)
		}
		device, rest = name[1:end], name[end+1:]
		if device == "" {
			device = s.vars["root"]
		}
	}
	v := s.volume(device)
	if v == nil {
		return File{}, fmt.Errorf("%w: %s", errNoVolume, device)
	}
	if v.Files == nil {
		return File{}, fmt.Errorf("the file system of (%s) cannot be read", v.Device)
	}
	f := File{v, strings.TrimPrefix(path.Clean("/"+rest), "/")}
	if f.Path == "" {
		f.Path = "."
	}
	if _, err := fs.Stat(v.Files, f.Path); err != nil {
		return f, fmt.Errorf("file /%s is not on (%s)", f.Path, v.Device)
	}
	return f, nil
}

// volume knows a device by its name; partitions of the only disk also by their number alone.
func (s *state) volume(device string) *Volume {
	for i := range s.volumes {
		v := &s.volumes[i]
		_, part, _ := strings.Cut(v.Device, ",")
		disk, asked, ok := strings.Cut(device, ",")
		switch {
		case v.Device == device:
			return v
		case ok && (disk == "" || disk == "hd0") && asked == strings.TrimLeft(part, "gptmsdo"):
			return v
		case ok && disk == "" && asked == part:
			return v
		}
	}
	return nil
}
