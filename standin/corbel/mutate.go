package corbel

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
)

// A mutation is a change of which nobody says what it is good for. It returns what
// it did, in words, or nothing where it cannot be done.
type mutation struct {
	name string
	do   func(*mutant) (string, error)
}

var mutations = []mutation{
	{"delete", (*mutant).deleteFile},
	{"truncate", (*mutant).truncate},
	{"flip", (*mutant).flip},
	{"swap", (*mutant).swap},
	{"rename", (*mutant).rename},
	{"fill", (*mutant).fill},
	{"own", (*mutant).own},
	{"date", (*mutant).date},
	{"field", (*mutant).field},
	{"sectors", (*mutant).sectors},
}

// A mutant is the machine that is being changed.
type mutant struct {
	m *Machine
	v *volumes
	r *rand.Rand
	o Options
}

// Mutate changes one to three things at random, of the parts of the system alone:
// users' files stay as they are. It says what it changed.
func (m *Machine) Mutate(o Options) (did []string, err error) {
	r := rand.New(rand.NewPCG(o.Seed, 0x6d))
	n := 1 + r.IntN(3)
	last := -1
	for len(did) < n {
		// sectors come last: nobody writes files by a table that is damaged already
		i := max(r.IntN(len(mutations)), last)
		what := mutations[i]
		if what.name == "sectors" {
			last = i
		}
		err := m.change(o.Now.Add(-time.Hour), func(v *volumes) error {
			text, err := what.do(&mutant{m, v, r, o})
			if text != "" && err == nil {
				did = append(did, what.name+": "+text)
			}
			return err
		})
		if err != nil && len(did) > 0 { // what was changed before has left nothing to change
			break
		}
		if err != nil {
			return did, fmt.Errorf("mutate %s: %s: %w", m.Plate.Name, what.name, err)
		}
	}
	return did, m.SavePlate()
}

// volume picks the boot or, more often, the system volume.
func (t *mutant) volume() (*fat.Editor, string) {
	if t.v.boot != nil && t.r.IntN(4) == 0 {
		return t.v.boot, labelBoot
	}
	return t.v.sys, labelSystem
}

// kinds of files, so that the many payloads do not hide the few lists.
func kindOf(name string) string {
	switch {
	case strings.HasPrefix(name, corbelfile.UsersFolder+"/"), strings.HasPrefix(name, corbelfile.LogFolder+"/"),
		strings.HasPrefix(name, "KEPT"):
		return ""
	case strings.HasPrefix(name, corbelfile.CheckpointRoot):
		return "checkpoint"
	}
	return path.Dir(name)
}

// file picks a file of a volume: first the folder, then one in it.
func (t *mutant) file(v *fat.Editor) (name string, data []byte, err error) {
	byKind := map[string][]string{}
	err = fs.WalkDir(v, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return fs.SkipDir
		}
		if kind := kindOf(p); !d.IsDir() && kind != "" {
			byKind[kind] = append(byKind[kind], p)
		}
		return nil
	})
	if err != nil || len(byKind) == 0 {
		return "", nil, errors.Join(err, errors.New("no file is left"))
	}
	var kinds []string
	for k := range byKind {
		kinds = append(kinds, k)
	}
	sort.Strings(kinds)
	list := byKind[kinds[t.r.IntN(len(kinds))]]
	slices.Sort(list)
	name = list[t.r.IntN(len(list))]
	data, err = fs.ReadFile(v, name)
	return name, data, err
}

func (t *mutant) deleteFile() (string, error) {
	v, label := t.volume()
	name, _, err := t.file(v)
	if err != nil {
		return "", err
	}
	return label + " " + name, v.Remove(name)
}

func (t *mutant) truncate() (string, error) {
	v, label := t.volume()
	name, data, err := t.file(v)
	if err != nil || len(data) == 0 {
		return "", err
	}
	n := t.r.IntN(len(data))
	return fmt.Sprintf("%s %s to %d of %d bytes", label, name, n, len(data)), v.WriteFile(name, data[:n])
}

func (t *mutant) flip() (string, error) {
	v, label := t.volume()
	name, data, err := t.file(v)
	if err != nil || len(data) == 0 {
		return "", err
	}
	at := t.r.IntN(len(data))
	data[at] ^= 1 << t.r.IntN(8)
	return fmt.Sprintf("%s %s at byte %d", label, name, at), v.WriteFile(name, data)
}

func (t *mutant) swap() (string, error) {
	v, label := t.volume()
	a, x, err := t.file(v)
	if err != nil {
		return "", err
	}
	b, y, err := t.file(v)
	if err != nil || a == b {
		return "", err
	}
	return fmt.Sprintf("%s %s with %s", label, a, b), errors.Join(v.WriteFile(a, y), v.WriteFile(b, x))
}

func (t *mutant) rename() (string, error) {
	v, label := t.volume()
	name, _, err := t.file(v)
	if err != nil {
		return "", err
	}
	return label + " " + name, v.Rename(name, name+".old")
}

// fill leaves a volume hardly any room.
func (t *mutant) fill() (string, error) {
	v, label := t.volume()
	left := int64(t.r.IntN(600)) << 10
	size := v.Free() - left
	if size <= 0 {
		return "", nil
	}
	name := "stow.dat"
	if v == t.v.sys {
		name = path.Join(corbelfile.CacheFolder, "U7001.pack") // that nothing waits for
	}
	return fmt.Sprintf("%s by %s, %d KiB left", label, name, left>>10), v.WriteFile(name, make([]byte, size))
}

// own gives a branch of the settings to somebody else.
func (t *mutant) own() (string, error) {
	tree, err := settings(t.v.sys)
	if err != nil || len(tree.Branches) == 0 {
		return "", nil //nolint:nilerr // nothing to own in a tree that cannot be read
	}
	b := &tree.Branches[t.r.IntN(len(tree.Branches))]
	b.Owner = "user"
	return b.Name, t.v.sys.WriteFile(corbelfile.SettingsPath, tree.Bytes())
}

// date moves the machine's clock.
func (t *mutant) date() (string, error) {
	days := t.r.IntN(4000) - 2000
	t.m.Plate.Clock.Offset = int64(days) * 86400
	t.m.Plate.Network.TimeSync = t.r.IntN(2) == 0
	return fmt.Sprintf("the clock is %d days off", days), nil
}

// field changes one value of one list of the system's state.
func (t *mutant) field() (string, error) {
	files := []string{
		corbelfile.ReleasePath, corbelfile.ServicesPath, corbelfile.OffersPath, corbelfile.HistoryPath,
		corbelfile.FeaturesPath, corbelfile.DriversPath, corbelfile.ProgramsPath,
	}
	name := files[t.r.IntN(len(files))]
	raw, err := fs.ReadFile(t.v.sys, name)
	if err != nil {
		return "", nil //nolint:nilerr // it was taken away before
	}
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return "", nil
	}
	what := t.alter(&v, "")
	if what == "" {
		return "", nil
	}
	raw, err = json.MarshalIndent(v, "", " ")
	if err != nil {
		return "", err
	}
	return name + what, t.v.sys.WriteFile(name, append(raw, '\n'))
}

// alter goes down to one value and changes it.
func (t *mutant) alter(v *any, at string) string {
	switch x := (*v).(type) {
	case map[string]any:
		keys := make([]string, 0, len(x))
		for k := range x {
			keys = append(keys, k)
		}
		if len(keys) == 0 {
			return ""
		}
		sort.Strings(keys)
		k := keys[t.r.IntN(len(keys))]
		if t.r.IntN(8) == 0 {
			delete(x, k)
			return at + "." + k + " taken away"
		}
		inner := x[k]
		what := t.alter(&inner, at+"."+k)
		x[k] = inner
		return what
	case []any:
		if len(x) == 0 {
			return ""
		}
		i := t.r.IntN(len(x))
		if t.r.IntN(3) == 0 {
			*v = slices.Delete(x, i, i+1)
			return fmt.Sprintf("%s[%d] taken away", at, i)
		}
		return t.alter(&x[i], fmt.Sprintf("%s[%d]", at, i))
	case string:
		*v = []string{"", "other", x + "x", "off", "auto"}[t.r.IntN(5)]
	case float64:
		*v = []float64{0, x + 1, x - 1, -x}[t.r.IntN(4)]
	case bool:
		*v = !x
	default:
		*v = "something"
	}
	return fmt.Sprintf("%s is %v", at, *v)
}

// sectors overwrites a few sectors that no user's file lies in: of the table, of
// boot code, of a volume's own records.
func (t *mutant) sectors() (string, error) {
	end := t.v.draft.Size() / 512
	type stretch struct {
		what        string
		first, last int64
	}
	list := []stretch{
		{"sector 0", 0, 0},
		{"the primary table", 1, 33},
		{"the backup table", end - 33, end - 1},
	}
	for _, p := range t.v.parts {
		if layout.Recognise(block.NewReadRange(t.v.draft, p.Off, p.Length)).Label != labelPlans {
			list = append(list, stretch{fmt.Sprintf("the start of partition %d", p.Number), p.Off / 512, p.Off/512 + 40})
		}
	}
	s := list[t.r.IntN(len(list))]
	at := s.first + t.r.Int64N(s.last-s.first+1)
	n := 1 + t.r.Int64N(min(3, s.last-at+1))
	junk := make([]byte, 512*n)
	if t.r.IntN(2) == 0 {
		for i := range junk {
			junk[i] = byte(t.r.IntN(256))
		}
	}
	if _, err := t.v.draft.WriteAt(junk, at*512); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d of %s, from LBA %d", n, s.what, at), nil
}
