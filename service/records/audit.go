package records

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"

	"diorthos/client"
)

type auditRow struct {
	Number  int64 `gorm:"primaryKey;autoIncrement:false"`
	At      time.Time
	Who     string
	Token   string
	Address string
	Action  string
	Object  string
	Outcome client.AuditOutcome
	Detail  string
	Before  []byte
	Hash    []byte
}

func (auditRow) TableName() string { return "audit" }

// sum is the hash over an entry and the hash of the one before it.
func (r auditRow) sum() []byte {
	text, _ := json.Marshal([]any{ // strings and numbers alone
		r.Number, r.At.UTC().Format(time.RFC3339Nano), r.Who, r.Token, r.Address, r.Action, r.Object, r.Outcome, r.Detail,
		hex.EncodeToString(r.Before),
	})
	sum := sha256.Sum256(text)
	return sum[:]
}

func (r auditRow) public() client.AuditEntry {
	return client.AuditEntry{
		Number: r.Number, At: r.At.UTC(), Who: r.Who, Token: r.Token, Address: r.Address, Action: r.Action, Object: r.Object,
		Outcome: r.Outcome, Detail: r.Detail, Before: hex.EncodeToString(r.Before), Hash: hex.EncodeToString(r.Hash),
	}
}

const auditLock = 0x64696f61

// A note is an entry that is to be added, and whoever waits for that.
type note struct {
	entry client.AuditEntry
	added chan error
}

// mostNoted is how many entries are added at once.
const mostNoted = 200

// notes are those that wait: each entry is chained to the one before, so one is added after the other, but many in
// one transaction.
type notes struct {
	mu      sync.Mutex
	waiting []note
	adding  bool
}

// Note adds an entry to the audit, and returns when it is there. Its number, time and hashes are made here.
func (s *Store) Note(ctx context.Context, e client.AuditEntry) error {
	n := note{e, make(chan error, 1)}
	s.mu.Lock()
	s.waiting = append(s.waiting, n)
	first := !s.adding
	s.adding = true
	s.mu.Unlock()
	if first { // it adds its own, and those that came meanwhile
		go s.addNotes(context.WithoutCancel(ctx))
	}
	select {
	case err := <-n.added:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (s *Store) addNotes(ctx context.Context) {
	for {
		s.mu.Lock()
		list := s.waiting[:min(len(s.waiting), mostNoted)]
		s.waiting = s.waiting[len(list):]
		s.adding = len(list) > 0
		s.mu.Unlock()
		if len(list) == 0 {
			return
		}
		err := s.chain(ctx, list)
		for i, n := range list {
			if err != nil && len(list) > 1 { // one of them cannot be kept, perhaps
				n.added <- s.chain(ctx, list[i:i+1])
			} else {
				n.added <- err
			}
		}
	}
}

// chain adds entries behind the last.
func (s *Store) chain(ctx context.Context, list []note) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Exec("select pg_advisory_xact_lock(?)", auditLock).Error; err != nil {
			return err
		}
		var last []auditRow
		if err := db.Order("number desc").Limit(1).Find(&last).Error; err != nil {
			return err
		}
		number, before := int64(0), []byte{}
		if len(last) > 0 {
			number, before = last[0].Number, last[0].Hash
		}
		rows := make([]auditRow, len(list))
		for i, n := range list {
			e := n.entry
			r := auditRow{
				Number: number + int64(i) + 1, At: time.Now().UTC().Truncate(time.Microsecond), Who: e.Who, Token: e.Token,
				Address: e.Address, Action: e.Action, Object: e.Object, Outcome: e.Outcome, Detail: e.Detail, Before: before,
			}
			r.Hash = r.sum()
			rows[i], before = r, r.Hash
		}
		return db.Create(&rows).Error
	})
}

// Audit returns a page, the newest first: entries below before, if it is not 0.
func (s *Store) Audit(ctx context.Context, before int64, limit int) (*client.AuditPage, error) {
	db := s.db.WithContext(ctx)
	if before > 0 {
		db = db.Where("number < ?", before)
	}
	var rows []auditRow
	if err := db.Order("number desc").Limit(limit + 1).Find(&rows).Error; err != nil {
		return nil, err
	}
	page := &client.AuditPage{Entries: []client.AuditEntry{}}
	for i, r := range rows {
		if i == limit {
			page.Next = rows[limit-1].Number
			break
		}
		page.Entries = append(page.Entries, r.public())
	}
	return page, nil
}

// CheckAudit holds every entry against its own hash and that of the one before.
func (s *Store) CheckAudit(ctx context.Context) (*client.AuditCheck, error) {
	check := &client.AuditCheck{}
	before := []byte{}
	for from := int64(0); ; {
		var rows []auditRow
		if err := s.db.WithContext(ctx).Where("number > ?", from).Order("number").Limit(1000).Find(&rows).Error; err != nil {
			return nil, err
		}
		if len(rows) == 0 {
			return check, nil
		}
		for _, r := range rows {
			check.Entries++
			switch {
			case r.Number != from+1:
				check.Problem = fmt.Sprintf("entry %d is missing", from+1)
			case !bytes.Equal(r.Before, before):
				check.Problem = fmt.Sprintf("entry %d does not follow from the one before it", r.Number)
			case !bytes.Equal(r.Hash, r.sum()):
				check.Problem = fmt.Sprintf("entry %d is not as it was written", r.Number)
			}
			if check.Problem != "" {
				return check, nil
			}
			from, before = r.Number, r.Hash
		}
	}
}
