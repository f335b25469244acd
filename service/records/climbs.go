package records

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diorthos/client"
	"diorthos/core/ladder"
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
	State      string
	Rung       int
	Phase      string
	Problem    string
	Runs       json.RawMessage `gorm:"type:jsonb"`
	BeganAt    time.Time
	EndedAt    *time.Time
}

func (climbRow) TableName() string { return "climbs" }

func (r climbRow) public() (client.Climb, error) {
	c := client.Climb{ID: r.ID, Case: r.CaseNumber, By: r.Person, Host: r.Host, State: r.State, Rung: r.Rung, Phase: r.Phase, Problem: r.Problem, Began: r.BeganAt.UTC(), Ended: r.EndedAt, Runs: []ladder.Run{}}
	return c, json.Unmarshal(r.Runs, &c.Runs)
}

func (s *Store) climbs(ctx context.Context, number int64) ([]client.Climb, error) {
	var rows []climbRow
	if err := s.db.WithContext(ctx).Where("case_number = ?", number).Order("id desc").Limit(50).Find(&rows).Error; err != nil {
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

// typical is how long remedies took in the latest climbs of the whole fleet,
// where they were proven.
func (s *Store) typical(ctx context.Context) (map[string]client.Typical, error) {
	var rows []struct {
		Remedy  string
		Seconds float64
		Runs    int64
	}
	err := s.db.WithContext(ctx).Raw(`select r->>'remedy' as remedy, percentile_cont(0.5) within group (order by (r->>'took')::float8 / 1e9) as seconds, count(*) as runs
		from (select runs from climbs order by id desc limit 2000) c, jsonb_array_elements(c.runs) r
		where r->>'outcome' = 'proven' and r->>'remedy' <> '' group by 1`).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	m := map[string]client.Typical{}
	for _, r := range rows {
		m[r.Remedy] = client.Typical{Seconds: r.Seconds, Runs: r.Runs}
	}
	return m, nil
}

// quietAfter is how long a climb may tell nothing before another may begin.
const quietAfter = 15 * time.Minute

// StartClimb records that a climb begins. Only one goes on at a time; one
// that has been silent for long is taken as cut off.
func (s *Store) StartClimb(ctx context.Context, number int64, person string, start client.ClimbStart) (*client.Climb, error) {
	row := climbRow{CaseNumber: number, Person: person, Host: start.Host, Rung: start.Rung, State: client.Running, Phase: ladder.Looking, Runs: json.RawMessage("[]"), BeganAt: time.Now()}
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		var c caseRow
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Select("number", "state", "updated_at").Where("number = ?", number).Take(&c).Error; err != nil {
			return found(err)
		}
		switch {
		case c.State == client.Climbing && time.Since(c.UpdatedAt) < quietAfter:
			return ErrBusy
		case c.State != client.Open && c.State != client.Quiet && c.State != client.Climbing:
			return ErrNotOpen
		}
		if err := db.Table("climbs").Where("case_number = ? and state = ?", number, client.Running).
			Updates(map[string]any{"state": client.CutOff, "problem": "nothing more was heard of it", "ended_at": time.Now()}).Error; err != nil {
			return err
		}
		if err := db.Create(&row).Error; err != nil {
			return err
		}
		return touch(db, number, client.Climbing)
	})
	if err != nil {
		return nil, err
	}
	c, err := row.public()
	return &c, err
}

// ReportClimb notes how a climb goes on.
func (s *Store) ReportClimb(ctx context.Context, id int64, r client.ClimbReport) (*client.Climb, error) {
	var row climbRow
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&row).Error; err != nil {
			return found(err)
		}
		if row.State != client.Running {
			return ErrEnded
		}
		if err := row.take(r); err != nil {
			return err
		}
		if err := db.Save(&row).Error; err != nil {
			return err
		}
		state := client.Climbing
		if row.State != client.Running {
			state = client.Open
		}
		return touch(db, row.CaseNumber, state)
	})
	if err != nil {
		return nil, err
	}
	c, err := row.public()
	return &c, err
}

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
	var runs []ladder.Run
	if err := json.Unmarshal(row.Runs, &runs); err != nil {
		return err
	}
	var err error
	row.Runs, err = json.Marshal(append(runs, *r.Run))
	return err
}

// touch brings a case's state and its count of proven rungs up to date.
func touch(db *gorm.DB, number int64, state string) error {
	var lists []string
	if err := db.Table("climbs").Where("case_number = ?", number).Order("id").Pluck("runs", &lists).Error; err != nil {
		return err
	}
	var all []ladder.Run
	for _, raw := range lists {
		var runs []ladder.Run
		if err := json.Unmarshal([]byte(raw), &runs); err != nil {
			return err
		}
		all = append(all, runs...)
	}
	proven := 0
	for _, o := range ladder.Standing(all) {
		if o == ladder.Proven {
			proven++
		}
	}
	return db.Exec("update cases set state = ?, updated_at = now(), proven = ? where number = ?", state, proven, number).Error
}
