package records

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// A part is what one table holds of a person or a machine. Secrets, and what only makes a row work, are left out.
type part struct{ table, where, without, order string }

// ofPerson is where a person is named; @name stands for who.
var ofPerson = []part{
	{table: "people", where: "name = @name"},
	{table: "tokens", where: "person_id = (select id from people where name = @name)", without: "hash"},
	{table: "sessions", where: "person_id = (select id from people where name = @name)", without: "hash"},
	{table: "logins", where: "person_id = (select id from people where name = @name)", order: "subject"},
	{table: "agents", where: "enrolled_by = @name or person_id = (select id from people where name = @name)"},
	{table: "agent_codes", where: "made_by = @name", without: "hash", order: "expires_at"},
	{
		table:   "cases",
		where:   "received_by = @name or closed_by = @name",
		without: "docket,claim,heartbeat",
		order:   "number",
	},
	{table: "climbs", where: "person = @name", without: "heartbeat"},
	{table: "approvals", where: "person = @name"},
	{table: "rollouts", where: "begun_by = @name"},
	{table: "orders", where: "ordered_by = @name", without: "payload,signature"},
	{table: "knocks", where: "admitted_by = @name", without: "hash,public"},
	{table: "outbreaks", where: "held_by = @name or lifted_by = @name", without: "watch"},
	{table: "site_rules", where: "set_by = @name", order: "site"},
	{table: "site_knowledge", where: "changed_by = @name", without: "frozen", order: "since"},
	{table: "audit", where: "who = @name", order: "number"},
}

const casesOf = "(select number from cases where machine_id = (select id from machines where name = @name))"

// ofMachine is where a machine is named, and its cases.
var ofMachine = []part{
	{table: "machines", where: "name = @name", without: "name_lower,search"},
	{table: "cases", where: "number in " + casesOf, without: "claim,heartbeat", order: "number"},
	{table: "bags", where: "digest in (select bag_digest from cases where number in " + casesOf + ")", order: "digest"},
	{table: "climbs", where: "case_number in " + casesOf, without: "heartbeat"},
	{table: "approvals", where: "case_number in " + casesOf},
	{table: "outbreaks", where: "raised_by in " + casesOf, without: "watch"},
	{table: "agents", where: "machine = @name"},
	{table: "agent_codes", where: "machine = @name", without: "hash", order: "expires_at"},
	{
		table: "knocks", where: "agent_id in (select id from agents where machine = @name)", without: "hash,public",
	},
	{table: "people", where: "machine = @name"},
	{table: "orders", where: "machine = @name or case_number in " + casesOf, without: "payload,signature"},
	{
		table: "audit", order: "number",
		where: "object = @name or right(object, length(@name) + 2) = ', ' || @name " + // by itself, or behind what it has
			"or position('/machines/' || @name || '/' in object || '/') > 0 " + // of a request that was refused
			"or substring(object from '^case (\\d+)(,|$)')::bigint in " + casesOf,
	},
}

// export tells the rows of each part; the first names what is asked for.
func (s *Store) export(
	ctx context.Context,
	parts []part,
	name string,
	tell func(table string, row []byte) error,
) error {
	for i, p := range parts {
		row := "to_jsonb(t)"
		for _, column := range strings.FieldsFunc(p.without, func(r rune) bool { return r == ',' }) {
			row += " - '" + column + "'"
		}
		order := p.order
		if order == "" {
			order = "id"
		}
		rows, err := s.db.WithContext(ctx).Raw(
			fmt.Sprintf("select %s from %s t where %s order by %s", row, p.table, p.where, order),
			map[string]any{"name": name},
		).Rows()
		if err != nil {
			return fmt.Errorf("export from %s: %w", p.table, err)
		}
		n := 0
		for ; rows.Next(); n++ {
			var raw json.RawMessage
			if err = rows.Scan(&raw); err == nil {
				err = tell(p.table, raw)
			}
			if err != nil {
				_ = rows.Close()
				return err
			}
		}
		if err := rows.Close(); err != nil {
			return fmt.Errorf("export from %s: %w", p.table, err)
		}
		if err := rows.Err(); err != nil {
			return fmt.Errorf("export from %s: %w", p.table, err)
		}
		if i == 0 && n == 0 {
			return ErrNotFound
		}
	}
	return nil
}

// AboutPerson tells each row in which a person is named, as JSON; ErrNotFound where there is no such person.
func (s *Store) AboutPerson(ctx context.Context, name string, tell func(table string, row []byte) error) error {
	return s.export(ctx, ofPerson, name, tell)
}

// AboutMachine tells each row in which a machine or a case of it is named, as JSON, the dockets with them; ErrNotFound
// where there is no such machine.
func (s *Store) AboutMachine(ctx context.Context, name string, tell func(table string, row []byte) error) error {
	return s.export(ctx, ofMachine, name, tell)
}

// BagsOfMachine are the bags of a machine's cases that are still there, by the number of their case.
func (s *Store) BagsOfMachine(ctx context.Context, name string) (list []BagOfCase, err error) {
	err = s.db.WithContext(ctx).Raw("select c.number, b.blob, b.size from cases c join bags b on b.digest = c.bag_digest "+
		"where b.removed_at is null and c.number in "+casesOf+" order by c.number",
		map[string]any{"name": name}).Scan(&list).Error
	return list, err
}

// A BagOfCase is a bag as it is kept.
type BagOfCase struct {
	Number int64
	Blob   string
	Size   int64
}
