// Package diorthos_test checks the shape of the whole repository.
package diorthos_test

import (
	"os/exec"
	"strings"
	"testing"
)

// layers, the lowest first. A package may import its own layer and those
// below it.
var layers = [][]string{
	{"knowledge"}, // the shipped data, not code
	{"core"},
	{"platform", "host", "client", "console", "agent"},
	{"service", "cli", "standin"},
	{"cmd", "e2e", "docs"}, // docs: the worked example of an adapter
}

// order lists the packages of core from the bottom up. A package may import
// only those before it.
var order = []string{
	"units",
	"plain",
	"format",
	"block",
	"tree",
	"efivar",
	"firmware",
	"layout",
	"volumes",
	"readfs",
	"readfs/readfstest",
	"fat",
	"ext",
	"xfs",
	"btrfs",
	"iso",
	"media",
	"boot",
	"store",
	"upkeep",
	"codes",
	"journald",
	"bag",
	"system",
	"action",
	"catalogue",
	"messages",
	"reading",
	"knowledge",
	"diagnosis",
	"readiness",
	"ladder",
	"climb",
	"ask",
	"docket",
	"fleet",
}

// foreign is what core must do without: HTTP, a database, a terminal.
var foreign = []string{
	"net/http", "database/sql", "gorm.io/", "github.com/jackc/", "golang.org/x/term", "github.com/urfave/",
	"github.com/go-chi/",
}

func imports(t *testing.T) map[string][]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	m := map[string][]string{}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		fields := strings.Fields(line)
		m[fields[0]] = fields[1:]
	}
	return m
}

func layerOf(pkg string) int {
	top, _, _ := strings.Cut(strings.TrimPrefix(pkg, "diorthos/"), "/")
	for i, l := range layers {
		for _, name := range l {
			if name == top {
				return i
			}
		}
	}
	return -1
}

func rank(pkg string) int {
	name := strings.TrimPrefix(pkg, "diorthos/core/")
	for i, o := range order {
		if o == name {
			return i
		}
	}
	return -1
}

func TestDependenciesPointDown(t *testing.T) {
	all := imports(t)
	if len(all) < 20 {
		t.Fatalf("only %d packages found", len(all))
	}
	for pkg, list := range all {
		if pkg == "diorthos" {
			continue
		}
		if layerOf(pkg) < 0 {
			t.Errorf("%s belongs to no layer: say to which in layers", pkg)
		}
		for _, imp := range list {
			if strings.HasPrefix(imp, "diorthos/") && layerOf(imp) > layerOf(pkg) {
				t.Errorf("%s imports %s, which stands above it", pkg, imp)
			}
		}
		if strings.HasPrefix(pkg, "diorthos/core/") {
			checkCore(t, pkg, list)
		}
	}
}

// TestTheStandInKnowsNothingOfDiagnosis: what it lets happen comes from its
// machines' state, and from nothing that looks for causes.
func TestTheStandInKnowsNothingOfDiagnosis(t *testing.T) {
	for _, imp := range imports(t)["diorthos/standin/corbel"] {
		for _, never := range []string{
			"diorthos/core/diagnosis", "diorthos/core/knowledge", "diorthos/core/ladder", "diorthos/core/docket",
			"diorthos/knowledge", "diorthos/platform/corbel",
		} {
			if imp == never {
				t.Errorf("the stand-in imports %s", imp)
			}
		}
	}
}

func checkCore(t *testing.T, pkg string, list []string) {
	t.Helper()
	if rank(pkg) < 0 {
		t.Errorf("%s has no place in order", pkg)
	}
	for _, imp := range list {
		if strings.HasPrefix(imp, "diorthos/core/") && rank(imp) >= rank(pkg) {
			t.Errorf("%s imports its sibling %s, which does not stand below it", pkg, imp)
		}
		if imp == "diorthos/knowledge" {
			t.Errorf("%s imports the shipped knowledge; it must be handed in", pkg)
		}
		for _, f := range foreign {
			if strings.HasPrefix(imp, f) {
				t.Errorf("%s imports %s: core has no HTTP, no database and no terminal", pkg, imp)
			}
		}
	}
}
