package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diorthos/client"
	"diorthos/core/climb"
	"diorthos/service/lifecycle"
)

var (
	// ErrNotOpen means that a case has no ladder to climb yet.
	ErrNotOpen = errors.New("case is not open")
	// ErrBusy means that somebody else climbs.
	ErrBusy = errors.New("case is being climbed")
	// ErrEnded means that a climb is over.
	ErrEnded = errors.New("climb is over")
)

type climbRow struct {
	ID         int64 `gorm:"primaryKey"`
	CaseNumber int64
	Person     string
	Host       string
	State      client.ClimbState
	Rung       int
	Phase      string
	Problem    string
	Runs       json.RawMessage `gorm:"type:jsonb"`
	BeganAt    time.Time
	EndedAt    *time.Time
}

func (climbRow) TableName() string { return "climbs" }

func (r climbRow) public() (client.Climb, error) {
	c := client.Climb{
		ID:      r.ID,
		Case:    r.CaseNumber,
		By:      r.Person,
		Host:    r.Host,
		State:   r.State,
		Rung:    r.Rung,
		Phase:   r.Phase,
		Problem: r.Problem,
		Began:   r.BeganAt.UTC(),
		Ended:   r.EndedAt,
		Runs:    []climb.Run{},
	}
	return c, json.Unmarshal(r.Runs, &c.Runs)
}

func (s *Store) climbs(ctx context.Context, number int64) ([]client.Climb, error) {
	var rows []climbRow
	if err := s.db.WithContext(ctx).Where(
		"case_number = ?", number,
	).Order("id desc").Limit(50).Find(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]client.Climb, 0, len(rows))
	for _, r := range rows {
		c, err := r.public()
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, nil
}

// typicalRuns is over how many of the latest times a remedy was proven the median is.
const typicalRuns = 200

// typical is how long remedies took where they were proven in the whole fleet.
func (s *Store) typical(ctx context.Context, remedies []string) (map[string]client.Typical, error) {
	m := map[string]client.Typical{}
	if len(remedies) == 0 {
		return m, nil
	}
	names, err := json.Marshal(remedies)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Remedy  string
		Seconds float64
		Runs    int64
	}
	err = s.db.WithContext(ctx).Raw(
		`select r.remedy, percentile_cont(0.5) within group (order by t.seconds) as seconds, count(*) as runs
		from jsonb_array_elements_text(?::jsonb) as r(remedy)
		join lateral (select seconds from took where took.remedy = r.remedy order by id desc limit ?) t on true
		group by 1`, string(names), typicalRuns,
	).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		m[r.Remedy] = client.Typical{Seconds: r.Seconds, Runs: r.Runs}
	}
	return m, nil
}

// silentAfter is how long a climb may tell nothing before it is taken as cut off.
const silentAfter = "30 seconds"

// StartClimb records that a climb begins. Only one goes on at a time: one that
// fell silent, or that the same person began on the same computer, is cut off.
func (s *Store) StartClimb(
	ctx context.Context, number int64, person string, start client.ClimbStart,
) (*client.Climb, error) {
	row := climbRow{
		CaseNumber: number, Person: person, Host: start.Host, Rung: start.Rung, State: client.Running,
		Phase: climb.Looking, Runs: json.RawMessage("[]"), BeganAt: time.Now(),
	}
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		c, err := lockCase(db, number)
		if err != nil {
			return err
		}
		next, err := lifecycle.Next(c.State, lifecycle.ClimbBegins)
		if err != nil {
			return ErrNotOpen
		}
		over := db.Where("person = ? and host = ? or heartbeat < now() - interval '"+silentAfter+"'", person, start.Host)
		if err := cutOff(db, db.Where("case_number = ?", number).Where(over)); err != nil {
			return err
		}
		var running int64
		if err := db.Model(&climbRow{}).Where(
			"case_number = ? and state = ?", number, client.Running,
		).Count(&running).Error; err != nil {
			return err
		}
		if running > 0 {
			return ErrBusy
		}
		if err := db.Create(&row).Error; err != nil {
			return err
		}
		return refreshCase(db, number, next)
	})
	if err != nil {
		return nil, err
	}
	c, err := row.public()
	return &c, err
}

// cutOff ends the running climbs that which selects.
func cutOff(db, which *gorm.DB) error {
	return db.Table("climbs").Where("state = ?", client.Running).Where(which).Updates(map[string]any{
		"state": client.CutOff, "problem": "nothing more was heard of it", "ended_at": time.Now(),
	}).Error
}

// EndSilentClimbs cuts climbs off of which nothing was heard, so that their cases
// can be climbed again. It returns the numbers of the cases.
func (s *Store) EndSilentClimbs(ctx context.Context) (numbers []int64, err error) {
	const silent = "heartbeat < now() - interval '" + silentAfter + "'"
	err = s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Exec( // the clock was set back: a sign of life from what is to come counts as one from now
			"update climbs set heartbeat = now() where state = ? and heartbeat > now() + interval '1 minute'", client.Running,
		).Error; err != nil {
			return err
		}
		err := db.Model(&climbRow{}).Where("state = ? and "+silent, client.Running).Order("case_number").
			Distinct().Pluck("case_number", &numbers).Error
		for _, n := range numbers {
			if err == nil {
				err = endSilent(db, n, silent)
			}
		}
		return err
	})
	return numbers, err
}

func endSilent(db *gorm.DB, number int64, silent string) error {
	c, err := lockCase(db, number)
	if err != nil {
		return err
	}
	if err := cutOff(db, db.Where("case_number = ? and "+silent, number)); err != nil {
		return err
	}
	next, err := lifecycle.Next(c.State, lifecycle.ClimbEnds)
	if err != nil {
		return nil //nolint:nilerr // its state has nothing to do with the climb
	}
	return refreshCase(db, number, next)
}

// lockCase keeps others from changing a case's state.
func lockCase(db *gorm.DB, number int64) (*caseRow, error) {
	var c caseRow
	err := db.Clauses(
		clause.Locking{Strength: "UPDATE"},
	).Select("number", "state").Where("number = ?", number).Take(&c).Error
	return &c, mapNotFound(err)
}

// ErrNotYours means that somebody else began a climb.
var ErrNotYours = errors.New("the climb is another person's")

// ReportClimb notes how a climb goes on. Only who began it may report on it.
func (s *Store) ReportClimb(ctx context.Context, id int64, person string, r client.ClimbReport) (*client.Climb, error) {
	var row climbRow
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&row).Error; err != nil {
			return mapNotFound(err)
		}
		switch {
		case row.Person != person:
			return ErrNotYours
		case row.State != client.Running:
			return ErrEnded
		}
		if err := row.take(r); err != nil {
			return err
		}
		if run := r.Run; run != nil && run.Outcome == climb.Proven && run.Remedy != "" {
			err := db.Exec("insert into took (remedy, seconds) values (?, ?)", run.Remedy, run.Took.Seconds()).Error
			if err != nil {
				return err
			}
		}
		if err := db.Save(&row).Error; err != nil {
			return err
		}
		if err := db.Exec("update climbs set heartbeat = now() where id = ?", id).Error; err != nil {
			return err
		}
		c, err := lockCase(db, row.CaseNumber)
		if err != nil || row.State == client.Running {
			return err
		}
		next, err := lifecycle.Next(c.State, lifecycle.ClimbEnds)
		if err != nil {
			next = c.State
		}
		return refreshCase(db, row.CaseNumber, next)
	})
	if err != nil {
		return nil, err
	}
	c, err := row.public()
	return &c, err
}

// mostRuns is how many rungs one climb may report.
const mostRuns = 500

// ErrTooMany means that a climb has reported as many rungs as it may.
var ErrTooMany = fmt.Errorf("a climb reports at most %d rungs", mostRuns)

// take brings a report into the row.
func (row *climbRow) take(r client.ClimbReport) error {
	row.State, row.Phase = r.State, r.Phase
	if r.Problem != "" {
		row.Problem = r.Problem
	}
	if r.State != client.Running {
		now := time.Now()
		row.EndedAt = &now
	}
	if r.Run == nil {
		return nil
	}
	var runs []climb.Run
	if err := json.Unmarshal(row.Runs, &runs); err != nil {
		return err
	}
	if len(runs) >= mostRuns {
		return ErrTooMany
	}
	var err error
	row.Runs, err = json.Marshal(append(runs, *r.Run))
	return err
}

// refreshCase brings a case's state and its count of proven rungs up to date.
func refreshCase(db *gorm.DB, number int64, state client.CaseState) error {
	var lists []string
	if err := db.Table("climbs").Where("case_number = ?", number).Order("id").Pluck("runs", &lists).Error; err != nil {
		return err
	}
	var all []climb.Run
	for _, raw := range lists {
		var runs []climb.Run
		if err := json.Unmarshal([]byte(raw), &runs); err != nil {
			return err
		}
		all = append(all, runs...)
	}
	proven := 0
	for _, o := range climb.Standing(all) {
		if o == climb.Proven {
			proven++
		}
	}
	return db.Exec(
		"update cases set state = ?, updated_at = now(), proven = ? where number = ?", state, proven, number,
	).Error
}
