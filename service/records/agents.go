package records

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"

	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"diorthos/client"
)

const (
	codeValid  = time.Hour
	signedOn   = 30 * time.Minute
	clockSkew  = 10 * time.Minute // between an agent and the service
	orderKey   = "orders"
	agentToken = "agent"
	// agentChannel is where agents are called.
	agentChannel = "diorthos_agent"
	// heardEvery is how often it is noted that an agent was heard.
	heardEvery = 4 * time.Minute
)

// ServiceKey is the key by which orders are signed. It is made once, and all processes share it.
func (s *Store) ServiceKey(ctx context.Context) (ed25519.PrivateKey, error) {
	_, fresh, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	var private []byte
	err = s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Exec(
			"insert into service_keys (name, private) values (?, ?) on conflict do nothing", orderKey, []byte(fresh),
		).Error; err != nil {
			return err
		}
		return db.Raw("select private from service_keys where name = ?", orderKey).Row().Scan(&private)
	})
	return ed25519.PrivateKey(private), err
}

// MakeCode remembers a code by which an agent may enrol.
func (s *Store) MakeCode(ctx context.Context, wish client.CodeWish, code, by string) (*client.AgentCode, error) {
	err := s.db.WithContext(ctx).Exec(
		"insert into agent_codes (machine, hash, site, made_by, expires_at) values (?, ?, ?, ?, ?)",
		wish.Machine, hash(code), wish.Site, by, fromNow(codeValid),
	).Error
	return &client.AgentCode{Code: code, Machine: wish.Machine, Expires: time.Now().Add(codeValid).UTC()}, err
}

// Enrol makes an agent of a code that was not used yet. An agent that the machine had before is
// ended.
func (s *Store) Enrol(ctx context.Context, code string, public []byte, hardware string) (*client.Enrolled, error) {
	done := &client.Enrolled{}
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		var c struct{ Machine, Site, MadeBy string }
		if err := db.Raw(
			"update agent_codes set used_at = now() where hash = ? and used_at is null and expires_at > now() returning "+
				"machine, site, made_by",
			hash(code),
		).Scan(&c).Error; err != nil {
			return err
		}
		if c.Machine == "" {
			return ErrNotFound
		}
		done.Machine, done.Site = c.Machine, c.Site
		var err error
		done.Agent, err = enrolled(db, enrolment{machine: c.Machine, public: public, by: c.MadeBy, hardware: hardware})
		return err
	})
	return done, err
}

// enrolment is what makes an agent: of the machine's own system, or for some hours, from a stick.
type enrolment struct {
	machine, by, hardware string
	public                []byte
	stick                 bool
}

// enrolled makes an agent. One of the same sort that the machine had before is ended.
func enrolled(db *gorm.DB, e enrolment) (id int64, err error) {
	name, until := "agent of "+e.machine, gorm.Expr("null")
	if e.stick {
		name, until = "stick at "+e.machine, fromNow(stickValid)
	}
	if err := db.Exec(
		"update agents set ended_at = now() where machine = ? and stick = ? and ended_at is null", e.machine, e.stick,
	).Error; err != nil {
		return 0, err
	}
	p := Person{Name: name, Role: client.Work, Sites: []string{}, Machine: e.machine}
	if err := db.Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.Assignments(map[string]any{"ended_at": nil}),
	}).Create(&p).Error; err != nil {
		return 0, err
	}
	return id, db.Raw(
		"insert into agents (machine, person_id, public, enrolled_by, hardware, stick, expires_at) "+
			"values (?, (select id from people where name = ?), ?, ?, ?, ?, ?) returning id",
		e.machine, name, e.public, e.by, e.hardware, e.stick, until,
	).Row().Scan(&id)
}

// ErrCopied means that the key of an agent is used on other hardware than it was made on.
var ErrCopied = errors.New(
	"this agent's key was made on other hardware: this is a copy of that machine's disk, or its board was exchanged; " +
		"enrol this machine by a code of its own",
)

// SignOn gives an agent a token for a short while.
func (s *Store) SignOn(ctx context.Context, on client.SignOn, secret string) (*client.SignedOn, error) {
	var a struct {
		PersonID int64
		Public   []byte
		Machine  string
		Hardware string
	}
	if err := s.db.WithContext(ctx).Raw(
		"select person_id, public, machine, hardware from agents where id = ? and ended_at is null and "+
			"(expires_at is null or expires_at > now())", on.Agent,
	).Scan(&a).Error; err != nil {
		return nil, err
	}
	if d := time.Since(on.Time); a.PersonID == 0 || d > clockSkew || d < -clockSkew ||
		!ed25519.Verify(a.Public, client.SignOnText(on.Agent, on.Time), on.Signature) {
		return nil, ErrNotFound
	}
	if a.Hardware != "" && on.Hardware.Hardware != "" && a.Hardware != on.Hardware.Hardware {
		return nil, errors.Join(ErrCopied, s.noteCopy(ctx, on.Agent, a.Machine))
	}
	until := time.Now().Add(signedOn)
	err := s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if err := db.Exec(
			"delete from tokens where person_id = ? and name = ? and expires_at < now()", a.PersonID, agentToken,
		).Error; err != nil {
			return err
		}
		if err := db.Exec(
			"update agents set seen_at = now(), hardware = case when hardware = '' then ? else hardware end where id = ?",
			on.Hardware.Hardware, on.Agent,
		).Error; err != nil {
			return err
		}
		return db.Exec(
			"insert into tokens (name, person_id, hash, expires_at) values (?, ?, ?, ?)",
			agentToken, a.PersonID, hash(secret), fromNow(signedOn),
		).Error
	})
	return &client.SignedOn{Token: secret, Expires: until.UTC()}, err
}

// noteCopy notes that a copy of a machine's disk runs elsewhere, and tells who is told of such things, once a day.
func (s *Store) noteCopy(ctx context.Context, agent int64, machine string) error {
	return s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		done := db.Exec(
			"update agents set copied_at = now() where id = ? and (copied_at is null or copied_at < now() - interval '1 day')",
			agent,
		)
		if done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		return notify(db, "agent.copied", map[string]any{"agent": agent, "machine": machine})
	})
}

// Agents lists those that are on.
func (s *Store) Agents(ctx context.Context, sites []string) ([]client.Agent, error) {
	var rows []struct {
		ID       int64
		Machine  string
		Enrolled time.Time
		By       string
		Seen     *time.Time
		Held     jsonOf[map[string]string]
		Copied   *time.Time
		Stick    bool
		Expires  *time.Time
		Silent   bool
	}
	q := s.db.WithContext(ctx).Table("agents").
		Select("agents.id, agents.machine, agents.enrolled_at as enrolled, agents.enrolled_by as by, " +
			"agents.seen_at as seen, agents.held, agents.copied_at as copied, agents.stick, " +
			"agents.expires_at as expires, " + agentSilent("agents.seen_at") + " as silent").
		Where(
			"agents.ended_at is null and (agents.expires_at is null or agents.expires_at > now())",
		).Order("agents.machine").Limit(10_000)
	if len(sites) > 0 {
		q = q.Joins("join machines on machines.name = agents.machine").Where("machines.site in ?", sites)
	}
	if err := q.Scan(&rows).Error; err != nil {
		return nil, err
	}
	list := []client.Agent{}
	for _, r := range rows {
		list = append(list, client.Agent{
			ID: r.ID, Machine: r.Machine, Enrolled: r.Enrolled, By: r.By, Seen: r.Seen, Held: r.Held.V, Copied: r.Copied,
			Stick: r.Stick, Expires: r.Expires,
			Silent: r.Silent,
		})
	}
	return list, nil
}

// EndAgent turns an agent off: its tokens end with it.
func (s *Store) EndAgent(ctx context.Context, id int64) error {
	return s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		var person int64
		if err := db.Raw(
			"update agents set ended_at = now() where id = ? and ended_at is null returning person_id", id,
		).Scan(&person).Error; err != nil {
			return err
		}
		if person == 0 {
			return ErrNotFound
		}
		return db.Exec("update people set ended_at = now() where id = ?", person).Error
	})
}

// NextOrder is the order that waits for a machine, nil where none does, and whether it may be begun now by the rule
// of its site. An order that was begun and never ended is given again: the agent knows how far it came.
func (s *Store) NextOrder(ctx context.Context, machine string) (order *client.AgentOrder, begin bool, err error) {
	var o struct {
		client.AgentOrder
		State string
	}
	err = s.db.WithContext(ctx).Raw(
		`with heard as (update agents set seen_at = now()
			where machine = @machine and ended_at is null and (seen_at is null or seen_at < now() - @every * interval '1 s'))
		select id, payload, signature, state from orders
		where machine = @machine and state in ('ordered', 'running') order by id limit 1`,
		map[string]any{"machine": machine, "every": heardEvery.Seconds()},
	).Scan(&o).Error
	if err != nil || o.ID == 0 {
		return nil, false, err
	}
	if o.State == string(client.OrderRunning) { // it was begun: it is never left half-way
		return &o.AgentOrder, true, nil
	}
	err = s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) (err error) {
		if begin, err = mayBegin(db, machine, time.Now()); err != nil || !begin {
			return err
		}
		return db.Exec(
			"update orders set state = 'running', changed_at = now() where id = ? and state = 'ordered'",
			o.ID,
		).Error
	})
	return &o.AgentOrder, begin, err
}

// ReportOrder notes what an agent says of an order of its machine.
func (s *Store) ReportOrder(ctx context.Context, machine string, id int64, r client.OrderReport) error {
	done := s.db.WithContext(ctx).Exec(
		"update orders set state = ?, problem = ?, changed_at = now() where id = ? and machine = ? and state in "+
			"('ordered', 'running')",
		r.State, r.Problem, id, machine,
	)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}
