package records

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diorthos/client"
	"diorthos/core/fleet"
)

type siteKnowledgeRow struct {
	One       bool `gorm:"primaryKey"`
	Since     *time.Time
	Frozen    jsonOf[[]fleet.Learned]
	FrozenAt  *time.Time
	ChangedBy string
}

func (siteKnowledgeRow) TableName() string { return "site_knowledge" }

// Learned is what outcomes at this site have taught, beside what the knowledge was shipped with: what counts, and what
// would if it were not frozen.
func (s *Store) Learned(ctx context.Context, shipped func(remedy string) float64) (*client.Taught, error) {
	var row siteKnowledgeRow
	err := s.db.WithContext(ctx).Take(&row).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	since := time.Time{}
	if row.Since != nil {
		since = *row.Since
	}
	list, _, err := s.outcomes(ctx, "cases.cause <> '' and climbs.began_at > ?", since)
	if err != nil {
		return nil, err
	}
	now := fleet.Learn(list, shipped)
	l := &client.Taught{
		Counts: now, Waiting: []fleet.Learned{}, Since: row.Since, Frozen: row.FrozenAt, By: row.ChangedBy,
	}
	if row.FrozenAt == nil {
		return l, nil
	}
	l.Counts = append([]fleet.Learned{}, row.Frozen.V...)
	known := map[[2]string]fleet.Learned{}
	for _, was := range l.Counts {
		known[[2]string{was.Cause, was.Remedy}] = was
	}
	for _, is := range now {
		if was := known[[2]string{is.Cause, is.Remedy}]; was.Tried != is.Tried || was.Helped != is.Helped {
			l.Waiting = append(l.Waiting, is)
		}
	}
	return l, nil
}

// ChangeLearned freezes what counts as it is now, lets all count again, or forgets what was learned so far.
func (s *Store) ChangeLearned(
	ctx context.Context, what client.LearnedWhat, by string, shipped func(remedy string) float64,
) (*client.Taught, error) {
	var row siteKnowledgeRow
	err := s.db.WithContext(ctx).Take(&row).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	now := time.Now()
	frozen := row
	row.One, row.ChangedBy, row.Frozen, row.FrozenAt = true, by, jsonOf[[]fleet.Learned]{[]fleet.Learned{}}, nil
	switch what {
	case client.FreezeLearned:
		l, err := s.Learned(ctx, shipped)
		if err != nil {
			return nil, err
		}
		row.FrozenAt, row.Frozen = &now, jsonOf[[]fleet.Learned]{accepted(l)}
	case client.ResetLearned:
		row.Since = &now
		if frozen.FrozenAt != nil { // it stays frozen, with nothing in it
			row.FrozenAt = &now
		}
	}
	err = s.db.WithContext(ctx).Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "one"}}, UpdateAll: true,
	}).Create(&row).Error
	if err != nil {
		return nil, err
	}
	return s.Learned(ctx, shipped)
}

// accepted is what counts together with what waits for that.
func accepted(l *client.Taught) []fleet.Learned {
	list := append([]fleet.Learned{}, l.Waiting...)
	for _, was := range l.Counts {
		fresh := false
		for _, is := range l.Waiting {
			fresh = fresh || is.Cause == was.Cause && is.Remedy == was.Remedy
		}
		if !fresh {
			list = append(list, was)
		}
	}
	fleet.SortLearned(list)
	return list
}
