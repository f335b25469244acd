package records

import (
	"context"
	"encoding/json"
	"errors"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/schema"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/climb"
	"diorthos/core/docket"
	"diorthos/core/plain"
	"diorthos/service/lifecycle"
)

type machine struct {
	ID       int64
	Name     string
	Site     string
	Model    string
	LastSeen time.Time
}

type bagRow struct {
	Digest string `gorm:"primaryKey"`
	Blob   string
	Size   int64

	RemovedAt *time.Time
}

func (bagRow) TableName() string { return "bags" }

// caseRow is a case as it lies in the table, with what a list shows of its
// machine and bag.
type caseRow struct {
	Number        int64 `gorm:"primaryKey"`
	MachineID     int64
	BagDigest     string
	State         client.CaseState
	ReceivedAt    time.Time
	UpdatedAt     time.Time `gorm:"autoUpdateTime:false"`
	ReceivedBy    string
	Headline      string
	Tried         string
	Rungs         int
	Proven        int
	Problem       string
	ClosedBy      string
	ClosedNote    string
	ProgressPhase string
	ProgressDone  int64
	ProgressTotal int64

	Machine string `gorm:"->;-:migration"`
	Site    string `gorm:"->;-:migration"`
	Size    int64  `gorm:"->;-:migration"`

	RemovedAt *time.Time `gorm:"->;-:migration"`
}

func (caseRow) TableName() string { return "cases" }

func (r caseRow) public() client.Case {
	c := client.Case{
		Number:   r.Number,
		Machine:  r.Machine,
		Site:     r.Site,
		State:    r.State,
		Received: r.ReceivedAt.UTC(),
		Updated:  r.UpdatedAt.UTC(),
		By:       r.ReceivedBy,
		Bag:      r.BagDigest,
		BagSize:  r.Size,
		Headline: r.Headline,
		Tried:    r.Tried,
		Rungs:    r.Rungs,
		Proven:   r.Proven,
		Problem:  r.Problem,
		ClosedBy: r.ClosedBy,
		Note:     r.ClosedNote,
	}
	if r.RemovedAt != nil {
		at := r.RemovedAt.UTC()
		c.Removed = &at
	}
	if r.State == client.Reading {
		c.Progress = &client.Progress{Phase: r.ProgressPhase, Done: r.ProgressDone, Total: r.ProgressTotal}
	}
	return c
}

// caseColumns are those of a case's own table, without its docket, and what a
// list shows of its machine and bag.
var caseColumns = columnsOf(reflect.TypeFor[caseRow](), "cases") +
	", machines.name as machine, machines.site as site, bags.size as size, bags.removed_at as removed_at"

// columnsOf lists the columns of a table that a row holds and that are written.
func columnsOf(row reflect.Type, table string) string {
	var names schema.NamingStrategy
	var list []string
	for i := range row.NumField() {
		if f := row.Field(i); !strings.Contains(f.Tag.Get("gorm"), "->") {
			list = append(list, table+"."+names.ColumnName("", f.Name))
		}
	}
	return strings.Join(list, ", ")
}

func (s *Store) caseQuery(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Model(&caseRow{}).Select(caseColumns).
		Joins("join machines on machines.id = cases.machine_id").Joins("join bags on bags.digest = cases.bag_digest")
}

// keepKnown leaves site and model of a machine as they are known when a bag says
// nothing of them.
var keepKnown = clause.Set{
	{Column: clause.Column{Name: "site"}, Value: gorm.Expr("coalesce(nullif(excluded.site, ''), machines.site)")},
	{Column: clause.Column{Name: "model"}, Value: gorm.Expr("coalesce(nullif(excluded.model, ''), machines.model)")},
	{Column: clause.Column{Name: "last_seen"}, Value: gorm.Expr("excluded.last_seen")},
}

// A Bag is one that was verified and lies in the store of bags.
type Bag struct {
	Digest  string
	Blob    string // its key in the store of bags
	Size    int64
	Machine bag.Machine
	Call    *bag.Call // what it holds where that is words alone
	By      string
}

// Accept records a bag and its new case and, in the same transaction, lets
// enqueue put the reading of it into the queue. A bag that is known already
// gives the number of its case, and known is true; whole says whether what was
// kept of it then is still there, else the new copy takes its place.
//
// With ErrCommitUnknown nothing may be dropped: Accept can be called again with
// the same bag and then says how things are.
func (s *Store) Accept(
	ctx context.Context, b Bag, whole func(blob string, size int64) bool, enqueue func(pgx.Tx, int64) error,
) (a Accepted, err error) {
	err = s.inTx(ctx, func(db *gorm.DB, raw func(func(pgx.Tx) error) error) error {
		made := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&bagRow{Digest: b.Digest, Blob: b.Blob, Size: b.Size})
		if made.Error != nil {
			return made.Error
		}
		if made.RowsAffected == 0 {
			return a.known(db, raw, b, whole, enqueue)
		}
		m := machine{Name: b.Machine.Name, Site: b.Machine.Site, Model: b.Machine.Model, LastSeen: time.Now()}
		if err := db.Clauses(clause.OnConflict{
			Columns:   []clause.Column{{Name: "name"}},
			DoUpdates: keepKnown,
		}).Create(&m).Error; err != nil {
			return err
		}
		var err error
		if b.Call == nil {
			if a.Number, a.UnusedBlob, err = join(db, m.ID, b); err != nil {
				return err
			}
		}
		if a.Joined = a.Number != 0; !a.Joined {
			call, err := json.Marshal(b.Call)
			if err != nil {
				return err
			}
			err = db.Raw(
				"insert into cases (machine_id, bag_digest, state, received_by, call) "+
					"values (?, ?, ?, ?, nullif(?::jsonb, 'null'::jsonb)) returning number",
				m.ID, b.Digest, client.Received, b.By, string(call),
			).Scan(&a.Number).Error
			if err != nil {
				return err
			}
		}
		return raw(func(tx pgx.Tx) error { return enqueue(tx, a.Number) })
	})
	switch {
	case errors.Is(err, ErrCommitUnknown):
		a.UnusedBlob = ""
	case err != nil:
		a.UnusedBlob = b.Blob
	}
	return a, err
}

// Accepted says what became of a bag that was handed in.
type Accepted struct {
	Number     int64
	Known      bool   // the case was there already
	Joined     bool   // the case began with words, and this is its evidence
	UnusedBlob string // the blob that is not needed: the new one, or one that could not be read
}

// known finds the case of a bag that was handed in before. The new copy takes the
// place of one that is no longer whole; a case that could not be read is then read
// from it.
func (a *Accepted) known(
	db *gorm.DB, raw func(func(pgx.Tx) error) error, b Bag, whole func(blob string, size int64) bool,
	enqueue func(pgx.Tx, int64) error,
) error {
	var c caseRow
	if err := db.Clauses(
		clause.Locking{Strength: "UPDATE"},
	).Select("number", "state").Where("bag_digest = ?", b.Digest).Take(&c).Error; err != nil {
		return err
	}
	var kept bagRow
	if err := db.Where("digest = ?", b.Digest).Take(&kept).Error; err != nil {
		return err
	}
	a.Number, a.Known, a.UnusedBlob = c.Number, true, b.Blob
	if kept.Blob == b.Blob { // recorded a moment ago, by a commit whose answer was lost
		a.Known, a.UnusedBlob = false, ""
		return nil
	}
	next, err := lifecycle.Next(c.State, lifecycle.HandedIn)
	if err != nil {
		return err
	}
	if next == c.State && kept.RemovedAt == nil && whole(kept.Blob, kept.Size) {
		return nil
	}
	a.UnusedBlob = kept.Blob
	if err := db.Exec(
		"update bags set blob = ?, size = ?, removed_at = null where digest = ?", b.Blob, b.Size, b.Digest,
	).Error; err != nil {
		return err
	}
	if next == c.State { // from now on it is kept as long as another
		return db.Exec("update cases set updated_at = now() where number = ?", c.Number).Error
	}
	if err := db.Exec(
		"update cases set state = ?, problem = '', received_by = ?, updated_at = now() where number = ?",
		next, b.By, c.Number,
	).Error; err != nil {
		return err
	}
	return raw(func(tx pgx.Tx) error { return enqueue(tx, c.Number) })
}

// Case returns one case in short.
func (s *Store) Case(ctx context.Context, number int64) (*client.Case, error) {
	var r caseRow
	if err := s.caseQuery(ctx).Where("cases.number = ?", number).Take(&r).Error; err != nil {
		return nil, mapNotFound(err)
	}
	c := r.public()
	return &c, nil
}

// CaseDetail returns one case with its docket and climbs.
func (s *Store) CaseDetail(ctx context.Context, number int64) (*client.CaseDetail, error) {
	c, err := s.Case(ctx, number)
	if err != nil {
		return nil, err
	}
	d := &client.CaseDetail{Case: *c, Climbs: []client.Climb{}, Stands: map[string]climb.Outcome{}}
	var raw []byte
	if err := s.db.WithContext(ctx).Raw("select docket from cases where number = ?", number).Row().Scan(&raw); err != nil {
		return nil, mapNotFound(err)
	}
	if raw != nil {
		d.Docket = &docket.Docket{}
		if err := json.Unmarshal(raw, d.Docket); err != nil {
			return nil, err
		}
	}
	if d.Climbs, err = s.climbs(ctx, number); err != nil {
		return nil, err
	}
	if d.Approvals, err = s.Approvals(ctx, number); err != nil {
		return nil, err
	}
	if d.Orders, err = s.CaseOrders(ctx, number); err != nil {
		return nil, err
	}
	if d.Agent, err = s.agentOf(ctx, number); err != nil {
		return nil, err
	}
	if d.Typical, err = s.typical(ctx, remediesOf(d)); err != nil {
		return nil, err
	}
	var runs []climb.Run
	for _, c := range slices.Backward(d.Climbs) { // the earliest first
		runs = append(runs, c.Runs...)
	}
	for rung, outcome := range climb.Standing(runs) {
		d.Stands[strconv.Itoa(rung)] = outcome
	}
	return d, nil
}

// remediesOf lists those of a case's ladder.
func remediesOf(d *client.CaseDetail) (list []string) {
	if d.Docket == nil {
		return nil
	}
	for _, r := range d.Docket.ToDo {
		list = append(list, r.Remedy)
	}
	return list
}

// countedTo bounds how far a list's total is counted.
const countedTo = 10_000

// Cases returns a page of cases, the newest first, of machines at these sites; none
// named means all.
func (s *Store) Cases(ctx context.Context, sites []string, q client.CaseQuery) (*client.CasePage, error) {
	match := func(db *gorm.DB) *gorm.DB {
		if len(sites) > 0 {
			db = db.Where("machines.site in ?", sites)
		}
		if q.State != "" {
			db = db.Where("cases.state = ?", q.State)
		}
		if q.Machine != "" {
			db = db.Where("machines.name_lower like lower(?)", "%"+likeLiteral(q.Machine)+"%")
		}
		return db
	}
	page := &client.CasePage{Cases: []client.Case{}}
	counted := s.db.WithContext(ctx).Table("cases").Select("1")
	if q.Machine != "" || len(sites) > 0 {
		counted = counted.Joins("join machines on machines.id = cases.machine_id")
	}
	count := match(counted).Limit(countedTo)
	if err := s.db.WithContext(ctx).Table("(?) as counted", count).Count(&page.Total).Error; err != nil {
		return nil, err
	}
	if page.Total == 0 {
		return page, nil
	}
	rows := match(s.caseQuery(ctx)).Order("cases.number desc").Limit(q.Limit + 1)
	if q.Before > 0 {
		rows = rows.Where("cases.number < ?", q.Before)
	}
	var list []caseRow
	if err := rows.Find(&list).Error; err != nil {
		return nil, err
	}
	if len(list) > q.Limit {
		list = list[:q.Limit]
		page.Next = list[q.Limit-1].Number
	}
	for _, r := range list {
		page.Cases = append(page.Cases, r.public())
	}
	return page, nil
}

func likeLiteral(s string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(s)
}

// staleAfter is how long a worker may be silent before another takes over.
const staleAfter = "15 seconds"

// Claim lets one worker read a case. It returns where the bag lies and false
// if somebody else reads it or it has been read.
func (s *Store) Claim(ctx context.Context, number int64, claim string) (blob string, ok bool, err error) {
	r := s.db.WithContext(ctx).Exec(
		"update cases set state = ?, claim = ?, heartbeat = now(), updated_at = now(), progress_phase = 'unpacking', "+
			"progress_done = 0, progress_total = 0 "+
			"where number = ? and state in ? and (heartbeat is null or heartbeat < now() - interval '"+staleAfter+"')",
		client.Reading, claim, number, lifecycle.From(lifecycle.Claimed),
	)
	if r.Error != nil || r.RowsAffected == 0 {
		return "", false, r.Error
	}
	blob, err = s.BagOf(ctx, number)
	return blob, err == nil, err
}

// Report notes how far the reading came, and that the worker is alive.
func (s *Store) Report(ctx context.Context, number int64, claim string, p client.Progress) error {
	return s.db.WithContext(ctx).Exec(
		"update cases set heartbeat = now(), progress_phase = ?, progress_done = ?, progress_total = ? where number = ? "+
			"and claim = ?",
		p.Phase, p.Done, p.Total, number, claim,
	).Error
}

// Release gives a claim up, so that another try can begin at once. The problem is
// what the case waits for, if anything.
func (s *Store) Release(ctx context.Context, number int64, claim, problem string) error {
	return s.db.WithContext(ctx).Exec(
		"update cases set state = ?, problem = ?, claim = null, heartbeat = null, updated_at = now() "+
			"where number = ? and claim = ?",
		client.Received, problem, number, claim,
	).Error
}

// Settle ends the reading: with a docket, or with the problem for which there
// is none. It does nothing for a worker that lost its claim.
func (s *Store) Settle(
	ctx context.Context, number int64, claim string, d *docket.Docket, problem string, n FleetNote,
) error {
	event := lifecycle.Unreadable
	set := map[string]any{"problem": problem, "claim": nil, "heartbeat": nil, "updated_at": time.Now()}
	if d != nil {
		raw, err := json.Marshal(d)
		if err != nil {
			return err
		}
		raw = plain.WithoutNUL(raw)
		event = lifecycle.ReadFailing
		if d.Sound() {
			event = lifecycle.ReadHealthy
		}
		if len(d.Why) > 0 {
			set["cause"] = d.Why[0].Cause
		}
		set["docket"], set["rungs"], set["headline"], set["tried"] = raw, chosen(d), d.Headline(), tried(d)
	}
	return s.inTx(ctx, func(db *gorm.DB, _ func(func(pgx.Tx) error) error) error {
		c, err := lockCase(db, number)
		if err != nil {
			return err
		}
		next, err := lifecycle.Next(c.State, event)
		if err != nil {
			return nil //nolint:nilerr // somebody else has the case now
		}
		set["state"] = next
		done := db.Table("cases").Where("number = ? and claim = ?", number, claim).Updates(set)
		if done.Error != nil || done.RowsAffected == 0 || d == nil {
			return done.Error
		}
		if err := follow(db, number, d); err != nil {
			return err
		}
		return noteFleet(db, number, n)
	})
}

// Due makes what a statement of the queue selects be done now.
func (s *Store) Due(ctx context.Context, statement string) error {
	return s.db.WithContext(ctx).Exec(statement).Error
}

// Requeue puts cases whose worker fell silent, and those that nobody will come
// back to, into the queue again. awaited is a condition in SQL over cases.number
// that holds when the queue will still come to a case.
func (s *Store) Requeue(
	ctx context.Context, awaited string, enqueue func(pgx.Tx, int64) error,
) (numbers []int64, err error) {
	err = s.inTx(ctx, func(db *gorm.DB, raw func(func(pgx.Tx) error) error) error {
		if err := db.Exec( // the clock was set back: a sign of life from what is to come counts as one from now
			"update cases set heartbeat = least(heartbeat, now()), updated_at = least(updated_at, now()) where state in ? and "+
				"greatest(heartbeat, updated_at) > now() + interval '1 minute'",
			[]client.CaseState{client.Received, client.Reading},
		).Error; err != nil {
			return err
		}
		err := db.Raw(
			"update cases set state = ?, claim = null, heartbeat = null, updated_at = now() where state = ? and heartbeat < "+
				"now() - interval '"+
				staleAfter+"' returning number",
			client.Received, client.Reading,
		).Scan(&numbers).Error
		if err != nil {
			return err
		}
		var waiting []int64
		if err := db.Raw(
			"select number from cases where state = ? and updated_at < now() - interval '"+staleAfter+"' and not ("+awaited+
				") order by number limit 100 for update skip locked", client.Received,
		).Scan(&waiting).Error; err != nil {
			return err
		}
		if numbers = append(numbers, waiting...); len(numbers) == 0 {
			return nil
		}
		if err := db.Exec("update cases set updated_at = now() where number in ?", numbers).Error; err != nil {
			return err
		}
		return raw(func(tx pgx.Tx) error {
			for _, n := range numbers {
				if err := enqueue(tx, n); err != nil {
					return err
				}
			}
			return nil
		})
	})
	return numbers, err
}

// A KeptBag is a bag that is recorded, with the number of its case.
type KeptBag struct {
	Digest string
	Blob   string
	Size   int64
	Number int64
}

// BagsAfter lists recorded bags in the order of their digests, behind one of them.
func (s *Store) BagsAfter(ctx context.Context, digest string, limit int) (list []KeptBag, err error) {
	err = s.db.WithContext(ctx).Raw(
		"select b.digest, b.blob, b.size, c.number from bags b join cases c on c.bag_digest = b.digest "+
			"where b.digest > ? and b.removed_at is null "+
			"order by b.digest limit ?", digest, limit,
	).
		Scan(&list).Error
	return list, err
}

// HasBlob reports whether a bag is recorded, and still kept, that lies under key.
func (s *Store) HasBlob(ctx context.Context, key string) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&bagRow{}).Where("blob = ? and removed_at is null", key).Count(&n).Error
	return n > 0, err
}

// chosen counts the rungs to which something points.
func chosen(d *docket.Docket) (n int) {
	for _, r := range d.ToDo {
		if !r.General {
			n++
		}
	}
	return n
}

func tried(d *docket.Docket) string {
	for _, t := range d.Attempts {
		if t.Outcome != "succeeded" {
			return strings.TrimSpace(string(t.Kind) + " " + string(t.Outcome))
		}
	}
	if len(d.Attempts) > 0 {
		return strings.TrimSpace(string(d.Attempts[0].Kind) + " " + string(d.Attempts[0].Outcome))
	}
	if d.Call != nil {
		return "told in words"
	}
	return ""
}
