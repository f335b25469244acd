package records

import (
	"context"
	"crypto/ed25519"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"diorthos/client"
)

const (
	// knockValid is how long a code stands on a machine's screen.
	knockValid = 15 * time.Minute
	// stickValid is how long a machine that was started from a stick is let in.
	stickValid = 12 * time.Hour
	// mostKnocks may wait at once.
	mostKnocks = 200
	// knocksOfOne may wait from one address.
	knocksOfOne = 10
)

var (
	// ErrCrowded means that too many machines wait to be let in.
	ErrCrowded = errors.New("too many machines wait to be let in")
	// ErrElsewhere means that a machine stands at a site that is not one's own.
	ErrElsewhere = errors.New("the machine is at a site that is not one of yours")
)

// Knock remembers that a machine which was started from a stick asks to be let in, and by which code. Those whose time
// is over are forgotten.
func (s *Store) Knock(ctx context.Context, k client.Knock, code, address string) (*client.KnockCode, error) {
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Exec(
			"delete from knocks where expires_at < now() - interval '1 hour' or public = ? and agent_id is null", k.Public,
		).Error; err != nil {
			return err
		}
		var all, near int64
		if err := db.Raw(
			"select count(*), count(*) filter (where address = ?) from knocks where agent_id is null and expires_at > now()",
			address,
		).Row().Scan(&all, &near); err != nil {
			return err
		}
		if all >= mostKnocks || near >= knocksOfOne {
			return ErrCrowded
		}
		return db.Exec(
			"insert into knocks (tells, hash, public, hardware, address, expires_at) values (?, ?, ?, ?, ?, ?)",
			k.Tells, hash(code), k.Public, k.Hardware.Hardware, address, fromNow(knockValid),
		).Error
	})
	return &client.KnockCode{Code: code, Expires: time.Now().Add(knockValid).UTC()}, err
}

// Admitted says for which machine somebody let a key in, nil while nobody did. ErrNotFound means that its code is over.
func (s *Store) Admitted(ctx context.Context, k client.KnockAsked) (*client.Enrolled, error) {
	if d := time.Since(k.Time); d > clockSkew || d < -clockSkew || len(k.Public) != ed25519.PublicKeySize ||
		!ed25519.Verify(k.Public, client.KnockText(k.Time), k.Signature) {
		return nil, ErrNotFound
	}
	var row struct {
		Open    bool
		Agent   int64
		Machine string
		Site    string
	}
	if err := s.db.WithContext(ctx).Raw(
		"select k.expires_at > now() as open, coalesce(a.id, 0) as agent, coalesce(a.machine, '') as machine, k.site "+
			"from knocks k "+
			"left join agents a on a.id = k.agent_id and a.ended_at is null where k.public = ?", k.Public,
	).Scan(&row).Error; err != nil {
		return nil, err
	}
	switch {
	case row.Agent != 0:
		return &client.Enrolled{Agent: row.Agent, Machine: row.Machine, Site: row.Site}, nil
	case row.Open:
		return nil, nil
	}
	return nil, ErrNotFound
}

// Knocking says what stands behind a code that waits.
func (s *Store) Knocking(ctx context.Context, code string) (*client.Knocking, error) {
	var k client.Knocking
	err := s.db.WithContext(ctx).Raw(
		"select tells, address, made_at as at from knocks where hash = ? and agent_id is null and expires_at > now()",
		hash(code),
	).Scan(&k).Error
	if err == nil && k.At.IsZero() {
		err = ErrNotFound
	}
	return &k, err
}

// Admit lets the machine in whose screen shows a code: it is one of the sites of whoever lets it in. The agent that
// runs on the machine's own system stays known beside it.
func (s *Store) Admit(ctx context.Context, who *Identity, wish client.Admission, code string) (*client.Agent, error) {
	until := time.Now().Add(stickValid).UTC()
	a := &client.Agent{Machine: wish.Machine, By: who.Name, Stick: true, Expires: &until, Enrolled: time.Now().UTC()}
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		var k struct {
			ID       int64
			Public   []byte
			Hardware string
		}
		if err := db.Raw(
			"select id, public, hardware from knocks where hash = ? and agent_id is null and expires_at > now() for update",
			hash(code),
		).Scan(&k).Error; err != nil {
			return err
		}
		if k.ID == 0 {
			return ErrNotFound
		}
		var known struct {
			Name string
			Site string
		}
		if err := db.Raw("select name, site from machines where name = ?", wish.Machine).Scan(&known).Error; err != nil {
			return err
		}
		site := wish.Site
		if known.Name != "" {
			site = known.Site
		}
		if !who.At(site) {
			return ErrElsewhere
		}
		var err error
		a.ID, err = enrolled(db, enrolment{
			machine: wish.Machine, public: k.Public, by: who.Name, hardware: k.Hardware, stick: true,
		})
		if err != nil {
			return err
		}
		return db.Exec(
			"update knocks set agent_id = ?, admitted_by = ?, site = ? where id = ?",
			a.ID,
			who.Name,
			site,
			k.ID,
		).Error
	})
	return a, err
}
