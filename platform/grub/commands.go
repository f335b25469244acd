package grub

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
)

// quiet are commands that change nothing of what is started. Those that are not known
// at all fail, as they do in GRUB.
var quiet = []string{
	"insmod", "rmmod", "terminal_input", "terminal_output", "terminfo", "serial", "gfxmode", "load_video",
	"echo", "sleep", "clear", "play", "export", "keymap", "save_env", "true", "loadfont", "background_image",
	"background_color", "gettext", "videoinfo", "hwmatch", "fwsetup", "sendkey", "authenticate", "password",
	"password_pbkdf2", "acpi", "drivemap", "parttool", "nativedisk", "badram", "cutmem", "setparams",
	"color_normal", "color_highlight", "lockdown", "shim_lock", "tpm", "verifiers", "smbios", "rdmsr", "date",
	"lsmod", "devicetree", "uppermem",
}

func (s *state) command(one statement) (bool, error) {
	words := s.expandAll(one.words)
	if len(words) == 0 {
		return true, nil
	}
	name, args := words[0], words[1:]
	if one.block != nil {
		return s.withBlock(one, name, args)
	}
	if body, ok := s.functions[name]; ok {
		return s.call(body, args)
	}
	if left, value, ok := strings.Cut(name, "="); ok && len(args) == 0 && left != "" { // NAME=VALUE by itself
		s.vars[left] = value
		return true, nil
	}
	fail := func(why string) (bool, error) {
		if s.start != nil && s.start.Missing == nil {
			s.start.Missing = &Missing{s.file, one.line, strings.Join(words, " "), why}
		}
		return false, nil
	}
	switch name {
	case "set":
		for _, a := range args {
			left, value, _ := strings.Cut(a, "=")
			s.vars[left] = value
		}
		return true, nil
	case "unset":
		for _, a := range args {
			delete(s.vars, a)
		}
		return true, nil
	case "[", "test":
		if name == "[" && len(args) > 0 && args[len(args)-1] == "]" {
			args = args[:len(args)-1]
		}
		return s.test(args), nil
	case "false":
		return false, nil
	case "!":
		ok, err := s.words(args)
		return !ok, err
	case "search", "search.fs_uuid", "search.fs_label", "search.file":
		if !s.search(name, args) {
			return fail(errNoVolume.Error())
		}
		return true, nil
	case "load_env":
		s.loadEnv(args)
		return true, nil
	case "configfile", "source", ".", "normal", "extract_entries_configfile":
		return s.otherFile(name, args, fail)
	case "linux", "linux16", "linuxefi", "kernel":
		return s.kernel(args, fail)
	case "initrd", "initrd16", "initrdefi":
		return s.early(args, fail)
	case "chainloader":
		return s.chain(args, fail)
	}
	return slices.Contains(quiet, name), nil
}

func (s *state) words(args []string) (bool, error) {
	var list []word
	for _, a := range args {
		list = append(list, word{{text: a, quoted: true}})
	}
	return s.command(statement{words: list})
}

// withBlock takes an entry, a submenu or a function in.
func (s *state) withBlock(one statement, name string, args []string) (bool, error) {
	switch name {
	case "function":
		if len(args) == 1 {
			s.functions[args[0]] = one.block
		}
		return true, nil
	case "menuentry", "submenu":
	default:
		return false, nil
	}
	e := &Entry{file: s.file, block: one.block, args: slices.Clone(s.args)}
	for i := 0; i < len(args); i++ {
		switch a := args[i]; {
		case a == "--id" || a == "--class" || a == "--users" || a == "--hotkey" || a == "--source":
			if i++; a == "--id" && i < len(args) {
				e.ID = args[i]
			}
		case strings.HasPrefix(a, "--id="):
			e.ID = strings.TrimPrefix(a, "--id=")
		case strings.HasPrefix(a, "--"):
		case e.Title == "":
			e.Title = a
		}
	}
	*s.into = append(*s.into, e)
	if name == "submenu" {
		outer := s.into
		s.into = &e.Sub
		_, err := s.all(one.block)
		s.into = outer
		e.block = nil
		return true, err
	}
	return true, nil
}

func (s *state) call(body []statement, args []string) (bool, error) {
	if s.nested++; s.nested > maxNested {
		return false, errSteps
	}
	outer := s.args
	s.args = args
	ok, err := s.all(body)
	s.args = outer
	s.nested--
	return ok, err
}

func (s *state) test(args []string) bool {
	for i, a := range args { // the weaker first
		if a == "-o" || a == "||" {
			return s.test(args[:i]) || s.test(args[i+1:])
		}
	}
	for i, a := range args {
		if a == "-a" || a == "&&" {
			return s.test(args[:i]) && s.test(args[i+1:])
		}
	}
	if len(args) > 0 && args[0] == "!" {
		return !s.test(args[1:])
	}
	switch len(args) {
	case 1:
		return args[0] != ""
	case 2:
		return s.testFile(args[0], args[1])
	case 3:
		return compare(args[0], args[1], args[2])
	}
	return false
}

func (s *state) testFile(how, name string) bool {
	switch how {
	case "-n":
		return name != ""
	case "-z":
		return name == ""
	}
	f, err := s.find(name)
	if err != nil {
		return false
	}
	info, err := fs.Stat(f.Volume.Files, f.Path)
	if err != nil {
		return false
	}
	switch how {
	case "-d":
		return info.IsDir()
	case "-s":
		return info.Size() > 0
	case "-f":
		return !info.IsDir()
	}
	return how == "-e"
}

func compare(a, how, b string) bool {
	switch how {
	case "=", "==":
		return a == b
	case "!=":
		return a != b
	case "<":
		return a < b
	case ">":
		return a > b
	}
	x, errX := strconv.ParseInt(a, 10, 64)
	y, errY := strconv.ParseInt(b, 10, 64)
	if errX != nil || errY != nil {
		return false
	}
	switch how {
	case "-eq":
		return x == y
	case "-ne":
		return x != y
	case "-lt":
		return x < y
	case "-le":
		return x <= y
	case "-gt":
		return x > y
	case "-ge":
		return x >= y
	}
	return false
}

// search finds a volume by what is on it and puts its name into a variable.
func (s *state) search(name string, args []string) bool {
	by, variable, wanted := strings.TrimPrefix(name, "search."), "root", ""
	if name == "search" {
		by = "file"
	}
	for i := 0; i < len(args); i++ {
		switch a := args[i]; {
		case a == "--fs-uuid" || a == "-u":
			by = "fs_uuid"
		case a == "--label" || a == "-l" || a == "--fs-label":
			by = "fs_label"
		case a == "--file" || a == "-f":
			by = "file"
		case strings.HasPrefix(a, "--set="):
			variable = strings.TrimPrefix(a, "--set=")
		case a == "--set" || a == "-s":
			if i+1 < len(args) && !strings.HasPrefix(args[i+1], "-") && i+2 < len(args) {
				i++
				variable = args[i]
			}
		case a == "--hint" || a == "-h":
			i++
		case strings.HasPrefix(a, "-"):
		case wanted == "":
			wanted = a
		case name != "search": // its variable, then hints
			variable = a
			i = len(args)
		}
	}
	for i := range s.volumes {
		v := &s.volumes[i]
		found := by == "fs_uuid" && strings.EqualFold(v.UUID, wanted) || by == "fs_label" && v.Label == wanted
		if by == "file" && v.Files != nil {
			_, err := fs.Stat(v.Files, strings.TrimPrefix(path.Clean("/"+wanted), "/"))
			found = err == nil
		}
		if found && wanted != "" {
			s.vars[variable] = v.Device
			return true
		}
	}
	return false
}

// loadEnv reads the variables that are kept between starts.
func (s *state) loadEnv(args []string) {
	name := s.vars["prefix"] + "/grubenv"
	for i, a := range args {
		if (a == "-f" || a == "--file") && i+1 < len(args) {
			name = args[i+1]
		}
	}
	f, err := s.find(name)
	if err != nil {
		return
	}
	raw, err := fs.ReadFile(f.Volume.Files, f.Path)
	if err != nil || !strings.HasPrefix(string(raw), "# GRUB Environment Block\n") {
		return
	}
	for _, line := range strings.Split(string(raw), "\n") {
		if left, value, ok := strings.Cut(line, "="); ok && !strings.HasPrefix(line, "#") {
			s.vars[left] = value
		}
	}
}

type failing func(why string) (bool, error)

func (s *state) otherFile(how string, args []string, fail failing) (bool, error) {
	name := s.vars["prefix"] + "/grub.cfg"
	if len(args) > 0 {
		name = args[0]
	}
	if _, err := s.find(name); err != nil {
		if s.start == nil && how == "configfile" {
			return false, err // the loader's prompt
		}
		return fail(err.Error())
	}
	return s.configFile(name)
}

func (s *state) kernel(args []string, fail failing) (bool, error) {
	if s.start == nil || len(args) == 0 {
		return true, nil
	}
	f, err := s.find(args[0])
	s.start.Arguments = strings.Join(args[1:], " ")
	if f.Volume != nil {
		s.start.Kernel = f
	}
	if err != nil {
		return fail(err.Error())
	}
	return true, nil
}

func (s *state) early(args []string, fail failing) (bool, error) {
	if s.start == nil {
		return true, nil
	}
	if s.start.Kernel.Volume == nil {
		return fail("a kernel has to be loaded first")
	}
	for _, a := range args {
		f, err := s.find(a)
		if f.Volume != nil {
			s.start.Early = append(s.start.Early, f)
		}
		if err != nil {
			return fail(err.Error())
		}
	}
	return true, nil
}

func (s *state) chain(args []string, fail failing) (bool, error) {
	if s.start == nil || len(args) == 0 {
		return true, nil
	}
	name := args[len(args)-1]
	s.start.Chain = name
	if strings.HasPrefix(name, "+") || strings.HasSuffix(name, ")+1") { // a boot sector
		return true, nil
	}
	if _, err := s.find(name); err != nil {
		return fail(err.Error())
	}
	return true, nil
}

// Default is what is started when nobody chooses. It is nil where there is no menu.
func (m *Menu) Default() *Start {
	start := m.Try(m.state.vars["default"])
	if start == nil && len(m.Entries) > 0 { // GRUB takes the first where the default is not there
		start = m.Try("0")
	}
	if start != nil && start.Missing != nil && m.state.vars["fallback"] != "" {
		for _, name := range strings.Fields(m.state.vars["fallback"]) {
			if other := m.Try(name); other != nil && other.Missing == nil {
				return other
			}
		}
	}
	return start
}

// DefaultName is what the configuration calls the entry that is started.
func (m *Menu) DefaultName() string { return m.state.vars["default"] }

// Has reports whether there is an entry of that name, number or path.
func (m *Menu) Has(name string) bool { return choose(m.Entries, name) != nil }

// Try runs an entry by its number, title or name, one in a submenu by a path "1>2". It is
// nil where there is none.
func (m *Menu) Try(name string) *Start {
	e := choose(m.Entries, name)
	if e == nil {
		return nil
	}
	return m.run(e)
}

func (m *Menu) run(e *Entry) *Start {
	s := *m.state
	s.vars = map[string]string{}
	for k, v := range m.state.vars {
		s.vars[k] = v
	}
	s.vars["chosen"] = e.Title
	s.start, s.file, s.args, s.steps = &Start{Title: e.Title, ID: e.ID}, e.file, e.args, 0
	var nothing []*Entry
	s.into = &nothing
	if _, err := s.all(e.block); err != nil && s.start.Missing == nil {
		s.start.Missing = &Missing{File: e.file, What: e.Title, Why: err.Error()}
	}
	if s.start.Missing == nil && s.start.Kernel.Volume == nil && s.start.Chain == "" {
		s.start.Missing = &Missing{File: e.file, What: e.Title, Why: "the entry starts nothing"}
	}
	return s.start
}

// Starts runs every entry, those of submenus too.
func (m *Menu) Starts() (list []*Start) {
	var walk func([]*Entry)
	walk = func(entries []*Entry) {
		for _, e := range entries {
			if e.Sub != nil {
				walk(e.Sub)
			} else {
				list = append(list, m.run(e))
			}
		}
	}
	walk(m.Entries)
	return list
}

func choose(list []*Entry, name string) *Entry {
	first, rest, deeper := strings.Cut(name, ">")
	for i, e := range list {
		if e.ID != "" && e.ID == first || e.Title == first || strconv.Itoa(i) == strings.TrimSpace(first) {
			switch {
			case e.Sub == nil:
				return e
			case deeper:
				return choose(e.Sub, rest)
			}
			return choose(e.Sub, "0")
		}
	}
	return nil
}

var _ fmt.Stringer = (*Missing)(nil)
