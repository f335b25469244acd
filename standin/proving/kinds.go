package proving

import (
	"slices"
	"strings"

	"diorthos/platform/corbelfile"
)

// bootLabel is the label of a stand-in's boot volume.
const bootLabel = "KEYSTONE"

// kindsOfChange are the kinds of failure that a change at random can be told by, by the
// part that it was made to. It knows nothing of causes: it is what a diagnosis of a
// machine that nobody described is held against.
func kindsOfChange(did string) []string {
	how, what, _ := strings.Cut(did, ": ")
	switch how {
	case "fill":
		return []string{"space"}
	case "own":
		return []string{"rights", "settings", "records"}
	case "date":
		return []string{"trust"}
	case "field":
		return append(kindsOfPath(what), "not-for-this", "driver", "dependencies", "trust", "settings")
	case "sectors":
		if strings.Contains(what, "table") {
			return []string{"layout"}
		}
		return []string{"layout", "start-chain", "file-system"}
	}
	return kindsOfPath(what)
}

// kindsOfPath are those of a damaged or missing file: its own, and those of what it
// would have told.
func kindsOfPath(what string) []string {
	if slices.Contains(strings.Fields(what), bootLabel) {
		return []string{"start-chain", "store"} // what the machine is started by
	}
	for _, p := range []struct {
		in    string
		kinds []string
	}{
		{corbelfile.ManifestFolder, []string{"store"}},
		{corbelfile.PayloadFolder, []string{"store"}},
		{corbelfile.IndexPath, []string{"store", "dependencies"}},
		{"corbel/work/", []string{"unfinished", "records"}},
		{corbelfile.SettingsPath, []string{"records", "settings", "rights", "service"}},
		{corbelfile.ServicesPath, []string{"service", "records"}},
		{corbelfile.CacheFolder, []string{"archive", "unfinished", "lock", "space"}},
		{corbelfile.UpdateFolder, []string{"records", "archive", "dependencies", "unfinished"}},
		{corbelfile.FeaturesPath, []string{"records", "store"}},
		{corbelfile.DriversPath, []string{"records", "driver"}},
		{corbelfile.ReleasePath, []string{"records", "not-for-this"}},
		{corbelfile.SystemFolder, []string{"store", "start-chain"}},
	} {
		if strings.Contains(what, p.in) {
			return p.kinds
		}
	}
	return []string{"records", "store"}
}

// rightKind reports whether the likeliest kind is one that the changes can be told by.
func rightKind(did []string, kind string) bool {
	return slices.ContainsFunc(did, func(one string) bool { return slices.Contains(kindsOfChange(one), kind) })
}
