package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"diorthos/client"
	"diorthos/service/lifecycle"
)

// ErrRemoved means that the evidence of a case is not kept any more.
var ErrRemoved = errors.New("its evidence was removed")

// BagOf tells where the bag of a case lies.
func (s *Store) BagOf(ctx context.Context, number int64) (blob string, err error) {
	return bagOf(s.db.WithContext(ctx), number)
}

func bagOf(db *gorm.DB, number int64) (blob string, err error) {
	var removed *time.Time
	err = db.Raw(
		"select blob, removed_at from bags join cases on cases.bag_digest = bags.digest where number = ?", number,
	).Row().Scan(&blob, &removed)
	if err != nil {
		return "", mapNotFound(err)
	}
	if removed != nil {
		return "", fmt.Errorf("case %d: %w on %s", number, ErrRemoved, removed.UTC().Format("2006-01-02"))
	}
	return blob, nil
}

// removal notes that bags are kept no more, those of cases that a condition over c selects.
const removal = "update bags b set removed_at = now() from cases c " +
	"where c.bag_digest = b.digest and b.removed_at is null and "

// RemoveBag notes that the bag of a case is kept no more, and returns where it lies: it can be dropped. A case that is
// read or climbed just now needs it still.
func (s *Store) RemoveBag(ctx context.Context, number int64) (blob string, err error) {
	err = s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		c, err := lockCase(db, number)
		if err != nil {
			return err
		}
		switch c.State {
		case client.Received, client.Reading, client.Climbing:
			return fmt.Errorf("case %d is %s: %w", number, c.State, lifecycle.ErrNotNow)
		}
		if blob, err = bagOf(db, number); err != nil {
			return err
		}
		if err := db.Exec(removal+"c.number = ?", number).Error; err != nil {
			return err
		}
		return db.Exec("update cases set updated_at = now() where number = ?", number).Error
	})
	return blob, err
}

// RemoveOutlived notes that bags are kept no more, at most so many: those of cases that ended, and in which nothing has
// changed since before.
func (s *Store) RemoveOutlived(ctx context.Context, before time.Time, most int) (list []KeptBag, err error) {
	err = s.db.WithContext(ctx).Raw(
		removal+"c.number in (select c.number from cases c join bags b on b.digest = c.bag_digest "+
			"where b.removed_at is null and c.state in ('closed', 'healthy', 'unreadable') and c.updated_at < ? "+
			"order by c.updated_at limit ? for update of c skip locked) returning b.digest, b.blob, b.size, c.number",
		before, most,
	).Scan(&list).Error
	return list, err
}
