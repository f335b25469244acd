package records

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"diorthos/client"
	"diorthos/service/lifecycle"
)

// CloseCase ends a case: somebody says that it is done, and what helped.
func (s *Store) CloseCase(ctx context.Context, number int64, by, note string) error {
	return s.moved(ctx, number, lifecycle.Closed, map[string]any{"closed_by": by, "closed_note": note})
}

// ReopenCase opens a closed case again; the note says why.
func (s *Store) ReopenCase(ctx context.Context, number int64, by, note string) error {
	return s.moved(ctx, number, lifecycle.Reopened, map[string]any{"closed_by": by, "closed_note": note})
}

func (s *Store) moved(ctx context.Context, number int64, event lifecycle.Event, set map[string]any) error {
	return s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		c, err := lockCase(db, number)
		if err != nil {
			return err
		}
		next, err := lifecycle.Next(c.State, event)
		if err != nil {
			return fmt.Errorf("case %d: %w", number, err)
		}
		set["state"], set["updated_at"] = next, gorm.Expr("now()")
		return db.Table("cases").Where("number = ?", number).Updates(set).Error
	})
}

// follow lets the newest evidence of a machine speak for its earlier cases: when nothing
// is wrong any more they are closed; a closed one whose cause is back is opened again.
func follow(db *gorm.DB, number int64, healthy bool, cause string) error {
	if healthy {
		return db.Exec(
			`update cases set state = ?, closed_by = '', closed_note = ?, updated_at = now()
			 where state in ? and number < ? and machine_id = (select machine_id from cases where number = ?)`,
			client.Closed, fmt.Sprintf("case %d shows the machine well again", number),
			[]client.CaseState{client.Open}, number, number,
		).Error
	}
	if cause == "" {
		return nil
	}
	return db.Exec(
		`update cases set state = ?, closed_by = '', closed_note = ?, updated_at = now() where number = (
			select number from cases where state = ? and cause = ? and number < ? and
				machine_id = (select machine_id from cases where number = ?) order by number desc limit 1)`,
		client.Open, fmt.Sprintf("it came back: case %d", number), client.Closed, cause, number, number,
	).Error
}
