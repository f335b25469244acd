package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"diorthos/client"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/service/lifecycle"
)

var (
	// ErrNoAgent means that no agent of a machine was heard within the hour.
	ErrNoAgent = errors.New("no agent of this machine was heard within the hour: start one there, or from a stick")
	// ErrOrdered means that the machine's agent is at work, or is going to be.
	ErrOrdered = errors.New("the machine's agent has an order already")
	// ErrNewer means that there is a newer case of a machine.
	ErrNewer = errors.New("the machine has a newer case")
	// ErrNothingDone means that there is nothing to take back.
	ErrNothingDone = errors.New("the machine's agent has not done this rung")
)

// OrderRung has the agent of a case's machine take a rung, or take back what it did of it.
func (s *Store) OrderRung(
	ctx context.Context, number int64, rung *ladder.Rung, back bool, by string,
) (*client.CaseOrder, error) {
	key, err := s.ServiceKey(ctx)
	if err != nil {
		return nil, err
	}
	o := orderRow{
		State: client.OrderWaiting, CaseNumber: &number, Rung: rung.Number, Back: back, Remedy: rung.Remedy,
		Title: rung.Title, OrderedBy: by, ChangedAt: time.Now(),
	}
	err = s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		if o.Machine, err = mayOrder(db, number, back); err != nil {
			return err
		}
		var done bool
		if err := db.Raw(
			"select coalesce((select state = 'proven' and not back from orders where case_number = ? and rung = ? and "+
				"state in ('proven', 'taken back') order by id desc limit 1), false)", number, rung.Number,
		).Row().Scan(&done); err != nil {
			return err
		}
		if back && !done {
			return ErrNothingDone
		}
		if err := db.Omit("Payload", "Signature").Create(&o).Error; err != nil {
			return err
		}
		return order(db, alone(o, rung.Invasive), o, key)
	})
	if err != nil {
		return nil, err
	}
	list, err := s.CaseOrders(ctx, number)
	if err != nil {
		return nil, err
	}
	return &list[0], nil
}

// alone is what an order says that goes to one machine alone.
func alone(o orderRow, level knowledge.Invasiveness) rolloutRow {
	return rolloutRow{Remedy: o.Remedy, Title: o.Title, Invasive: level, BegunBy: o.OrderedBy}
}

// mayOrder is the machine of a case whose agent could take an order now.
func mayOrder(db *gorm.DB, number int64, back bool) (machine string, err error) {
	c, err := lockCase(db, number)
	if err != nil {
		return "", err
	}
	if _, err := lifecycle.Next(c.State, lifecycle.ClimbBegins); err != nil && !back {
		return "", ErrNotOpen
	}
	var m struct {
		Name    string
		Latest  int64
		Silent  bool
		Ordered int64
	}
	if err := db.Raw(
		`select m.name, coalesce(m.latest, 0) as latest,
			`+agentSilent(`(select max(seen_at) from agents a where a.machine = m.name and a.ended_at is null
				and (a.expires_at is null or a.expires_at > now()))`)+` as silent,
			(select count(*) from orders o where o.machine = m.name and o.state in ('ordered', 'running')) as ordered
		from cases c join machines m on m.id = c.machine_id where c.number = ? for update of m`, number,
	).Scan(&m).Error; err != nil {
		return "", err
	}
	switch {
	case m.Ordered > 0:
		return "", ErrOrdered
	case m.Latest != number && !back:
		return "", fmt.Errorf("%w, %d", ErrNewer, m.Latest)
	case m.Silent:
		return "", ErrNoAgent
	}
	return m.Name, nil
}

// CaseOrders lists what a machine's agent was told to do for a case, by itself and in waves, the latest first.
func (s *Store) CaseOrders(ctx context.Context, number int64) ([]client.CaseOrder, error) {
	list := []client.CaseOrder{}
	err := s.db.WithContext(ctx).Raw(
		`select o.id, o.rung, coalesce(r.remedy, o.remedy) as remedy, coalesce(r.title, o.title) as title, o.state, o.back,
			o.problem, coalesce(r.begun_by, o.ordered_by) as by, o.made_at as made, o.changed_at as changed
		from orders o left join rollouts r on r.id = o.rollout_id
		where o.case_number = ? and o.state <> 'left out' order by o.id desc limit 50`, number,
	).Scan(&list).Error
	return list, err
}

// WithdrawOrder stops an order to one machine that its agent has not begun.
func (s *Store) WithdrawOrder(ctx context.Context, number, id int64, by string) error {
	done := s.db.WithContext(ctx).Exec(
		"update orders set state = 'stopped', problem = ?, changed_at = now() "+
			"where id = ? and case_number = ? and rollout_id is null and state = 'ordered'", "stopped by "+by, id, number,
	)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}

// endOrders ends orders to one machine that nobody fetched before they expired, or of which nothing is heard any more.
func endOrders(db *gorm.DB) error {
	if err := db.Exec(
		"update orders set state = 'lost', problem = 'nothing was heard of it any more', changed_at = now() " +
			"where rollout_id is null and state = 'running' and changed_at < now() - " + seconds(lostAfter),
	).Error; err != nil {
		return err
	}
	return db.Exec(
		"update orders set state = 'stopped', problem = 'the agent did not fetch it within a day', changed_at = now() " +
			"where rollout_id is null and state = 'ordered' and changed_at < now() - " + seconds(orderValid),
	).Error
}

// agentOf is the agent of a case's machine that was heard last, nil where it has none.
func (s *Store) agentOf(ctx context.Context, number int64) (*client.CaseAgent, error) {
	var list []client.CaseAgent
	err := s.db.WithContext(ctx).Raw(
		`select a.seen_at as seen, a.stick, `+agentSilent("a.seen_at")+` as silent
		from agents a join machines m on m.name = a.machine
		join cases c on c.machine_id = m.id where c.number = ? and a.ended_at is null
			and (a.expires_at is null or a.expires_at > now()) order by a.seen_at desc nulls last limit 1`, number,
	).Scan(&list).Error
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}
