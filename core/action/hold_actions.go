package action

import (
	"context"
	"fmt"
	"slices"

	"diorthos/core/system"
)

// The actions by which a release, an update or a package is held back, and let go again.
const (
	HoldBack ID = "updates.hold"
	LetGo    ID = "updates.release"
)

var heldWhat = Parameter{Name: "what", Required: true, Says: "the release, update or package"}

var holdActions = map[ID]Action{
	HoldBack: saysUnknown(onFiles(taking(proving(systemAction(
		func(ctx context.Context, c *Context, s system.Holds) ([]string, error) {
			what := c.params["what"]
			changed, err := s.Hold(ctx, what)
			if err != nil || !changed {
				return nil, err
			}
			return []string{what + " is held back: the machine's own tools do not begin it"}, nil
		}, nil), proveHeld(true)), heldWhat))),
	LetGo: onFiles(taking(proving(systemAction(
		func(ctx context.Context, c *Context, s system.Holds) ([]string, error) {
			what := c.params["what"]
			changed, err := s.Release(ctx, what)
			if err != nil || !changed {
				return nil, err
			}
			return []string{what + " may be begun again"}, nil
		}, nil), proveHeld(false)), heldWhat)),
}

// saysUnknown notes when nothing is known under the name that is held back: it may be a slip.
func saysUnknown(a Action) Action {
	do := a.do
	a.do = func(ctx context.Context, c *Context) (Effect, error) {
		e, err := do(ctx, c)
		if s, check := able[system.Holds](c); err == nil && check.OK && !s.Knows(c.params["what"]) {
			e.Notes = append(
				e.Notes,
				fmt.Sprintf("nothing that this machine has, or was offered, is called %q", c.params["what"]),
			)
		}
		return e, err
	}
	return a
}

func proveHeld(want bool) func(context.Context, *Context, system.Holds) []Check {
	return func(_ context.Context, after *Context, s system.Holds) []Check {
		what := after.params["what"]
		list, err := s.Held()
		is := slices.Contains(list, what)
		says := what + " is held back no more"
		if want {
			says = what + " is held back"
		}
		return []Check{{What: says, OK: err == nil && is == want, Saw: fmt.Sprintf("%d held: %v", len(list), list)}}
	}
}
