package records

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/docket"
	"diorthos/core/readiness"
)

// machineRow is a machine with its latest case.
type machineRow struct {
	ID       int64
	Name     string
	Site     string
	Model    string
	LastSeen time.Time
	Cases    int64
	Number   int64
	State    client.CaseState
	Headline string
}

func (r machineRow) public() client.MachineSummary {
	return client.MachineSummary{
		Name:     r.Name,
		Site:     r.Site,
		Model:    r.Model,
		Seen:     r.LastSeen.UTC(),
		Cases:    r.Cases,
		Case:     r.Number,
		State:    r.State,
		Headline: r.Headline,
	}
}

// machineQuery joins each machine with its latest case.
func (s *Store) machineQuery(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Table("machines").
		Select("machines.id, machines.name, machines.site, machines.model, machines.last_seen, latest.number, " +
			"machines.state, latest.headline, (select count(*) from cases where cases.machine_id = machines.id) as cases").
		Joins("join cases latest on latest.number = machines.latest")
}

// Machines returns a page of machines in the order of their names, of these sites; none
// named means all.
func (s *Store) Machines(ctx context.Context, sites []string, q client.MachineQuery) (*client.MachinePage, error) {
	match := func(db *gorm.DB) *gorm.DB {
		if len(sites) > 0 {
			db = db.Where("machines.site in ?", sites)
		}
		if q.Name != "" {
			like := "%" + likeLiteral(q.Name) + "%"
			db = db.Where("machines.search like lower(?)", like)
		}
		if q.State != "" {
			db = db.Where("machines.state = ?", q.State)
		}
		return db
	}
	page := &client.MachinePage{Machines: []client.MachineSummary{}}
	count := s.db.WithContext(ctx).Table("machines").Select("1")
	if err := s.db.WithContext(ctx).Table(
		"(?) as counted", match(count).Limit(countedTo),
	).Count(&page.Total).Error; err != nil {
		return nil, err
	}
	if page.Total == 0 {
		return page, nil
	}
	rows := match(s.machineQuery(ctx)).Order("machines.name").Limit(q.Limit + 1)
	if q.After != "" {
		rows = rows.Where("machines.name > ?", q.After)
	}
	var list []machineRow
	if err := rows.Find(&list).Error; err != nil {
		return nil, err
	}
	if len(list) > q.Limit {
		list = list[:q.Limit]
		page.Next = list[q.Limit-1].Name
	}
	for _, r := range list {
		page.Machines = append(page.Machines, r.public())
	}
	return page, nil
}

// SiteOf is the site that a machine is known to be of.
func (s *Store) SiteOf(ctx context.Context, name string) (string, error) {
	var m machine
	err := s.db.WithContext(ctx).Select("site").Where("name = ?", name).Take(&m).Error
	return m.Site, mapNotFound(err)
}

// historyShown bounds how many cases a machine is shown with.
const historyShown = 50

// MachineDetail returns one machine with its cases, and the facts of the latest
// one that was read.
func (s *Store) MachineDetail(ctx context.Context, name string) (*client.MachineDetail, error) {
	var r machineRow
	if err := s.machineQuery(ctx).Where("machines.name = ?", name).Take(&r).Error; err != nil {
		return nil, mapNotFound(err)
	}
	d := &client.MachineDetail{
		MachineSummary: r.public(),
		Disks:          []bag.Disk{},
		Conditions:     []readiness.Verdict{},
		History:        []client.Case{},
	}
	var list []caseRow
	if err := s.caseQuery(ctx).Where(
		"cases.machine_id = ?", r.ID,
	).Order("cases.number desc").Limit(historyShown).Find(&list).Error; err != nil {
		return nil, err
	}
	for _, c := range list {
		d.History = append(d.History, c.public())
	}
	var raw []byte
	err := s.db.WithContext(ctx).Raw(
		"select docket from cases where machine_id = ? and docket is not null order by number desc limit 1", r.ID,
	).Row().Scan(&raw)
	if err != nil {
		return d, ignoreNotFound(mapNotFound(err))
	}
	var read docket.Docket
	if err := json.Unmarshal(raw, &read); err != nil {
		return nil, err
	}
	d.Gathered, d.Hardware, d.Firmware = read.Gathered, read.Hardware, read.Firmware
	d.Facts, d.Conditions = read.State, read.Conditions
	d.Disks = append(d.Disks, read.Disks...)
	return d, nil
}

// ignoreNotFound lets pass that nothing was found.
func ignoreNotFound(err error) error {
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}
