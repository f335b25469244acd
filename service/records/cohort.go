package records

import (
	"context"
	"encoding/json"
	"slices"

	"gorm.io/gorm"

	"diorthos/client"
	"diorthos/core/climb"
	"diorthos/core/fleet"
)

const (
	casesOfCohort = 200  // that are shown
	mostCompared  = 5000 // machines of a cohort whose attributes are compared
	falseRate     = 0.05 // share of what is shown as shared that may be so by chance
)

// CohortDetail returns one, as a person of these sites sees it.
func (s *Store) CohortDetail(ctx context.Context, sites []string, id int64) (*client.CohortDetail, error) {
	var r cohortRow
	if err := s.db.WithContext(ctx).Where("id = ?", id).Take(&r).Error; err != nil {
		return nil, mapNotFound(err)
	}
	list := []client.Cohort{r.public()}
	if err := s.withOutbreaks(ctx, list, sites); err != nil {
		return nil, err
	}
	d := &client.CohortDetail{Cohort: list[0], Cases: []client.Case{}}
	if len(sites) > 0 && d.Machines == 0 {
		return nil, ErrNotFound
	}
	at := func(db *gorm.DB) *gorm.DB {
		if len(sites) > 0 {
			return db.Where("machines.site in ?", sites)
		}
		return db
	}
	var rows []caseRow
	latest := "cases.number in (select max(number) from cases where cohort_id = ? group by machine_id order by 1 " +
		"desc limit ?)"
	if err := at(s.caseQuery(ctx)).Where(latest, id,
		casesOfCohort).Order("cases.number desc").Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, c := range rows {
		d.Cases = append(d.Cases, c.public())
	}
	for _, t := range []struct {
		into *[]client.MachineCount
		what string
	}{
		{&d.Sites, "coalesce(nullif(machines.site, ''), 'no site')"},
		{&d.Models, "coalesce(nullif(machines.model, ''), 'no model')"},
	} {
		*t.into = []client.MachineCount{}
		if err := at(s.db.WithContext(ctx).Table("cases").Joins("join machines on machines.id = cases.machine_id")).
			Select(t.what+" as what, count(distinct machine_id) as machines").Where("cohort_id = ?", id).
			Group("what").Order("machines desc, what").Limit(50).Find(t.into).Error; err != nil {
			return nil, err
		}
	}
	d.Days = []client.MachineCount{}
	if err := s.db.WithContext(ctx).Raw(
		`select to_char(day, 'YYYY-MM-DD') as what, count(*) as machines from (
			select min(received_at) at time zone 'UTC' as day from cases where cohort_id = ? group by machine_id) firsts
		group by 1 order by 1 desc limit 60`, id,
	).Scan(&d.Days).Error; err != nil {
		return nil, err
	}
	slices.Reverse(d.Days)
	if err := s.shared(ctx, d); err != nil {
		return nil, err
	}
	return d, s.helped(ctx, d)
}

// shared compares the machines of a cohort with all others.
func (s *Store) shared(ctx context.Context, d *client.CohortDetail) error {
	var counts []fleet.Count
	if err := s.db.WithContext(ctx).Raw(
		`with members as (select distinct machine_id as id from cases where cohort_id = ? limit ?),
		failing as (select attribute, count(*) as failing from members join machines on machines.id = members.id,
			jsonb_array_elements_text(machines.attributes) attribute group by 1)
		select failing.attribute, failing.failing, attribute_counts.machines as "all"
		from failing join attribute_counts on attribute_counts.attribute = failing.attribute`,
		d.ID, mostCompared,
	).Scan(&counts).Error; err != nil {
		return err
	}
	var failing, all int
	if err := s.db.WithContext(ctx).Raw(
		`select (select count(distinct machine_id) from cases where cohort_id = ?),
		(select count(*) from machines where alike <> '')`, d.ID,
	).Row().Scan(&failing, &all); err != nil {
		return err
	}
	d.Looked = len(counts)
	d.Shared = fleet.Common(counts, min(failing, mostCompared), max(all, failing), falseRate)
	d.Shared = d.Shared[:min(len(d.Shared), 20)]
	return nil
}

// outcomes lists what taking remedies came to, for the cases that match.
func (s *Store) outcomes(ctx context.Context, where string, args ...any) ([]fleet.Outcome, map[string]string, error) {
	var rows []struct {
		Cause, Machine, Person string
		Runs, Rungs            []byte
	}
	if err := s.db.WithContext(ctx).Raw(
		`select cases.cause, machines.name as machine, climbs.person, climbs.runs,
			coalesce(cases.docket->'toDo', '[]') as rungs
		from climbs join cases on cases.number = climbs.case_number join machines on machines.id = cases.machine_id
		where `+where+` order by climbs.id limit 20000`, args...,
	).Scan(&rows).Error; err != nil {
		return nil, nil, err
	}
	var list []fleet.Outcome
	titles := map[string]string{}
	for _, r := range rows {
		var runs []climb.Run
		if err := json.Unmarshal(r.Runs, &runs); err != nil {
			return nil, nil, err
		}
		var rungs []struct{ Remedy, Title string }
		if err := json.Unmarshal(r.Rungs, &rungs); err != nil {
			return nil, nil, err
		}
		for _, g := range rungs {
			titles[g.Remedy] = g.Title
		}
		for _, run := range runs {
			helped := run.Helped()
			if run.Remedy == "" || !helped && !run.InVain() {
				continue
			}
			list = append(list, fleet.Outcome{
				Cause: r.Cause, Remedy: run.Remedy, Machine: r.Machine, Person: r.Person, Helped: helped,
			})
		}
	}
	return list, titles, nil
}

// helped says what was tried on the machines of a cohort, and what came of it.
func (s *Store) helped(ctx context.Context, d *client.CohortDetail) error {
	list, titles, err := s.outcomes(ctx, "cases.cohort_id = ?", d.ID)
	if err != nil {
		return err
	}
	d.Helped = []client.RemedyOutcomes{}
	for _, l := range fleet.Learn(list, func(string) float64 { return 0.5 }) {
		i := slices.IndexFunc(d.Helped, func(o client.RemedyOutcomes) bool { return o.Remedy == l.Remedy })
		if i < 0 {
			i = len(d.Helped)
			d.Helped = append(d.Helped, client.RemedyOutcomes{Remedy: l.Remedy, Title: titles[l.Remedy]})
		}
		d.Helped[i].Proven += l.Helped
		d.Helped[i].Failed += l.Tried - l.Helped
	}
	slices.SortStableFunc(d.Helped, func(a, b client.RemedyOutcomes) int { return b.Proven - a.Proven })
	return nil
}

const (
	twinsLooked = 400 // healthy machines of the same model and release
	twinsShown  = 5
)

// Twin finds the healthy machines that are most like one, and how it differs from the first of
// them, or from the one that is named.
func (s *Store) Twin(ctx context.Context, sites []string, name, against string) (*client.TwinReport, error) {
	var row struct {
		ID, Latest int64
		Site       string
		Alike      string
		Traits     jsonOf[map[string]string]
	}
	if err := s.db.WithContext(ctx).Raw(
		"select id, coalesce(latest, 0) as latest, site, alike, traits from machines where name = ?", name,
	).Scan(&row).Error; err != nil {
		return nil, err
	}
	if row.ID == 0 || len(sites) > 0 && !slices.Contains(sites, row.Site) {
		return nil, ErrNotFound
	}
	r := &client.TwinReport{Machine: name, Twins: []fleet.Twin{}, Differences: []fleet.Difference{}}
	if row.Alike == "" {
		return r, nil
	}
	healthy, err := s.candidates(ctx, sites,
		"alike = ? and alike <> '' and state = 'healthy' and machines.id <> ?", row.Alike, row.ID)
	if err != nil {
		return nil, err
	}
	failing, err := s.candidates(
		ctx,
		sites,
		`machines.id <> ? and machines.id in (select machine_id from cases where cohort_id =
		(select cohort_id from cases where number = ?))`,
		row.ID,
		row.Latest,
	)
	if err != nil {
		return nil, err
	}
	r.Looked = len(healthy)
	r.Twins = fleet.Twins(row.Traits.V, healthy, twinsShown)
	if len(r.Twins) == 0 {
		return r, nil
	}
	if r.Against = against; against == "" {
		r.Against = r.Twins[0].Machine
	}
	i := slices.IndexFunc(healthy, func(c fleet.Candidate) bool { return c.Machine == r.Against })
	if i < 0 {
		return nil, ErrNotFound
	}
	r.Differences = fleet.Differences(row.Traits.V, healthy[i], healthy, failing)
	r.Differences = r.Differences[:min(len(r.Differences), 200)]
	return r, nil
}

func (s *Store) candidates(ctx context.Context, sites []string, where string, args ...any) ([]fleet.Candidate, error) {
	var rows []struct {
		Name   string
		Traits jsonOf[map[string]string]
	}
	q := s.db.WithContext(ctx).Table("machines").Select("name, traits").Where("traits is not null").Where(where, args...)
	if len(sites) > 0 {
		q = q.Where("site in ?", sites)
	}
	if err := q.Order("id").Limit(twinsLooked).Scan(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]fleet.Candidate, len(rows))
	for i, r := range rows {
		list[i] = fleet.Candidate{Machine: r.Name, Traits: r.Traits.V}
	}
	return list, nil
}

// CohortOf is the cohort of a case; nil where it has none.
func (s *Store) CohortOf(ctx context.Context, number int64) (*client.Cohort, error) {
	var r cohortRow
	err := s.db.WithContext(ctx).Where("id = (select cohort_id from cases where number = ?)", number).Take(&r).Error
	if err != nil {
		return nil, ignoreNotFound(mapNotFound(err))
	}
	list := []client.Cohort{r.public()}
	return &list[0], s.withOutbreaks(ctx, list, nil)
}
