package reading

import "strings"

// A Speaker is who wrote a record, as far as the structure of the run tells: a program,
// or what ran for a package while something was done with it.
type Speaker struct {
	Program string `json:"program,omitempty"`
	Package string `json:"package,omitempty"`
	Phase   string `json:"phase,omitempty"` // what was being done with the package
}

// String says it in words; empty when it is not known.
func (s Speaker) String() string {
	switch {
	case s.Package == "":
		return s.Program
	case s.Program == "":
		return "what " + s.Package + " runs at " + s.Phase
	}
	return s.Program + ", run for " + s.Package + " at " + s.Phase
}

// A Tool says by which beginnings of a record a program of the engine's own is known.
type Tool struct {
	Is     string   `yaml:"is"`
	Starts []string `yaml:"starts"`
}

// tool is the engine's own program that wrote a text; empty for any other.
func (d *Dialect) tool(text string) string {
	for _, t := range d.Tools {
		for _, start := range t.Starts {
			if strings.HasPrefix(text, start) {
				return t.Is
			}
		}
	}
	return ""
}

// attribute says of every record who wrote it. Between the start of work on an object
// and the end of that work, what no tool of the engine wrote is from what runs for it.
func (p *part) attribute() {
	var work *Event
	for i := range p.events {
		e := &p.events[i]
		first, _, _ := strings.Cut(e.message(), "\n")
		switch tool := p.dialect.tool(first); {
		case tool != "":
			e.Speaker, e.ofTool = Speaker{Program: tool}, true
		case e.Component != "":
			e.Speaker = Speaker{Program: e.Component}
		case e.Mark == "" && work != nil:
			e.Speaker = Speaker{Program: programName(*e), Package: packageName(work.Object), Phase: work.Operation}
		case e.Mark == "":
			e.Speaker = Speaker{Program: programName(*e)}
		}
		switch e.Mark {
		case Operation:
			work = e
		case Opens, Closes, Passed, Fails, Verdict:
			work = nil
		}
	}
}
