package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"diorthos/core/climb"
	"diorthos/core/docket"
)

// A Case is one failed attempt on one machine, in short.
type Case struct {
	Number   int64     `json:"number" doc:"Number of the case"`
	Machine  string    `json:"machine" doc:"Name of the machine"`
	Site     string    `json:"site,omitempty" doc:"Where the machine stands"`
	State    CaseState `json:"state"`
	Received time.Time `json:"received" doc:"When its bag was acknowledged"`
	Updated  time.Time `json:"updated" doc:"When anything about it changed last"`
	By       string    `json:"by" doc:"Who handed it in"`
	Bag      string    `json:"bag" doc:"SHA-256 of the bag's manifest"`
	BagSize  int64     `json:"bagSize" doc:"Size of the packed bag in bytes"`
	Headline string    `json:"headline,omitempty" doc:"The likeliest cause"`
	Tried    string    `json:"tried,omitempty" doc:"What was tried, in short"`
	Rungs    int       `json:"rungs" doc:"Rungs of its ladder"`
	Proven   int       `json:"proven" doc:"Rungs that were taken and proven"`
	Problem  string    `json:"problem,omitempty" doc:"Why it could not be read"`
	ClosedBy string    `json:"closedBy,omitempty" doc:"Who closed or reopened it last; empty when newer evidence did"`
	Note     string    `json:"note,omitempty" doc:"What helped, or why it was reopened"`
	Progress *Progress `json:"progress,omitempty"`

	Removed *time.Time `json:"removed,omitempty" doc:"When its bag was removed from the store; the docket stays"`
}

// A CaseChange closes a case, or opens a closed one again.
type CaseChange struct {
	State CaseState `json:"state" enum:"closed,open" doc:"What it is to be"`
	Note  string    `json:"note,omitempty" maxLength:"2000" doc:"What helped, or why it is opened again"`
}

// ChangeCase closes a case, or opens a closed one again.
func (c *Client) ChangeCase(ctx context.Context, number int64, change CaseChange) (*Case, error) {
	var done Case
	return &done, c.send(ctx, http.MethodPatch, fmt.Sprintf("/api/v1/cases/%d", number), change, &done)
}

// Progress is how far the reading of a case came.
type Progress struct {
	Phase string `json:"phase" doc:"What is being done"`
	Done  int64  `json:"done" doc:"Bytes read"`
	Total int64  `json:"total" doc:"Bytes to read; 0 when not known yet"`
}

// A CaseDetail is a case with its docket and its climbs.
type CaseDetail struct {
	Case
	Docket    *docket.Docket `json:"docket,omitempty" doc:"Absent until it was read"`
	Climbs    []Climb        `json:"climbs" doc:"The latest first"`
	Approvals []Approval     `json:"approvals" doc:"Who agreed to which rung within a day, the latest first"`
	Orders    []CaseOrder    `json:"orders" doc:"What the machine's agent was told to do for it, the latest first"`
	// Agent is the machine's agent that was heard last.
	Agent  *CaseAgent `json:"agent,omitempty" doc:"The machine's agent that was heard last; absent where it has none"`
	Cohort *Cohort    `json:"cohort,omitempty" doc:"The machines that fail in the same way"`
	// Typical is how long remedies took in earlier climbs, by their names.
	Typical map[string]Typical `json:"typical" doc:"How long remedies took where they were proven, by their names"`
	// Stands is how each rung stands after all climbs, by its number.
	Stands map[string]climb.Outcome `json:"stands" doc:"How each rung stands after all climbs, by its number"`
}

// A Typical is how long a remedy took where it was proven.
type Typical struct {
	Seconds float64 `json:"seconds" doc:"The median"`
	Runs    int64   `json:"runs" doc:"Of how many"`
}

// Standing is how a rung stands; empty if it was never taken.
func (d *CaseDetail) Standing(rung int) climb.Outcome { return d.Stands[strconv.Itoa(rung)] }

// A CasePage is one page of a list of cases, the newest first.
type CasePage struct {
	Cases []Case `json:"cases"`
	Next  int64  `json:"next,omitempty" doc:"Pass as \"before\" for the next page; absent on the last"`
	Total int64  `json:"total" doc:"Cases that match; counted up to 10,000"`
}

// An Accepted is the answer to a bag.
type Accepted struct {
	Case
	Again bool `json:"again" doc:"The same evidence had been handed in before; this is its case"`
	// Joined says that the case began with words, and this is its evidence.
	Joined bool `json:"joined" doc:"The case began with words, and this is its evidence"`
}

// A NewCall is what somebody tells of a machine before there is evidence.
type NewCall struct {
	Machine string         `json:"machine" minLength:"1" maxLength:"200" doc:"Name of the machine"`
	Site    string         `json:"site,omitempty" maxLength:"200" doc:"Where it stands"`
	Words   string         `json:"words" minLength:"1" maxLength:"8000" doc:"Words or a code from the screen"`
	When    string         `json:"when,omitempty" enum:"start,attempt" doc:"When it is shown"`
	Answers map[string]int `json:"answers,omitempty" doc:"Answers to checks, by the check's id: the number of the answer"`
}

// OpenCall begins a case with words alone; the next bag of the machine joins it.
func (c *Client) OpenCall(ctx context.Context, call NewCall) (*Accepted, error) {
	var a Accepted
	return &a, c.send(ctx, http.MethodPost, "/api/v1/calls", call, &a)
}

// Submit hands in a bag of size bytes; -1 when the size is not known.
func (c *Client) Submit(ctx context.Context, bag io.Reader, size int64) (*Accepted, error) {
	req, err := c.request(ctx, http.MethodPost, "/api/v1/bags", io.NopCloser(bag)) // the caller closes it
	if err != nil {
		return nil, err
	}
	req.ContentLength = size
	req.Header.Set("Content-Type", "application/octet-stream")
	req.Header.Set("Expect", "100-continue") // be told of a missing token before sending it all
	var a Accepted
	return &a, c.do(req, &a)
}

// Case returns one case.
func (c *Client) Case(ctx context.Context, number int64) (*CaseDetail, error) {
	var d CaseDetail
	return &d, c.get(ctx, fmt.Sprintf("/api/v1/cases/%d", number), &d)
}

// ReadAgain has a case read once more: one that could not be read, or that newer knowledge
// may judge otherwise.
func (c *Client) ReadAgain(ctx context.Context, number int64) (*Case, error) {
	var r Case
	return &r, c.send(ctx, http.MethodPost, fmt.Sprintf("/api/v1/cases/%d/read", number), struct{}{}, &r)
}

// Bag copies the bag of a case, packed as it was handed in. It is verified by nobody here: bag.Read does that.
func (c *Client) Bag(ctx context.Context, number int64, to io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/api/v1/cases/%d/bag", number), fmt.Sprintf("the bag of case %d", number), to)
}

// RemoveEvidence has the bag of a case removed for good; its docket stays.
func (c *Client) RemoveEvidence(ctx context.Context, number int64) (*Case, error) {
	var r Case
	return &r, c.send(ctx, http.MethodDelete, fmt.Sprintf("/api/v1/cases/%d/bag", number), nil, &r)
}

// A CaseQuery selects cases. The zero value selects all.
type CaseQuery struct {
	Machine string // part of the name
	State   CaseState
	Before  int64 // numbers below this one
	Limit   int   // at most 200; 0 for 50
}

// Cases returns one page of cases.
func (c *Client) Cases(ctx context.Context, q CaseQuery) (*CasePage, error) {
	v := url.Values{}
	for name, value := range map[string]string{
		"machine": q.Machine,
		"state":   string(q.State),
		"before":  number(q.Before),
		"limit":   number(int64(q.Limit)),
	} {
		if value != "" {
			v.Set(name, value)
		}
	}
	var p CasePage
	return &p, c.get(ctx, "/api/v1/cases?"+v.Encode(), &p)
}

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}
