package client

import (
	"context"
	"net/url"
	"strconv"
	"time"

	"diorthos/core/bag"
	"diorthos/core/readiness"
)

// A MachineSummary is a computer of the fleet, in short.
type MachineSummary struct {
	Name     string    `json:"name" doc:"Name of the machine"`
	Site     string    `json:"site,omitempty" doc:"Where it stands"`
	Model    string    `json:"model,omitempty"`
	Seen     time.Time `json:"seen" doc:"When evidence of it came in last"`
	Cases    int64     `json:"cases" doc:"How many cases it has"`
	Case     int64     `json:"case" doc:"Number of its latest case"`
	State    CaseState `json:"state" doc:"State of that case"`
	Headline string    `json:"headline,omitempty" doc:"The likeliest cause in that case"`
}

// A MachineDetail is a machine with its facts as they were gathered last.
type MachineDetail struct {
	MachineSummary
	Gathered   time.Time           `json:"gathered,omitzero" doc:"When the facts were gathered"`
	Disks      []bag.Disk          `json:"disks"`
	Hardware   *bag.Hardware       `json:"hardware,omitempty"`
	Firmware   *bag.Firmware       `json:"firmware,omitempty"`
	Facts      *bag.State          `json:"facts,omitempty" doc:"How the parts of its system stand, where that is known"`
	Conditions []readiness.Verdict `json:"conditions" doc:"The same, judged part by part"`
	History    []Case              `json:"history" doc:"Its cases, the latest first; at most 50"`
}

// A MachinePage is one page of a list of machines, by their names.
type MachinePage struct {
	Machines []MachineSummary `json:"machines"`
	Next     string           `json:"next,omitempty" doc:"Pass as \"after\" for the next page; absent on the last"`
	Total    int64            `json:"total" doc:"Machines that match; counted up to 10,000"`
}

// A MachineQuery says which machines to list.
type MachineQuery struct {
	Name  string    // part of the name or of the site
	State CaseState // of the latest case; empty for any
	After string    // the name behind which the page begins
	Limit int
}

// Machines returns a page of machines.
func (c *Client) Machines(ctx context.Context, q MachineQuery) (*MachinePage, error) {
	v := url.Values{}
	for name, value := range map[string]string{"name": q.Name, "state": string(q.State), "after": q.After} {
		if value != "" {
			v.Set(name, value)
		}
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	var page MachinePage
	return &page, c.get(ctx, "/api/v1/machines?"+v.Encode(), &page)
}

// Machine returns one machine with its facts.
func (c *Client) Machine(ctx context.Context, name string) (*MachineDetail, error) {
	var d MachineDetail
	return &d, c.get(ctx, "/api/v1/machines/"+url.PathEscape(name), &d)
}
