package records

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"diorthos/client"
	"diorthos/core/climb"
	"diorthos/core/docket"
	"diorthos/core/fleet"
	"diorthos/core/knowledge"
)

const (
	orderValid = 24 * time.Hour
	// lostAfter is how long nothing may be heard of an order that is carried out.
	lostAfter = 15 * time.Minute
	// agentSilentAfter is how long an agent may be silent before its machine is left out.
	agentSilentAfter = time.Hour
)

type rolloutRow struct {
	ID        int64
	CohortID  int64
	Remedy    string
	Title     string
	Invasive  knowledge.Invasiveness
	State     string
	Why       string
	BegunBy   string
	BegunAt   time.Time
	ChangedAt time.Time
	// How many had failed or were lost when a person let it go on.
	SeenFailed int
	SeenLost   int
}

func (rolloutRow) TableName() string { return "rollouts" }

type orderRow struct {
	ID         int64
	Machine    string
	RolloutID  *int64
	Wave       int
	State      client.OrderState
	CaseNumber *int64
	Rung       int
	Back       bool
	Payload    []byte
	Signature  []byte
	Problem    string
	ChangedAt  time.Time
	// Of one that a person gave to one machine alone.
	Remedy    string
	Title     string
	OrderedBy string

	Site string `gorm:"->;-:migration"`
}

func (orderRow) TableName() string { return "orders" }

var (
	// ErrNotProven means that a repair was proven on no machine of the cohort yet.
	ErrNotProven = errors.New("this repair was proven on no machine of the cohort yet: climb one of them first")
	// ErrNotOffered means that it is not one that goes round.
	ErrNotOffered = errors.New("what destroys data is never offered to many")
	// ErrNobody means that no machine could take it.
	ErrNobody = errors.New("no machine of the cohort can take it")
	// ErrGoing means that a roll-out of the cohort goes on already.
	ErrGoing = errors.New("a roll-out to this cohort goes on already")
)

// candidate is a machine of a cohort that a repair may be offered to.
type candidate struct {
	fleet.Member
	number int64
	rung   int
	digest string
	level  knowledge.Invasiveness
	title  string
}

// Offer plans a roll-out, and begins it unless only a preview is wanted.
func (s *Store) Offer(
	ctx context.Context,
	sites []string,
	wish client.RolloutWish,
	by string,
) (*client.Rollout, error) {
	members, err := s.candidatesFor(ctx, sites, wish)
	if err != nil {
		return nil, err
	}
	r := &client.Rollout{
		Cohort:  wish.Cohort,
		Remedy:  wish.Remedy,
		State:   "going",
		By:      by,
		Members: []client.RolloutMember{},
	}
	offered := make([]fleet.Member, len(members))
	for i, m := range members {
		offered[i] = m.Member
		if m.title != "" {
			r.Title, r.Invasive = m.title, string(m.level)
		}
	}
	if wish.Paused {
		r.State = "paused"
	}
	waves := fleet.Waves(offered)
	if r.Waves = len(waves); r.Waves == 0 {
		return nil, fmt.Errorf("%w: %s", ErrNobody, leftOut(offered))
	}
	waveOf := map[string]int{}
	for i, w := range waves {
		for _, m := range w {
			waveOf[m] = i + 1
		}
	}
	if wish.Preview {
		for _, m := range members {
			state := client.OrderWaiting
			if m.LeftOut != "" {
				state = client.OrderLeftOut
			}
			r.Members = append(r.Members, client.RolloutMember{
				Machine: m.Machine, Site: m.Site, Wave: waveOf[m.Machine], State: state, Case: m.number, Problem: m.LeftOut,
			})
		}
		slices.SortStableFunc(r.Members, func(a, b client.RolloutMember) int { return a.Wave - b.Wave })
		return r, nil
	}
	err = s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Exec("select 1 from cohorts where id = ? for update", wish.Cohort).Error; err != nil {
			return err
		}
		var going int64
		if err := db.Table("rollouts").Where(
			"cohort_id = ? and state in ('going', 'paused', 'halted', 'taking back')", wish.Cohort,
		).Count(&going).Error; err != nil {
			return err
		}
		if going > 0 {
			return ErrGoing
		}
		row := rolloutRow{
			CohortID: wish.Cohort, Remedy: wish.Remedy, Title: r.Title, Invasive: knowledge.Invasiveness(r.Invasive),
			State:   r.State,
			BegunBy: by, BegunAt: time.Now(), ChangedAt: time.Now(),
		}
		if err := db.Create(&row).Error; err != nil {
			return err
		}
		r.ID = row.ID
		for _, m := range members {
			o := orderRow{
				Machine: m.Machine, RolloutID: &row.ID, Wave: waveOf[m.Machine], State: client.OrderWaiting, CaseNumber: &m.number,
				Rung: m.rung, Problem: m.LeftOut, ChangedAt: time.Now(),
			}
			if m.LeftOut != "" {
				o.State = client.OrderLeftOut
			}
			if m.number == 0 {
				o.CaseNumber = nil
			}
			if err := db.Omit("Payload", "Signature").Create(&o).Error; err != nil {
				return err
			}
		}
		return notify(
			db,
			"rollout.begun",
			map[string]any{"rollout": row.ID, "cohort": wish.Cohort, "title": r.Title, "by": by},
		)
	})
	if err != nil {
		return nil, err
	}
	return s.Rollout(ctx, sites, r.ID)
}

func leftOut(list []fleet.Member) string {
	for _, m := range list {
		if m.LeftOut != "" {
			return m.Machine + ": " + m.LeftOut
		}
	}
	return "it has none"
}

// candidatesFor lists the machines of a cohort, each with the rung that it would be, or why it is
// left out.
func (s *Store) candidatesFor(ctx context.Context, sites []string, wish client.RolloutWish) ([]candidate, error) {
	d, err := s.CohortDetail(ctx, sites, wish.Cohort)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(
		d.Helped,
		func(h client.RemedyOutcomes) bool { return h.Remedy == wish.Remedy && h.Proven > 0 },
	) {
		return nil, ErrNotProven
	}
	var seen []struct {
		Machine string
		Silent  bool
	}
	if err := s.db.WithContext(ctx).Raw(
		"select machine, "+agentSilent("seen_at")+" as silent from agents where ended_at is null and not stick and "+
			"machine in (select machines.name from cases "+
			"join machines on machines.id = cases.machine_id where cohort_id = ?)", wish.Cohort,
	).Scan(&seen).Error; err != nil {
		return nil, err
	}
	silent := map[string]bool{}
	for _, a := range seen {
		silent[a.Machine] = a.Silent
	}
	var mended []string
	outcomes, _, err := s.outcomes(ctx, "cases.cohort_id = ?", wish.Cohort)
	if err != nil {
		return nil, err
	}
	for _, o := range outcomes {
		if o.Remedy == wish.Remedy && o.Helped {
			mended = append(mended, o.Machine)
		}
	}
	var list []candidate
	for _, c := range d.Cases {
		m := candidate{Member: fleet.Member{Machine: c.Machine, Site: c.Site}, number: c.Number, digest: c.Bag}
		unheard, has := silent[c.Machine]
		var raw []byte
		if err := s.db.WithContext(ctx).Raw("select docket from cases where number = ?",
			c.Number).Row().Scan(&raw); err != nil {
			return nil, err
		}
		var read docket.Docket
		if err := json.Unmarshal(raw, &read); err != nil {
			return nil, err
		}
		for _, r := range read.ToDo {
			if r.Remedy == wish.Remedy && r.By == knowledge.ByDiorthos {
				m.rung, m.level, m.title = r.Number, r.Invasive, r.Title
			}
		}
		var latest int64
		if err := s.db.WithContext(ctx).Raw(
			"select coalesce(latest, 0) from machines where name = ?", c.Machine,
		).Row().Scan(&latest); err != nil {
			return nil, err
		}
		switch {
		case m.level == knowledge.Destroys:
			return nil, ErrNotOffered
		case c.State != client.Open:
			m.LeftOut = fmt.Sprintf("its case %d is %s", c.Number, c.State)
		case slices.Contains(mended, c.Machine):
			m.LeftOut = "it was done there already"
		case latest != c.Number:
			m.LeftOut = fmt.Sprintf("it has a newer case, %d", latest)
		case m.rung == 0:
			m.LeftOut = "its ladder has no such rung: it differs from the others"
		case !has:
			m.LeftOut = "it has no agent"
		case unheard:
			m.LeftOut = "its agent has not been heard for an hour"
		}
		list = append(list, m)
	}
	return list, nil
}

// Rollouts lists them, the latest first, without their machines.
func (s *Store) Rollouts(ctx context.Context) ([]client.Rollout, error) {
	var rows []rolloutRow
	if err := s.db.WithContext(ctx).Order("id desc").Limit(100).Find(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]client.Rollout, 0, len(rows))
	for _, r := range rows {
		full, err := s.rollout(ctx, r)
		if err != nil {
			return nil, err
		}
		full.Members = []client.RolloutMember{}
		list = append(list, *full)
	}
	return list, nil
}

// Rollout returns one with its machines.
func (s *Store) Rollout(ctx context.Context, sites []string, id int64) (*client.Rollout, error) {
	var row rolloutRow
	if err := s.db.WithContext(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		return nil, mapNotFound(err)
	}
	r, err := s.rollout(ctx, row)
	if err != nil {
		return nil, err
	}
	if len(sites) > 0 {
		r.Members = slices.DeleteFunc(r.Members, func(m client.RolloutMember) bool { return !slices.Contains(sites, m.Site) })
		if len(r.Members) == 0 {
			return nil, ErrNotFound
		}
	}
	return r, nil
}

func (s *Store) rollout(ctx context.Context, row rolloutRow) (*client.Rollout, error) {
	r := &client.Rollout{
		ID: row.ID, Cohort: row.CohortID, Remedy: row.Remedy, Title: row.Title, Invasive: string(row.Invasive),
		State: row.State,
		Why:   row.Why, By: row.BegunBy, Begun: row.BegunAt.UTC(), Members: []client.RolloutMember{},
	}
	orders, err := ordersOf(s.db.WithContext(ctx), row.ID)
	if err != nil {
		return nil, err
	}
	for _, o := range orders {
		m := client.RolloutMember{Machine: o.Machine, Site: o.Site, Wave: o.Wave, State: o.State, Problem: o.Problem}
		if o.CaseNumber != nil {
			m.Case = *o.CaseNumber
		}
		r.Members = append(r.Members, m)
		r.Waves = max(r.Waves, o.Wave)
	}
	r.Tally, r.Wave = tally(orders)
	return r, nil
}

// ordersOf are those of a roll-out: of each machine the last one.
func ordersOf(db *gorm.DB, rollout int64) (list []orderRow, err error) {
	return list, db.Raw(
		`select distinct on (orders.wave, orders.machine) orders.*, coalesce(machines.site, '') as site from orders
		left join machines on machines.name = orders.machine where rollout_id = ?
		order by orders.wave, orders.machine, orders.id desc`,
		rollout,
	).Scan(&list).Error
}

// tally counts how machines stand, and which wave runs.
func tally(orders []orderRow) (t fleet.Tally, wave int) {
	for _, o := range orders {
		switch o.State {
		case client.OrderWaiting:
			t.Waiting++
			continue
		case client.OrderOrdered, client.OrderRunning:
			t.Running++
		case client.OrderProven:
			t.Proven++
		case client.OrderFailed:
			t.Failed++
		case client.OrderRefused, client.OrderStopped:
			t.Refused++
		case client.OrderLost:
			t.Lost++
		case client.OrderTakenBack:
			t.TakenBack++
		}
		wave = max(wave, o.Wave)
	}
	return t, wave
}

// ChangeRollout stops a roll-out, lets it go on, or takes it back.
func (s *Store) ChangeRollout(
	ctx context.Context,
	sites []string,
	id int64,
	state, by string,
) (*client.Rollout, error) {
	from := map[string][]string{
		"paused": {"going"}, "going": {"paused", "halted"}, "stopped": {"going", "paused", "halted"},
		"taking back": {"going", "paused", "halted", "stopped", "done"},
	}[state]
	if _, err := s.Rollout(ctx, sites, id); err != nil { // it may be none of theirs
		return nil, err
	}
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		done := db.Exec(
			"update rollouts set state = ?, why = ?, changed_at = now() where id = ? and state in ?", state, "by "+by, id, from,
		)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		if done.Error != nil || state == "paused" {
			return done.Error
		}
		if state == "going" {
			orders, err := ordersOf(db, id)
			if err != nil {
				return err
			}
			t, _ := tally(orders)
			return db.Exec("update rollouts set seen_failed = ?, seen_lost = ? where id = ?", t.Failed, t.Lost, id).Error
		}
		return db.Exec(
			"update orders set state = 'stopped', problem = ?, changed_at = now() where rollout_id = ? and state in "+
				"('waiting', 'ordered')",
			"stopped by "+by,
			id,
		).Error
	})
	if err != nil {
		return nil, err
	}
	return s.Rollout(ctx, sites, id)
}

// Conduct brings every roll-out on its way a step further: gives orders, looks for machines that
// were lost, halts one whose proofs fail. Any process may do it at any time: a roll-out is locked
// meanwhile, and nothing is ordered twice.
func (s *Store) Conduct(ctx context.Context) error {
	if err := endOrders(s.db.WithContext(ctx)); err != nil {
		return err
	}
	var ids []int64
	if err := s.db.WithContext(ctx).Raw(
		"select id from rollouts where state in ('going', 'taking back') order by id",
	).Scan(&ids).Error; err != nil || len(ids) == 0 {
		return err
	}
	key, err := s.ServiceKey(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		err = errors.Join(err, s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
			var r rolloutRow
			if err := db.Raw(
				"select * from rollouts where id = ? and state in ('going', 'taking back') for update skip locked", id,
			).Scan(&r).Error; err != nil || r.ID == 0 {
				return err
			}
			return conduct(db, r, key)
		}))
	}
	return err
}

func conduct(db *gorm.DB, r rolloutRow, key ed25519.PrivateKey) error {
	if err := db.Exec(
		"update orders set state = 'lost', problem = 'nothing was heard of it any more', changed_at = now() "+
			"where rollout_id = ? and state = 'running' and changed_at < now() - "+seconds(lostAfter), r.ID,
	).Error; err != nil {
		return err
	}
	orders, err := ordersOf(db, r.ID)
	if err != nil {
		return err
	}
	if r.State == "taking back" {
		return takeBack(db, r, orders, key)
	}
	t, _ := tally(orders)
	if why := t.Beyond(r.SeenFailed, r.SeenLost).Halts(); why != "" {
		if err := notify(db, "rollout.halted", map[string]any{"rollout": r.ID, "title": r.Title, "why": why}); err != nil {
			return err
		}
		return db.Exec("update rollouts set state = 'halted', why = ?, changed_at = now() where id = ?", why, r.ID).Error
	}
	if t.Running > 0 {
		return nil
	}
	next := 0
	for _, o := range orders {
		if o.State == client.OrderWaiting && (next == 0 || o.Wave < next) {
			next = o.Wave
		}
	}
	if next == 0 {
		return db.Exec("update rollouts set state = 'done', why = ?, changed_at = now() where id = ?",
			fmt.Sprintf("proven on %d machines", t.Proven), r.ID).Error
	}
	for _, o := range orders {
		if o.State == client.OrderWaiting && o.Wave == next {
			if err := order(db, r, o, key); err != nil {
				return err
			}
		}
	}
	return nil
}

// order signs an order for what r says, and lets the machine's agent have it.
func order(db *gorm.DB, r rolloutRow, o orderRow, key ed25519.PrivateKey) error {
	var evidence string
	if o.CaseNumber == nil {
		return db.Exec("update orders set state = 'left out', problem = 'it has no case' where id = ?", o.ID).Error
	}
	if err := db.Raw("select bag_digest from cases where number = ?", *o.CaseNumber).Row().Scan(&evidence); err != nil {
		return err
	}
	payload, signature, err := climb.Order{
		ID: o.ID, Machine: o.Machine, Case: *o.CaseNumber, Evidence: evidence, Rung: o.Rung, Remedy: r.Remedy,
		Level:    r.Invasive,
		Approved: r.BegunBy, Expires: time.Now().Add(orderValid).UTC(), Back: o.Back,
	}.Sign(key)
	if err != nil {
		return err
	}
	return db.Exec(
		"update orders set state = 'ordered', payload = ?, signature = ?, changed_at = now() where id = ?",
		payload,
		signature,
		o.ID,
	).Error
}

// takeBack undoes what was proven, the newest wave first.
func takeBack(db *gorm.DB, r rolloutRow, orders []orderRow, key ed25519.PrivateKey) error {
	t, _ := tally(orders)
	if t.Running > 0 {
		return nil
	}
	last := 0
	for _, o := range orders {
		if o.State == client.OrderProven && !o.Back {
			last = max(last, o.Wave)
		}
	}
	if last == 0 {
		return db.Exec("update rollouts set state = 'taken back', changed_at = now() where id = ?", r.ID).Error
	}
	for _, o := range orders {
		if o.State != client.OrderProven || o.Back || o.Wave != last {
			continue
		}
		back := orderRow{
			Machine: o.Machine, RolloutID: &r.ID, Wave: o.Wave, State: client.OrderWaiting, CaseNumber: o.CaseNumber,
			Rung: o.Rung, Back: true,
			ChangedAt: time.Now(),
		}
		if err := db.Omit("Payload", "Signature").Create(&back).Error; err != nil {
			return err
		}
		if err := order(db, r, back, key); err != nil {
			return err
		}
	}
	return nil
}
