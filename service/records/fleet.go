package records

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diorthos/client"
	"diorthos/core/fleet"
)

// A FleetNote is what the fleet is told of a case that was read.
type FleetNote struct {
	Failure    *fleet.Fingerprint // nil where nothing failed
	Family     string
	Traits     map[string]string
	Attributes []string // in order
	Tried      bool     // something was tried, which could have failed
}

type cohortRow struct {
	ID          int64
	Key         string
	Fingerprint jsonOf[fleet.Fingerprint]
	Title       string
	Name        string
	Muted       bool
	Rule        jsonOf[*fleet.Rule]
	Watch       jsonOf[fleet.Watch]
	Family      string
	Tries       int64
	Machines    int
	FirstAt     time.Time
	LastAt      time.Time
}

func (cohortRow) TableName() string { return "cohorts" }

func (r cohortRow) public() client.Cohort {
	return client.Cohort{
		ID: r.ID, Title: r.Title, Name: r.Name, Muted: r.Muted, Machines: r.Machines, First: r.FirstAt.UTC(),
		Last: r.LastAt.UTC(), Fingerprint: r.Fingerprint.V,
	}
}

type outbreakRow struct {
	ID       int64
	CohortID int64
	RaisedAt time.Time
	RaisedBy int64
	Machines int
	Watch    jsonOf[fleet.Watch]
	EndedAt  *time.Time
	Held     string
	HeldBy   string
	HeldAt   *time.Time
	ByRule   bool
	LiftedBy string
	LiftedAt *time.Time

	Title   string `gorm:"->;-:migration"`
	Suspect string `gorm:"->;-:migration"`
	Now     int    `gorm:"->;-:migration"`
}

func (outbreakRow) TableName() string { return "outbreaks" }

func (r outbreakRow) public() client.Outbreak {
	return client.Outbreak{
		ID: r.ID, Cohort: r.CohortID, Title: r.Title, Raised: r.RaisedAt.UTC(), By: r.RaisedBy, Machines: r.Machines,
		Now: r.Now, Watch: r.Watch.V, Ended: r.EndedAt, Held: r.Held, HeldBy: r.HeldBy, HeldAt: r.HeldAt,
		ByRule:   r.ByRule,
		Suspect:  r.Suspect,
		LiftedBy: r.LiftedBy, LiftedAt: r.LiftedAt,
	}
}

// again is how long a machine counts once in a cohort, however often it fails.
const again = 7 * 24 * time.Hour

// noteFleet files a case that was read: what its machine is like, and the cohort that it belongs
// to. It is part of the transaction that settles the case.
func noteFleet(db *gorm.DB, number int64, n FleetNote) error {
	var machineID int64
	var now time.Time // when the bag came in: the order of reading does not count
	if err := db.Raw("select machine_id, received_at from cases where number = ?", number).Row().Scan(&machineID,
		&now); err != nil {
		return err
	}
	if err := noteTraits(db, machineID, n); err != nil {
		return err
	}
	if !n.Tried && n.Failure == nil {
		return nil
	}
	var tries int64
	if err := db.Raw(
		"insert into tries (family, count) values (?, 1) on conflict (family) do update set count = tries.count + 1 "+
			"returning count",
		n.Family,
	).Scan(&tries).Error; err != nil || n.Failure == nil {
		return err
	}
	c, err := cohortOf(db, n, tries, now)
	if err != nil {
		return err
	}
	var known int64
	if err := db.Raw(
		"select count(*) from cases where cohort_id = ? and machine_id = ? and number <> ?", c.ID, machineID, number,
	).Scan(&known).Error; err != nil {
		return err
	}
	var lately int64
	if err := db.Raw(
		"select count(*) from cases where cohort_id = ? and machine_id = ? and number <> ? and received_at > ?",
		c.ID, machineID, number, now.Add(-again),
	).Scan(&lately).Error; err != nil {
		return err
	}
	if err := db.Exec("update cases set cohort_id = ? where number = ?", c.ID, number).Error; err != nil {
		return err
	}
	set := map[string]any{"last_at": now}
	if known == 0 {
		c.Machines++
		set["machines"] = c.Machines
	}
	if lately == 0 {
		if err := watchCohort(db, c, number, tries, set); err != nil {
			return err
		}
	}
	return db.Table("cohorts").Where("id = ?", c.ID).Updates(set).Error
}

// cohortOf finds the cohort of a failure under the rules of people, or makes it. It is locked
// until the transaction ends.
func cohortOf(db *gorm.DB, n FleetNote, tries int64, now time.Time) (*cohortRow, error) {
	var ruled []cohortRow
	if err := db.Where("rule is not null").Find(&ruled).Error; err != nil {
		return nil, err
	}
	rules := map[string]fleet.Rule{}
	for _, r := range ruled {
		rules[r.Key] = *r.Rule.V
	}
	key := fleet.KeyUnder(n.Failure.Key(), n.Traits, rules)
	title := n.Failure.Title
	if _, part, ok := strings.Cut(key, "|by "); ok {
		title += ", " + strings.ReplaceAll(part, "|", " ")
	}
	fresh := cohortRow{
		Key: key, Fingerprint: jsonOf[fleet.Fingerprint]{*n.Failure}, Title: title, Family: n.Family, Tries: tries - 1,
		FirstAt: now, LastAt: now,
	}
	if err := db.Clauses(clause.OnConflict{DoNothing: true}).Omit("Rule").Create(&fresh).Error; err != nil {
		return nil, err
	}
	var c cohortRow
	return &c, db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("key = ?", key).Take(&c).Error
}

// watchCohort tells the cohort's watch of one machine more, and raises an outbreak where that
// tips it.
func watchCohort(db *gorm.DB, c *cohortRow, number, tries int64, set map[string]any) error {
	w := c.Watch.V
	w.Passed(int(tries - c.Tries - 1))
	if w.Quiet() || !w.Raised {
		if err := db.Exec("update outbreaks set ended_at = now() where cohort_id = ? and ended_at is null",
			c.ID).Error; err != nil {
			return err
		}
	}
	raised := w.Fail()
	set["watch"], set["tries"] = jsonOf[fleet.Watch]{w}, tries
	if !raised || c.Muted {
		return nil
	}
	o := outbreakRow{
		CohortID: c.ID,
		RaisedAt: time.Now(),
		RaisedBy: number,
		Machines: c.Machines,
		Watch:    jsonOf[fleet.Watch]{w},
	}
	if err := holdByRule(db, &o, c.Fingerprint.V); err != nil {
		return err
	}
	if err := db.Create(&o).Error; err != nil {
		return err
	}
	title := c.Name
	if title == "" {
		title = c.Title
	}
	raise := notify(db, "outbreak.raised", map[string]any{
		"outbreak": o.ID, "cohort": c.ID, "title": title, "machines": c.Machines, "case": number,
		"firstSeen": c.FirstAt.UTC(), "fingerprint": c.Fingerprint.V,
	})
	if raise != nil || o.Held == "" {
		return raise
	}
	return notify(db, "outbreak.held", map[string]any{"outbreak": o.ID, "held": o.Held, "by": o.HeldBy})
}

// notify puts a notice into the outbox.
func notify(db *gorm.DB, kind string, body map[string]any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return db.Exec("insert into notices (kind, body) values (?, ?)", kind, raw).Error
}

// noteTraits keeps what the machine is like, and how many machines have each attribute.
func noteTraits(db *gorm.DB, machineID int64, n FleetNote) error {
	if len(n.Traits) == 0 {
		return nil
	}
	var had jsonOf[[]string]
	if err := db.Raw("select attributes from machines where id = ? for update", machineID).Row().Scan(&had); err != nil {
		return err
	}
	changes := changedCounts(had.V, n.Attributes)
	names := make([]string, 0, len(changes))
	for name := range changes {
		names = append(names, name)
	}
	slices.Sort(names) // in one order, so that two that are filed at once do not wait for each other
	for _, name := range names {
		if err := db.Exec(
			"insert into attribute_counts (attribute, machines) values (?, greatest(?, 0)) "+
				"on conflict (attribute) do update set machines = greatest(attribute_counts.machines + ?, 0)",
			name, changes[name], changes[name],
		).Error; err != nil {
			return err
		}
	}
	alike := ""
	if n.Traits["release"] != "" {
		alike = n.Traits["model"] + "|" + n.Traits["release"]
	}
	return db.Table("machines").Where("id = ?", machineID).Updates(map[string]any{
		"traits": jsonOf[map[string]string]{n.Traits}, "attributes": jsonOf[[]string]{n.Attributes}, "alike": alike,
	}).Error
}

// changedCounts is by how much the counts of attributes change.
func changedCounts(had, have []string) map[string]int {
	m := map[string]int{}
	for _, a := range have {
		if !slices.Contains(had, a) {
			m[a] = 1
		}
	}
	for _, a := range had {
		if !slices.Contains(have, a) {
			m[a] = -1
		}
	}
	return m
}

// Cohorts returns a page of them, of these sites; none named means all.
func (s *Store) Cohorts(ctx context.Context, sites []string, after int64, limit int) (*client.CohortPage, error) {
	page := &client.CohortPage{Cohorts: []client.Cohort{}}
	q := s.db.WithContext(ctx).Order("last_at desc, id desc").Limit(limit + 1)
	if after > 0 {
		q = q.Where("(last_at, id) < (select last_at, id from cohorts where id = ?)", after)
	}
	if len(sites) > 0 {
		q = q.Where("exists (select 1 from cases join machines on machines.id = cases.machine_id "+
			"where cases.cohort_id = cohorts.id and machines.site in ?)", sites)
	}
	var list []cohortRow
	if err := q.Where("machines > 0").Find(&list).Error; err != nil {
		return nil, err
	}
	if len(list) > limit {
		list = list[:limit]
		page.Next = list[limit-1].ID
	}
	for _, r := range list {
		page.Cohorts = append(page.Cohorts, r.public())
	}
	return page, s.withOutbreaks(ctx, page.Cohorts, sites)
}

// withOutbreaks adds to cohorts the outbreaks that go on, and counts the machines of some sites
// where a person sees no others.
func (s *Store) withOutbreaks(ctx context.Context, list []client.Cohort, sites []string) error {
	ids := make([]int64, len(list))
	for i, c := range list {
		ids[i] = c.ID
	}
	var going []outbreakRow
	if err := s.outbreakQuery(ctx).Where("outbreaks.cohort_id in ? and outbreaks.ended_at is null",
		ids).Find(&going).Error; err != nil {
		return err
	}
	for i := range list {
		for _, o := range going {
			if o.CohortID == list[i].ID {
				public := o.public()
				list[i].Outbreak = &public
			}
		}
		if len(sites) > 0 {
			if err := s.db.WithContext(ctx).Raw(
				"select count(distinct machine_id) from cases join machines on machines.id = cases.machine_id "+
					"where cohort_id = ? and site in ?", list[i].ID, sites,
			).Scan(&list[i].Machines).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Store) outbreakQuery(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Model(&outbreakRow{}).
		Select("outbreaks.*, coalesce(nullif(cohorts.name, ''), cohorts.title) as title, cohorts.machines as now, " +
			"coalesce(cohorts.fingerprint->>'suspect', '') as suspect").
		Joins("join cohorts on cohorts.id = outbreaks.cohort_id")
}

// Outbreaks lists them: those that go on first, then the latest.
func (s *Store) Outbreaks(ctx context.Context, sites []string) ([]client.Outbreak, error) {
	q := s.outbreakQuery(ctx).Order("outbreaks.ended_at is not null, outbreaks.id desc").Limit(200)
	if len(sites) > 0 {
		q = q.Where("exists (select 1 from cases join machines on machines.id = cases.machine_id "+
			"where cases.cohort_id = cohorts.id and machines.site in ?)", sites)
	}
	var rows []outbreakRow
	list := []client.Outbreak{}
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		public := r.public()
		if err := s.countHeld(ctx, &public); err != nil {
			return nil, err
		}
		list = append(list, public)
	}
	return list, nil
}

// Hold notes what is held back because of an outbreak; an empty text lifts it.
func (s *Store) Hold(ctx context.Context, id int64, what, by string) (*client.Outbreak, error) {
	set := map[string]any{
		"held":      what,
		"held_by":   by,
		"held_at":   time.Now(),
		"lifted_by": "",
		"lifted_at": nil,
		"by_rule":   false,
	}
	if what == "" {
		set = map[string]any{"lifted_by": by, "lifted_at": time.Now()}
	}
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		q := db.Table("outbreaks").Where("id = ?", id)
		if what == "" {
			q = q.Where("held <> '' and lifted_at is null")
		}
		done := q.Updates(set)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		kind := "outbreak.held"
		if what == "" {
			kind = "outbreak.lifted"
		}
		return errors.Join(done.Error, notify(db, kind, map[string]any{"outbreak": id, "held": what, "by": by}))
	})
	if err != nil {
		return nil, err
	}
	var r outbreakRow
	if err := s.outbreakQuery(ctx).Where("outbreaks.id = ?", id).Take(&r).Error; err != nil {
		return nil, mapNotFound(err)
	}
	public := r.public()
	return &public, s.countHeld(ctx, &public)
}

// countHeld adds on how many machines it is held back.
func (s *Store) countHeld(ctx context.Context, o *client.Outbreak) (err error) {
	if o.Held == "" || o.LiftedAt != nil {
		return nil
	}
	o.HeldOn, o.HeldOf, o.HoldProblems, err = heldOn(s.db.WithContext(ctx), o.Held)
	return err
}

// ChangeCohort names, mutes, merges or splits a cohort. Cases that it has already go where the
// rule sends them.
func (s *Store) ChangeCohort(ctx context.Context, id int64, change client.CohortChange) (*client.Cohort, error) {
	var c cohortRow
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&c).Error; err != nil {
			return mapNotFound(err)
		}
		set := map[string]any{}
		if change.Name != nil {
			c.Name = *change.Name
			set["name"] = c.Name
		}
		if change.Muted != nil {
			c.Muted = *change.Muted
			set["muted"] = c.Muted
		}
		if err := ruleFor(db, &c, change, set); err != nil || len(set) == 0 {
			return err
		}
		if err := db.Table("cohorts").Where("id = ?", id).Updates(set).Error; err != nil {
			return err
		}
		if change.Into != nil && *change.Into > 0 {
			return mergeCohort(db, id, *change.Into)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	public := c.public()
	return &public, nil
}

// ErrItself means that a cohort would belong to itself.
var ErrItself = errors.New("a cohort cannot belong to itself")

func ruleFor(db *gorm.DB, c *cohortRow, change client.CohortChange, set map[string]any) error {
	if change.Into == nil && change.By == nil {
		return nil
	}
	rule := fleet.Rule{}
	if change.By != nil {
		rule.By = *change.By
	}
	if change.Into != nil && *change.Into > 0 {
		if *change.Into == c.ID {
			return ErrItself
		}
		var into cohortRow
		if err := db.Where("id = ?", *change.Into).Take(&into).Error; err != nil {
			return mapNotFound(err)
		}
		rule.Into = into.Key
	}
	set["rule"] = nil
	if rule != (fleet.Rule{}) {
		set["rule"] = jsonOf[*fleet.Rule]{&rule}
	}
	return nil
}

// mergeCohort brings the cases of one cohort to another.
func mergeCohort(db *gorm.DB, from, into int64) error {
	if err := db.Exec("update cases set cohort_id = ? where cohort_id = ?", into, from).Error; err != nil {
		return err
	}
	if err := db.Exec("update outbreaks set ended_at = now() where cohort_id = ? and ended_at is null",
		from).Error; err != nil {
		return err
	}
	return db.Exec(
		`update cohorts set machines = (select count(distinct machine_id) from cases where cohort_id = cohorts.id)
		where id in ?`,
		[]int64{from, into},
	).Error
}
