package e2e

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"diorthos/client"
	"diorthos/core/bag"
)

// Machines are listed by name, page by page, each with its latest case; what
// was read last counts, and who asks for none that is there is told so.
func TestMachinesAreListedByTheirLatestCase(t *testing.T) {
	s := newStage(t, bag.DefaultLimits)
	for i, name := range []string{"tern-1", "skua-2", "tern-3", "gannet-4", "tern-1"} {
		s.must(0, "submit", evidence(t, name, int64(5+i), strings.NewReader(strings.Repeat("x\n", 10+i))))
	}
	var names []string
	q := client.MachineQuery{Limit: 2}
	for {
		page, err := s.client().Machines(t.Context(), q)
		if err != nil || page.Total != 4 {
			t.Fatalf("%+v %v", page, err)
		}
		for _, m := range page.Machines {
			names = append(names, m.Name)
			if m.Name == "tern-1" && (m.Cases != 2 || m.Case != 5 || m.State != client.Healthy) {
				t.Errorf("%+v", m)
			}
		}
		if q.After = page.Next; page.Next == "" {
			break
		}
	}
	if want := []string{"gannet-4", "skua-2", "tern-1", "tern-3"}; !slices.Equal(names, want) {
		t.Errorf("%v, want %v", names, want)
	}
	for query, want := range map[client.MachineQuery]int64{
		{
			Name:  "tern",
			Limit: 10,
		}: 2, {
			Name:  "TERN-3",
			Limit: 10,
		}: 1, {Name: "100%", Limit: 10}: 0, {State: client.Healthy, Limit: 10}: 4, {State: client.Open, Limit: 10}: 0,
	} {
		page, err := s.client().Machines(t.Context(), query)
		if err != nil || page.Total != want || int64(len(page.Machines)) != want {
			t.Errorf("%+v: %+v %v, want %d", query, page, err, want)
		}
	}
	d, err := s.client().Machine(t.Context(), "tern-1")
	if err != nil || len(d.History) != 2 || d.History[0].Number != 5 || d.Gathered.IsZero() {
		t.Errorf("%+v %v", d, err)
	}
	if status, problem := s.get("/api/v1/machines/nobody"); status != http.StatusNotFound ||
		!strings.Contains(problem["detail"].(string), "nobody") {
		t.Errorf("%d %v", status, problem)
	}
	if status, _ := s.get("/api/v1/machines?state=broken"); status != http.StatusUnprocessableEntity {
		t.Errorf("a state that there is not: %d", status)
	}
	wants(t, s.must(0, "machines", "--name", "tern"), "tern-1", "tern-3", "· healthy")
	wants(t, s.must(0, "machines", "--state", "open"), "No machine fits")
}
