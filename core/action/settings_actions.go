package action

import (
	"context"
	"errors"
	"fmt"

	"diorthos/core/system"
)

const keptAside = "; the settings as they were are kept aside"

// settingsActions are asked for by a person, never by a remedy. Each is proven by
// asking for the same again, on a draft.
var settingsActions = map[ID]Action{
	"upkeep.set-value": settings(func(p map[string]string, s system.SettingsEditor) (string, error) {
		was, err := s.SetValue(p["branch"], p["name"], p["value"])
		if err != nil || was == p["value"] {
			return "", err
		}
		return fmt.Sprintf("%s: %s is %q, was %q%s", p["branch"], p["name"], p["value"], was, keptAside), nil
	}, func(p map[string]string, s system.SettingsEditor) Check {
		was, err := s.SetValue(p["branch"], p["name"], p["value"])
		return Check{What: "the value is what was wanted", OK: err == nil && was == p["value"], Saw: fmt.Sprintf("%q", was)}
	}, "branch", "name", "value"),
	"upkeep.set-owner": settings(func(p map[string]string, s system.SettingsEditor) (string, error) {
		was, err := s.SetOwner(p["branch"], p["owner"], p["grants"])
		if err != nil || was == p["owner"]+" "+p["grants"] {
			return "", err
		}
		return fmt.Sprintf(
			"%s: belongs to %s with %s, before to %s%s", p["branch"], p["owner"], p["grants"], was, keptAside,
		), nil
	}, func(p map[string]string, s system.SettingsEditor) Check {
		was, err := s.SetOwner(p["branch"], p["owner"], p["grants"])
		return Check{
			What: "the branch has the owner and the grants that were wanted",
			OK:   err == nil && was == p["owner"]+" "+p["grants"],
			Saw:  was,
		}
	}, "branch", "owner", "grants"),
	"upkeep.rename-setting": settings(func(p map[string]string, s system.SettingsEditor) (string, error) {
		if err := s.RenameSetting(p["branch"], p["name"], p["to"]); err != nil {
			return "", err
		}
		if p["name"] == "" {
			return fmt.Sprintf("branch %s is called %s%s", p["branch"], p["to"], keptAside), nil
		}
		return fmt.Sprintf("%s: %s is called %s%s", p["branch"], p["name"], p["to"], keptAside), nil
	}, func(p map[string]string, s system.SettingsEditor) Check {
		err := s.RenameSetting(p["branch"], p["to"], p["name"]) // the way back is free
		if p["name"] == "" {
			err = s.RenameSetting(p["to"], "", p["branch"])
		}
		return resultCheck("it has the new name, and nothing has the old one", err, p["to"])[0]
	}, "branch", "name", "to"),
	"upkeep.restore-settings": settings(func(p map[string]string, s system.SettingsEditor) (string, error) {
		at, err := s.PutBackSettings(p["branch"], p["from"])
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("settings restored as they were kept at %s%s", at, keptAside), nil
	}, func(p map[string]string, s system.SettingsEditor) Check {
		at, err := s.SettingsAreAsKept(p["branch"], p["from"])
		if err == nil && at == "" {
			err = errors.New("they are as they never were kept")
		}
		return resultCheck("the settings are as they were kept", err, "at "+at)[0]
	}, "branch", "from"),
}

// settings makes an action of a change and of a look at what it came to.
func settings(
	do func(map[string]string, system.SettingsEditor) (string, error),
	look func(map[string]string, system.SettingsEditor) Check, names ...string,
) Action {
	a := proving(systemAction(func(_ context.Context, c *Context, s system.SettingsEditor) ([]string, error) {
		did, err := do(c.params, s)
		if err != nil || did == "" {
			return nil, err
		}
		return []string{did}, nil
	}, nil), func(_ context.Context, after *Context, s system.SettingsEditor) []Check {
		return []Check{look(after.params, s)}
	})
	for _, n := range names {
		a.Parameters = append(a.Parameters, Parameter{Name: n, Says: settingWords[n]})
	}
	return a
}

// settingWords say what the parameters of settings mean.
var settingWords = map[string]string{
	"branch": "name of the branch",
	"name":   "name of the value; empty for the branch itself",
	"value":  "empty takes it out",
	"owner":  "who owns the branch",
	"grants": "who may do what",
	"to":     "the new name",
	"from":   "when it was kept aside; empty for the latest that differs",
}
