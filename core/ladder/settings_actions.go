package ladder

import (
	"context"
	"errors"
	"fmt"
)

// A settingsEditor changes settings as a person wants them. What was there is
// kept aside, whole and the branch by itself.
type settingsEditor interface {
	SetValue(branch, name, value string) (was string, err error)
	SetOwner(branch, owner, grants string) (was string, err error)
	RenameSetting(branch, name, to string) error
	PutBackSettings(branch, from string) (restored string, err error)
	// SettingsAreAsKept says when settings, or one branch, were kept that are
	// like those that are there; from is when, and empty any time before the
	// latest. It returns nothing if they are not.
	SettingsAreAsKept(branch, from string) (at string, err error)
}

const keptAside = "; the settings as they were are kept aside"

// settingsActions are asked for by a person, never by a remedy. Each is proven by
// asking for the same again, on a draft.
var settingsActions = map[string]action{
	"upkeep.set-value": settings(func(p map[string]string, s settingsEditor) (string, error) {
		was, err := s.SetValue(p["branch"], p["name"], p["value"])
		if err != nil || was == p["value"] {
			return "", err
		}
		return fmt.Sprintf("%s: %s is %q, was %q%s", p["branch"], p["name"], p["value"], was, keptAside), nil
	}, func(p map[string]string, s settingsEditor) Check {
		was, err := s.SetValue(p["branch"], p["name"], p["value"])
		return Check{What: "the value is what was wanted", OK: err == nil && was == p["value"], Saw: fmt.Sprintf("%q", was)}
	}),
	"upkeep.set-owner": settings(func(p map[string]string, s settingsEditor) (string, error) {
		was, err := s.SetOwner(p["branch"], p["owner"], p["grants"])
		if err != nil || was == p["owner"]+" "+p["grants"] {
			return "", err
		}
		return fmt.Sprintf("%s: belongs to %s with %s, before to %s%s", p["branch"], p["owner"], p["grants"], was, keptAside), nil
	}, func(p map[string]string, s settingsEditor) Check {
		was, err := s.SetOwner(p["branch"], p["owner"], p["grants"])
		return Check{What: "the branch has the owner and the grants that were wanted", OK: err == nil && was == p["owner"]+" "+p["grants"], Saw: was}
	}),
	"upkeep.rename-setting": settings(func(p map[string]string, s settingsEditor) (string, error) {
		if err := s.RenameSetting(p["branch"], p["name"], p["to"]); err != nil {
			return "", err
		}
		if p["name"] == "" {
			return fmt.Sprintf("branch %s is called %s%s", p["branch"], p["to"], keptAside), nil
		}
		return fmt.Sprintf("%s: %s is called %s%s", p["branch"], p["name"], p["to"], keptAside), nil
	}, func(p map[string]string, s settingsEditor) Check {
		err := s.RenameSetting(p["branch"], p["to"], p["name"]) // the way back is free
		if p["name"] == "" {
			err = s.RenameSetting(p["to"], "", p["branch"])
		}
		return told("it has the new name, and nothing has the old one", err, p["to"])[0]
	}),
	"upkeep.restore-settings": settings(func(p map[string]string, s settingsEditor) (string, error) {
		at, err := s.PutBackSettings(p["branch"], p["from"])
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("settings restored as they were kept at %s%s", at, keptAside), nil
	}, func(p map[string]string, s settingsEditor) Check {
		at, err := s.SettingsAreAsKept(p["branch"], p["from"])
		if err == nil && at == "" {
			err = errors.New("they are as they never were kept")
		}
		return told("the settings are as they were kept", err, "at "+at)[0]
	}),
}

// settings makes an action of a change and of a look at what it came to.
func settings(do func(map[string]string, settingsEditor) (string, error), look func(map[string]string, settingsEditor) Check) action {
	return proving(on(func(_ context.Context, g *ground, s settingsEditor) ([]string, error) {
		did, err := do(g.params, s)
		if err != nil || did == "" {
			return nil, err
		}
		return []string{did}, nil
	}, nil), func(after *ground, s settingsEditor) []Check { return []Check{look(after.params, s)} })
}
