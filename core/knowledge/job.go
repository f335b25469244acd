package knowledge

import (
	"fmt"
	"slices"
)

// A Job is what technicians come with; docs/jobs walks each from the first word to the proof.
type Job struct {
	Number int      `yaml:"number" json:"number"`
	Title  string   `yaml:"title" json:"title"`
	Said   string   `yaml:"said" json:"said"`     // by the person at the counter
	Causes []string `yaml:"causes" json:"causes"` // that are found in it
}

// JobsOf lists the jobs in which one of these causes is found, those of the first cause first.
func (k *Knowledge) JobsOf(causes ...string) []Job {
	list := []Job{}
	for _, cause := range causes {
		for _, j := range k.Jobs {
			if slices.Contains(j.Causes, cause) && !slices.ContainsFunc(list, func(o Job) bool { return o.Number == j.Number }) {
				list = append(list, j)
			}
		}
	}
	return list
}

// checkJobs looks whether the causes that jobs name are there.
func (k *Knowledge) checkJobs() error {
	for _, j := range k.Jobs {
		for _, id := range j.Causes {
			if k.Causes[id] == nil {
				return fmt.Errorf("jobs.yaml: job %d: no cause is called %q", j.Number, id)
			}
		}
	}
	return nil
}
