package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
)

// A Notice is something that others are to be told.
type Notice struct {
	ID        int64
	Kind      string
	Body      []byte
	CreatedAt time.Time
	Tries     int
}

// longestWait bounds how long is waited between two tries to send a notice.
const longestWait = time.Hour

// SendNotice lets send have the notice that is due first, and notes that it was sent, or when it
// is tried again. more is false when none was due. A process that dies while it sends leaves the
// notice to another: it can come twice, with the same ID, and is never lost.
func (s *Store) SendNotice(ctx context.Context, send func(Notice) error) (more bool, err error) {
	err = s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		var n Notice
		if err := db.Raw(
			"select id, kind, body, created_at, tries from notices where sent_at is null and due_at <= now() " +
				"order by due_at limit 1 for update skip locked",
		).Scan(&n).Error; err != nil || n.ID == 0 {
			return err
		}
		more = true
		if failed := send(n); failed != nil {
			wait := min(time.Duration(1<<min(n.Tries, 12))*5*time.Second, longestWait)
			return db.Exec(
				"update notices set tries = tries + 1, problem = ?, due_at = ? where id = ?",
				failed.Error(), fromNow(wait), n.ID,
			).Error
		}
		return db.Exec("update notices set sent_at = now(), tries = tries + 1, problem = '' where id = ?", n.ID).Error
	})
	return more, err
}
