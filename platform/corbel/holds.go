package corbel

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/platform/corbelfile"
)

const heldApart = "; "

// Held lists what the policy holds back, by title or number.
func (s *System) Held() ([]string, error) {
	policy, err := s.Policy()
	if err != nil || policy[corbelfile.PolicyHeld] == "" {
		return []string{}, err
	}
	return strings.Split(policy[corbelfile.PolicyHeld], heldApart), nil
}

// Hold keeps an update, an upgrade or a driver from being begun, until it is released.
func (s *System) Hold(ctx context.Context, what string) (bool, error) {
	if strings.ContainsAny(what, ";\n") || what == "" {
		return false, fmt.Errorf("hold back %q: want the title or the number of what is on offer", what)
	}
	return s.setHeld(ctx, func(list []string) []string {
		if slices.Contains(list, what) {
			return list
		}
		return append(list, what)
	})
}

// Release lets it be begun again.
func (s *System) Release(ctx context.Context, what string) (bool, error) {
	return s.setHeld(ctx, func(list []string) []string {
		return slices.DeleteFunc(list, func(held string) bool { return held == what })
	})
}

// Knows reports whether anything on offer, or in the history, is called so.
func (s *System) Knows(what string) bool {
	offers, err := s.offers()
	history, failed := s.History()
	return err == nil &&
		slices.ContainsFunc(offers, func(o corbelfile.Offer) bool { return o.Title == what || o.ID == what }) ||
		failed == nil &&
			slices.ContainsFunc(history, func(h bag.HistoryEntry) bool { return h.Title == what || h.ID == what })
}

func (s *System) setHeld(ctx context.Context, change func([]string) []string) (bool, error) {
	was, err := s.Held()
	if err != nil {
		return false, err
	}
	list := change(slices.Clone(was))
	if slices.Equal(was, list) {
		return false, nil
	}
	_, err = s.SetPolicy(ctx, corbelfile.PolicyHeld, strings.Join(list, heldApart))
	return true, err
}
