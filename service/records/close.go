package records

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"diorthos/client"
	"diorthos/core/diagnosis"
	"diorthos/core/docket"
	"diorthos/core/reading"
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

// ReadAgain puts a case into the queue once more: one that could not be read, or that
// newer knowledge may judge otherwise.
func (s *Store) ReadAgain(ctx context.Context, number int64, enqueue func(pgx.Tx, int64) error) error {
	return s.inTx(ctx, func(db *gorm.DB, raw func(func(pgx.Tx) error) error) error {
		c, err := lockCase(db, number)
		if err != nil {
			return err
		}
		next, err := lifecycle.Next(c.State, lifecycle.ReadAgain)
		if err != nil {
			return fmt.Errorf("case %d: %w", number, err)
		}
		if _, err := bagOf(db, number); err != nil {
			return err
		}
		err = db.Table("cases").Where("number = ?", number).Updates(map[string]any{
			"state": next, "problem": "", "updated_at": gorm.Expr("now()"),
		}).Error
		if err != nil {
			return err
		}
		return raw(func(tx pgx.Tx) error { return enqueue(tx, number) })
	})
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

// follow lets the newest evidence of a machine speak for its earlier cases. One is closed
// when the very thing that failed succeeded since, or the machine that did not start
// starts: a bag in which nothing wrong was found proves neither. A closed one whose
// cause is back is opened again.
func follow(db *gorm.DB, number int64, d *docket.Docket) error {
	of := `number < ? and machine_id = (select machine_id from cases where number = ?)`
	note := fmt.Sprintf("case %d: ", number)
	if len(d.Attempts) > 0 {
		last := d.Attempts[0]
		if last.Outcome == reading.Succeeded && last.Command != "" && !last.Began.IsZero() {
			if err := db.Exec(
				`update cases set state = ?, closed_by = '', closed_note = ?, updated_at = now() where state = ? and `+of+`
				 and docket->'tried'->0->>'outcome' <> 'succeeded' and docket->'tried'->0->>'command' = ?
				 and (docket->'tried'->0->>'began')::timestamptz < ?`,
				client.Closed, note+"what had failed succeeded on "+last.Began.UTC().Format("2006-01-02 15:04"),
				client.Open, number, number, last.Command, last.Began,
			).Error; err != nil {
				return err
			}
		}
	}
	if d.State != nil && len(d.State.Chain) > 0 && d.State.Chain.Broken() == nil && d.Failure == nil {
		if err := db.Exec(
			`update cases set state = ?, closed_by = '', closed_note = ?, updated_at = now() where state = ? and `+of+`
			 and docket->'why'->0->>'explains' = 'start' and (docket->>'gathered')::timestamptz < ?`,
			client.Closed, note+"no link is broken any more by which it starts", client.Open, number, number, d.Gathered,
		).Error; err != nil {
			return err
		}
	}
	if len(d.Why) == 0 || d.Why[0].Cause == diagnosis.Unknown {
		return nil
	}
	return db.Exec(
		`update cases set state = ?, closed_by = '', closed_note = ?, updated_at = now() where number = (
			select number from cases where state = ? and cause = ? and `+of+` order by number desc limit 1)`,
		client.Open, fmt.Sprintf("it came back: case %d", number), client.Closed, d.Why[0].Cause, number, number,
	).Error
}
