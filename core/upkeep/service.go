package upkeep

import (
	"fmt"
	"strings"
)

// A Service runs in the background.
type Service struct {
	Name    string   `json:"name"`
	Needs   []string `json:"needs,omitempty"`
	Start   string   `json:"start"`             // its start type, in the system's words
	Shipped string   `json:"shipped,omitempty"` // the start type that the release ships; empty when it ships none
	Running bool     `json:"running"`
	Runs    bool     `json:"runs"`             // the release ships it running
	Update  bool     `json:"update,omitempty"` // updates depend on it
	Program string   `json:"program,omitempty"`
	Broken  string   `json:"broken,omitempty"`  // why it cannot run
	Missing bool     `json:"missing,omitempty"` // the release ships it, and it is not there
	Fault   string   `json:"fault,omitempty"`   // what is wrong with it, in words, once it is judged
}

// StartOrder lists the service and all that it needs, what is needed first.
func StartOrder(list []Service, name string) ([]string, error) {
	by := map[string]Service{}
	for _, s := range list {
		by[s.Name] = s
	}
	var order []string
	done := map[string]bool{}
	var visit func(name string, path []string) error
	visit = func(name string, path []string) error {
		for _, p := range path {
			if p == name {
				return fmt.Errorf("services need each other in a circle: %s", strings.Join(append(path, name), " needs "))
			}
		}
		if done[name] {
			return nil
		}
		s, ok := by[name]
		if !ok {
			return fmt.Errorf("no service is called %s", name)
		}
		for _, need := range s.Needs {
			if err := visit(need, append(path, name)); err != nil {
				return err
			}
		}
		done[name] = true
		order = append(order, name)
		return nil
	}
	return order, visit(name, nil)
}
