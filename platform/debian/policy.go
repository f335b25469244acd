package debian

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/system"
)

// policyFile is where what is lent stands, in apt's own words (apt.conf(5)). It is read after all others.
const policyFile = "etc/apt/apt.conf.d/zz-diorthos-policy"

const policyHead = "// set by Diorthos: "

// policies are what can be set: the one value there is, and the settings by which apt follows it.
var policies = map[string]struct{ value, setting string }{
	"expired-lists": {"allow", `Acquire::Check-Valid-Until "false";`},
	"future-lists":  {"allow", `Acquire::Check-Date "false";`},
	"metered":       {"allow", `Unattended-Upgrade::Skip-Updates-On-Metered-Connections "false";`},
}

var policyLine = regexp.MustCompile(`(?m)^` + policyHead + `(\S+) is (\S+)$`)

// Policy is what was set here; what the machine's own settings say is not told.
func (n *inner) Policy() (map[string]string, error) {
	text, err := fs.ReadFile(n.fsys, policyFile)
	have := map[string]string{}
	if errors.Is(err, fs.ErrNotExist) {
		return have, nil
	}
	for _, m := range policyLine.FindAllStringSubmatch(string(text), -1) {
		have[m[1]] = m[2]
	}
	return have, err
}

// SetPolicy sets one, or gives it back to the machine's own settings where the value is empty.
func (n *inner) SetPolicy(ctx context.Context, name, value string) (was string, err error) {
	known, ok := policies[name]
	if !ok || value != "" && value != known.value {
		return "", fmt.Errorf("the policy %s=%s is not known: known are %s", name, value,
			strings.Join(slices.Sorted(maps.Keys(policies)), ", "))
	}
	have, err := n.Policy()
	if err != nil || have[name] == value {
		return have[name], err
	}
	was = have[name]
	delete(have, name)
	if value != "" {
		have[name] = value
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(have)) {
		fmt.Fprintf(&b, "%s%s is %s\n%s\n", policyHead, name, have[name], policies[name].setting)
	}
	return was, n.within(ctx, func(in system.Inside) error {
		if b.Len() == 0 {
			return in.Files().Remove(policyFile)
		}
		if err := in.Files().MkdirAll(path.Dir(policyFile), 0o755); err != nil {
			return err
		}
		return replace(in.Files(), policyFile, []byte(b.String()), os.FileMode(0o644))
	})
}
