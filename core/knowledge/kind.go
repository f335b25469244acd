package knowledge

import (
	"errors"
	"fmt"
	"slices"
)

// A Kind is a sort of failure. Every cause is of one; a domain holds several.
type Kind struct {
	ID     string `yaml:"id"`
	Domain string `yaml:"domain"`
	Title  string `yaml:"title"`
	// OfTool says that its causes are about what the package tool itself does, and not what
	// runs for a package.
	OfTool bool `yaml:"of-tool"`
}

// Domains lists what kinds belong to.
func Domains() []string {
	return []string{"machine", "start", "package", "request", "system", "run", "network"}
}

func checkKinds(kinds map[string]*Kind) error {
	for id, kind := range kinds {
		switch {
		case id == "" || kind.Title == "":
			return errors.New("kinds.yaml: a kind needs id, domain and title")
		case !slices.Contains(Domains(), kind.Domain):
			return fmt.Errorf("kinds.yaml: %s: domain %q: want one of %v", id, kind.Domain, Domains())
		}
	}
	return nil
}
