package records

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diorthos/client"
	"diorthos/core/fleet"
)

// HoldsFor lists what a machine has to hold back: what is held because of an outbreak of its family, unless that
// was lifted.
func (s *Store) HoldsFor(ctx context.Context, machine string) ([]string, error) {
	list := []string{}
	err := s.db.WithContext(ctx).Raw(
		`select distinct o.held from outbreaks o join cohorts c on c.id = o.cohort_id
		where o.held <> '' and o.lifted_at is null and (not o.by_rule or exists (select 1 from site_rules r
			join machines m on m.site = r.site where m.name = ? and r.holds)) and (c.family = '' or c.family in
			(select traits->>'system' from machines where name = ?) or not exists
			(select 1 from machines where name = ? and traits->>'system' is not null))
		order by o.held`, machine, machine, machine,
	).Scan(&list).Error
	return list, err
}

// AnyHeld reports whether anything is held back anywhere.
func (s *Store) AnyHeld(ctx context.Context) (any bool, err error) {
	return any, s.db.WithContext(ctx).Raw(
		"select exists (select 1 from outbreaks where held <> '' and lifted_at is null)",
	).Row().Scan(&any)
}

// holdByRule has an outbreak hold back what it points to, at the sites whose rule says so.
func holdByRule(db *gorm.DB, o *outbreakRow, f fleet.Fingerprint) error {
	if f.Suspect == "" {
		return nil
	}
	var sites int64
	if err := db.Raw("select count(*) from site_rules where holds").Scan(&sites).Error; err != nil || sites == 0 {
		return err
	}
	now := time.Now()
	o.Held, o.HeldBy, o.HeldAt, o.ByRule = f.Suspect, "the rules of sites", &now, true
	return nil
}

// TellHeld notes what a machine says that it holds back.
func (s *Store) TellHeld(ctx context.Context, machine string, held map[string]string) error {
	done := s.db.WithContext(ctx).Table("agents").Where("machine = ? and ended_at is null", machine).
		Update("held", jsonOf[map[string]string]{held})
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}

// heldOn counts the agents that hold something back, and lists those that cannot.
func heldOn(db *gorm.DB, what string) (on, of int, problems []client.HoldProblem, err error) {
	if err := db.Raw(
		"select count(*) filter (where held->>? = ''), count(*) from agents where ended_at is null and not stick", what,
	).Row().Scan(&on, &of); err != nil {
		return 0, 0, nil, err
	}
	return on, of, problems, db.Raw(
		"select machine, held->>@what as problem from agents where ended_at is null and not stick and held->>@what <> '' "+
			"order by machine limit 20", map[string]any{"what": what},
	).Scan(&problems).Error
}

type siteRuleRow struct {
	Site   string `gorm:"primaryKey"`
	Opens  string
	Closes string
	Zone   string
	AtOnce int
	Holds  bool
	SetBy  string
	SetAt  time.Time
}

func (siteRuleRow) TableName() string { return "site_rules" }

func (r siteRuleRow) public() client.SiteRule {
	return client.SiteRule{
		Site: r.Site, Opens: r.Opens, Closes: r.Closes, Zone: r.Zone, AtOnce: r.AtOnce, Holds: r.Holds,
		By: r.SetBy, At: r.SetAt.UTC(),
	}
}

// ErrWindow means that a window of time cannot be one.
var ErrWindow = errors.New("want two times of day such as 20:00 and 05:00, and a zone such as UTC or Europe/Oslo")

const timeOfDay = "15:04"

// SetSiteRule says when, and on how many machines at once, orders may be carried out at a site.
func (s *Store) SetSiteRule(ctx context.Context, rule client.SiteRule, by string) (*client.SiteRule, error) {
	if rule.Zone == "" {
		rule.Zone = "UTC"
	}
	_, zone := time.LoadLocation(rule.Zone)
	if zone != nil || (rule.Opens == "") != (rule.Closes == "") || rule.Opens != "" && rule.Opens == rule.Closes {
		return nil, ErrWindow
	}
	for _, t := range []string{rule.Opens, rule.Closes} {
		if _, err := time.Parse(timeOfDay, t); t != "" && err != nil {
			return nil, fmt.Errorf("%q: %w", t, ErrWindow)
		}
	}
	r := siteRuleRow{
		Site: rule.Site, Opens: rule.Opens, Closes: rule.Closes, Zone: rule.Zone, AtOnce: rule.AtOnce,
		Holds: rule.Holds, SetBy: by, SetAt: time.Now(),
	}
	err := s.db.WithContext(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "site"}}, UpdateAll: true}).
		Create(&r).Error
	public := r.public()
	return &public, err
}

// SiteRules lists them, of these sites; none named means all.
func (s *Store) SiteRules(ctx context.Context, sites []string) ([]client.SiteRule, error) {
	var rows []siteRuleRow
	q := s.db.WithContext(ctx).Order("site")
	if len(sites) > 0 {
		q = q.Where("site in ?", sites)
	}
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	list := []client.SiteRule{}
	for _, r := range rows {
		rule := r.public()
		if err := s.db.WithContext(ctx).Raw("select count(*) from machines where site = ?", r.Site).
			Scan(&rule.Machines).Error; err != nil {
			return nil, err
		}
		list = append(list, rule)
	}
	return list, nil
}

// open reports whether an order may be begun at a time.
func (r siteRuleRow) open(now time.Time) bool {
	if r.Opens == "" {
		return true
	}
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		return false // a zone that this computer does not know: nothing is begun at an hour that nobody wanted
	}
	at := now.In(zone).Format(timeOfDay)
	if r.Opens < r.Closes {
		return at >= r.Opens && at < r.Closes
	}
	return at >= r.Opens || at < r.Closes
}

// mayBegin reports whether an order may be begun on a machine now, by the rule of its site. The site is locked
// until the transaction ends, so that no two are begun in the place of one.
func mayBegin(db *gorm.DB, machine string, now time.Time) (bool, error) {
	var rules []siteRuleRow
	if err := db.Raw(
		"select r.* from site_rules r join machines m on m.site = r.site where m.name = ? for update of r", machine,
	).Scan(&rules).Error; err != nil || len(rules) == 0 {
		return err == nil, err
	}
	r := rules[0]
	if !r.open(now) || r.AtOnce == 0 {
		return r.open(now), nil
	}
	var running []string
	err := db.Raw(
		"select o.machine from orders o join machines m on m.name = o.machine where m.site = ? and o.state = 'running'",
		r.Site,
	).Scan(&running).Error
	return len(running) < r.AtOnce || slices.Contains(running, machine), err
}
