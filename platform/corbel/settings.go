package corbel

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/upkeep"
	"diorthos/platform/corbelfile"
)

// settings reads the tree, and the one that the release ships.
func (s *System) settings() (tree, shipped *corbelfile.Tree, err error) {
	raw, err := fs.ReadFile(s.sys, corbelfile.SettingsPath)
	if err != nil {
		return nil, nil, err
	}
	if tree, err = corbelfile.ReadTree(raw); err != nil {
		return nil, nil, err
	}
	if raw, err = fs.ReadFile(s.sys, corbelfile.SettingsShipped); err != nil {
		return nil, nil, err
	}
	shipped, err = corbelfile.ReadTree(raw)
	return tree, shipped, err
}

// SettingFaults compares the settings with what the release ships: branches
// that are damaged, that belong to somebody else, values that nothing can work
// with. A value that somebody chose is no fault.
func (s *System) SettingFaults() (list []bag.SettingFault, err error) {
	tree, shipped, err := s.settings()
	if err != nil {
		return nil, err
	}
	for _, want := range shipped.Branches {
		b := tree.Find(want.Name)
		switch {
		case b == nil:
			list = append(list, bag.SettingFault{Branch: want.Name, Kind: "damaged", Want: "there", Got: "missing"})
			continue
		case b.Damaged != "":
			list = append(list, bag.SettingFault{Branch: b.Name, Kind: "damaged", Want: "as its sum says", Got: b.Damaged})
			continue
		case b.Owner != want.Owner || b.Grants != want.Grants:
			list = append(list, bag.SettingFault{
				Branch: b.Name,
				Kind:   "owner",
				Want:   want.Owner + " " + want.Grants,
				Got:    b.Owner + " " + b.Grants,
			})
		}
		for name, value := range b.Values {
			if rule := rules[want.Name+"/"+name]; rule != nil && !rule(value) {
				list = append(list, bag.SettingFault{
					Branch: b.Name,
					Name:   name,
					Kind:   "value",
					Want:   want.Values[name],
					Got:    value,
				})
			}
		}
	}
	return list, nil
}

// rules are what the values of some settings have to be for anything to work.
var rules = map[string]func(string) bool{
	"courier/limits/block":                                  between(1, 4096),
	"courier/limits/retries":                                between(1, 20),
	corbelfile.PolicyBranch + "/" + corbelfile.PolicySource: func(v string) bool { return v == "vendor" },
}

func between(least, most int) func(string) bool {
	return func(v string) bool {
		n, err := strconv.Atoi(v)
		return err == nil && n >= least && n <= most
	}
}

// MendSetting puts back what the release ships: a branch, its owner and
// grants, or one value. A branch that is replaced is kept aside.
func (s *System) MendSetting(f bag.SettingFault) error {
	tree, shipped, err := s.settings()
	if err != nil {
		return err
	}
	want := shipped.Find(f.Branch)
	if want == nil {
		return fmt.Errorf("corbel: the release ships no branch %s", f.Branch)
	}
	b := tree.Find(f.Branch)
	switch {
	case b == nil:
		tree.Branches = append(tree.Branches, *want)
	case f.Kind == "damaged":
		if err := s.keepSettings(f.Branch); err != nil {
			return err
		}
		*b = *want
	case f.Kind == "owner":
		b.Owner, b.Grants = want.Owner, want.Grants
	case want.Values[f.Name] == "":
		delete(b.Values, f.Name)
	default:
		b.Values[f.Name] = want.Values[f.Name]
	}
	return s.edit.WriteFile(corbelfile.SettingsPath, tree.Bytes())
}

// Policy is the update client's policy by name.
func (s *System) Policy() (map[string]string, error) {
	tree, _, err := s.settings()
	if err != nil {
		return nil, err
	}
	if b := tree.Find(corbelfile.PolicyBranch); b != nil {
		return b.Values, nil
	}
	return map[string]string{}, nil
}

// SetPolicy changes one value of the policy and returns what it was.
func (s *System) SetPolicy(_ context.Context, name, value string) (was string, err error) {
	tree, _, err := s.settings()
	if err != nil {
		return "", err
	}
	was = tree.Value(corbelfile.PolicyBranch, name)
	if err := tree.Set(corbelfile.PolicyBranch, name, value); err != nil {
		return "", err
	}
	return was, s.edit.WriteFile(corbelfile.SettingsPath, tree.Bytes())
}

// Settings are the branches as they stand.
func (s *System) Settings() (list []upkeep.Branch, err error) {
	tree, _, err := s.settings()
	if err != nil {
		return nil, err
	}
	for _, b := range tree.Branches {
		list = append(list, upkeep.Branch{
			Name:    b.Name,
			Owner:   b.Owner,
			Grants:  b.Grants,
			Values:  b.Values,
			Damaged: b.Damaged,
		})
	}
	return list, nil
}

// change keeps the settings aside, whole and the branch by itself, lets f change
// the branch, and writes them.
func (s *System) change(branch string, f func(*corbelfile.Tree, *corbelfile.Branch) error) error {
	tree, _, err := s.settings()
	if err != nil {
		return err
	}
	b := tree.Find(branch)
	if b == nil {
		return fmt.Errorf("corbel: the settings have no branch %q", branch)
	}
	if b.Damaged != "" {
		return fmt.Errorf("corbel: branch %q is damaged: %s: restore it first", branch, b.Damaged)
	}
	if err := f(tree, b); err != nil {
		return err
	}
	return errors.Join(s.keepSettings(branch), s.edit.WriteFile(corbelfile.SettingsPath, tree.Bytes()))
}

// SetValue changes one value of the settings, an empty one takes it out, and
// returns what it was.
func (s *System) SetValue(branch, name, value string) (was string, err error) {
	err = s.change(branch, func(t *corbelfile.Tree, b *corbelfile.Branch) error {
		if was = b.Values[name]; was == value {
			return errSame
		}
		return t.Set(branch, name, value)
	})
	if errors.Is(err, errSame) {
		err = nil
	}
	return was, err
}

// errSame means that a change would change nothing.
var errSame = errors.New("corbel: it is so already")

// SetOwner gives a branch to somebody, with grants, and returns whose it was and
// with which.
func (s *System) SetOwner(branch, owner, grants string) (was string, err error) {
	err = s.change(branch, func(_ *corbelfile.Tree, b *corbelfile.Branch) error {
		if was = b.Owner + " " + b.Grants; was == owner+" "+grants {
			return errSame
		}
		return b.SetOwner(owner, grants)
	})
	if errors.Is(err, errSame) {
		err = nil
	}
	return was, err
}

// RenameSetting gives a value of a branch another name or, if name is empty, the
// branch itself.
func (s *System) RenameSetting(branch, name, to string) error {
	return s.change(branch, func(t *corbelfile.Tree, _ *corbelfile.Branch) error { return t.Rename(branch, name, to) })
}

// settingsName is what the settings are called where they are kept aside, whole
// or one branch of them.
func settingsName(branch string) string {
	name := path.Base(corbelfile.SettingsPath)
	if branch != "" {
		name += "-" + strings.ReplaceAll(branch, "/", "-")
	}
	return name
}

// keepSettings copies the settings aside as they are, once for all that is done
// to the opened system, and the branch by itself.
func (s *System) keepSettings(branch string) error {
	whole, err := fs.ReadFile(s.sys, corbelfile.SettingsPath)
	if err != nil {
		return err
	}
	tree, err := corbelfile.ReadTree(whole)
	if err != nil {
		return err
	}
	for n := 1; s.keptIn == ""; n++ {
		folder := path.Join(corbelfile.AsideFolder, fmt.Sprintf("%s-%02d", s.now.UTC().Format("20060102-150405"), n))
		if !has(s.sys, path.Join(folder, settingsName(""))) {
			s.keptIn = folder
		}
	}
	if err := s.edit.Mkdir(s.keptIn); err != nil {
		return err
	}
	kept := map[string][]byte{settingsName(""): whole}
	if b := tree.Find(branch); b != nil {
		kept[settingsName(branch)] = (&corbelfile.Tree{Branches: []corbelfile.Branch{*b}}).Bytes()
	}
	for name, raw := range kept {
		to := path.Join(s.keptIn, name)
		if has(s.sys, to) {
			continue
		}
		if err := s.edit.WriteFile(to, raw); err != nil {
			return err
		}
	}
	return nil
}

// KeptSettings lists where settings were kept aside, the latest first.
func (s *System) KeptSettings() []string {
	list, _ := fs.Glob(s.sys, path.Join(corbelfile.AsideFolder, "*", settingsName(""))) // the pattern is right
	slices.Sort(list)
	slices.Reverse(list)
	for i := range list {
		list[i] = path.Base(path.Dir(list[i]))
	}
	return list
}

// PutBackSettings brings settings back as they were kept aside, all or one
// branch; from names when, and empty is the latest that differ from what is
// there now.
func (s *System) PutBackSettings(branch, from string) (restored string, err error) {
	now, err := fs.ReadFile(s.sys, corbelfile.SettingsPath)
	if err != nil {
		return "", err
	}
	for _, at := range s.KeptSettings() {
		if from != "" && at != from {
			continue
		}
		then, err := s.restored(now, branch, at)
		if err != nil {
			return "", err
		}
		if slices.Equal(then, now) && from == "" {
			continue
		}
		return at, errors.Join(s.keepSettings(branch), s.edit.WriteFile(corbelfile.SettingsPath, then))
	}
	if from == "" {
		return "", errors.New("corbel: no settings were kept aside that differ from those that are there")
	}
	return "", fmt.Errorf(
		"corbel: no settings were kept aside at %q: there are %s", from, strings.Join(s.KeptSettings(), ", "),
	)
}

// SettingsAreAsKept says when settings, or one branch, were kept that are like
// those that are there; from is when, and empty any time before the latest,
// which was kept when they were put back.
func (s *System) SettingsAreAsKept(branch, from string) (string, error) {
	now, err := fs.ReadFile(s.sys, corbelfile.SettingsPath)
	if err != nil {
		return "", err
	}
	for i, at := range s.KeptSettings() {
		if from != "" && at != from || from == "" && i == 0 {
			continue
		}
		then, err := s.restored(now, branch, at)
		if err != nil {
			return "", err
		}
		if slices.Equal(then, now) {
			return at, nil
		}
	}
	return "", nil
}

// restored are the settings with all, or one branch, as kept at a time.
func (s *System) restored(now []byte, branch, at string) ([]byte, error) {
	raw, err := fs.ReadFile(s.sys, path.Join(corbelfile.AsideFolder, at, settingsName("")))
	if err != nil || branch == "" {
		return raw, err
	}
	then, err := corbelfile.ReadTree(raw)
	if err != nil {
		return nil, err
	}
	b := then.Find(branch)
	if b == nil {
		return nil, fmt.Errorf("corbel: the settings kept at %s have no branch %q", at, branch)
	}
	tree, err := corbelfile.ReadTree(now)
	if err != nil {
		return nil, err
	}
	if have := tree.Find(branch); have != nil {
		*have = *b
	} else {
		tree.Branches = append(tree.Branches, *b)
	}
	return tree.Bytes(), nil
}
