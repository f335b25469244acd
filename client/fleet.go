package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"diorthos/core/fleet"
)

// A Cohort is a failure that several machines may have, in short.
type Cohort struct {
	ID          int64             `json:"id"`
	Title       string            `json:"title" doc:"The cause, or the kind where none is known"`
	Name        string            `json:"name,omitempty" doc:"What a person calls it"`
	Muted       bool              `json:"muted,omitempty" doc:"Nobody is told of it"`
	Machines    int               `json:"machines" doc:"Machines that failed in this way, those of your sites"`
	First       time.Time         `json:"first" doc:"When it was seen first"`
	Last        time.Time         `json:"last" doc:"And last"`
	Fingerprint fleet.Fingerprint `json:"fingerprint" doc:"By what its cases are the same"`
	Outbreak    *Outbreak         `json:"outbreak,omitempty" doc:"The one that goes on"`
}

// Called is how people know it.
func (c Cohort) Called() string {
	if c.Name != "" {
		return c.Name
	}
	return c.Title
}

// An Outbreak is a cohort that is suddenly common.
type Outbreak struct {
	ID       int64       `json:"id"`
	Cohort   int64       `json:"cohort"`
	Title    string      `json:"title" doc:"What the cohort is called"`
	Raised   time.Time   `json:"raised"`
	By       int64       `json:"by" doc:"Number of the case that tipped it"`
	Machines int         `json:"machines" doc:"Machines that had failed by then"`
	Now      int         `json:"now" doc:"Machines that have failed by now"`
	Watch    fleet.Watch `json:"watch" doc:"The sequential test when it was raised"`
	Ended    *time.Time  `json:"ended,omitempty" doc:"When it came back to how it usually is"`
	Suspect  string      `json:"suspect,omitempty" doc:"The package or update that it points to"`
	Held     string      `json:"held,omitempty" doc:"What is held back because of it"`
	HeldBy   string      `json:"heldBy,omitempty"`
	HeldAt   *time.Time  `json:"heldAt,omitempty"`
	ByRule   bool        `json:"byRule,omitempty" doc:"Held at the sites alone whose rule says so"`
	HeldOn   int         `json:"heldOn,omitempty" doc:"Machines with an agent that hold it back, as they say"`
	HeldOf   int         `json:"heldOf,omitempty" doc:"Machines with an agent"`
	// HoldProblems are those that cannot.
	HoldProblems []HoldProblem `json:"holdProblems,omitempty" doc:"Machines that cannot hold it back, at most 20"`

	LiftedBy string     `json:"liftedBy,omitempty"`
	LiftedAt *time.Time `json:"liftedAt,omitempty"`
}

// A HoldProblem is why a machine cannot hold something back.
type HoldProblem struct {
	Machine string `json:"machine"`
	Problem string `json:"problem"`
}

// A SiteRule says when, and on how many machines at once, orders may be carried out at a site.
type SiteRule struct {
	Site   string `json:"site" minLength:"1" maxLength:"200"`
	Opens  string `json:"opens,omitempty" maxLength:"5" doc:"Time of day from which orders may be begun; empty for always"`
	Closes string `json:"closes,omitempty" maxLength:"5" doc:"Time of day until which"`
	Zone   string `json:"zone,omitempty" maxLength:"60" doc:"Zone of the times, such as Europe/Oslo; UTC by default"`
	AtOnce int    `json:"atOnce,omitempty" minimum:"0" maximum:"100000" doc:"Machines at a time; 0 for any number"`
	// Holds has agents hold back what an outbreak points to, as soon as it is raised.
	Holds bool `json:"holds,omitempty" doc:"The package or update that an outbreak points to is held back here at once"`
	// Machines is how many stand there: at none, the name may be a slip.
	Machines int       `json:"machines,omitempty" readOnly:"true"`
	By       string    `json:"by,omitempty" readOnly:"true"`
	At       time.Time `json:"at,omitzero" readOnly:"true"`
}

// SiteRules lists those that there are.
func (c *Client) SiteRules(ctx context.Context) ([]SiteRule, error) {
	var body struct {
		Rules []SiteRule `json:"rules"`
	}
	return body.Rules, c.get(ctx, "/api/v1/site-rules", &body)
}

// SetSiteRule sets that of a site.
func (c *Client) SetSiteRule(ctx context.Context, rule SiteRule) (*SiteRule, error) {
	var set SiteRule
	return &set, c.send(ctx, http.MethodPut, "/api/v1/site-rules", rule, &set)
}

// A CohortDetail is a cohort with its cases, what its machines share, and what helped.
type CohortDetail struct {
	Cohort
	Cases  []Case           `json:"cases" doc:"The latest of each machine, the newest first; at most 200"`
	Sites  []MachineCount   `json:"sites" doc:"Machines by site"`
	Models []MachineCount   `json:"models" doc:"Machines by model"`
	Days   []MachineCount   `json:"days" doc:"Machines that failed first, by day"`
	Shared []fleet.Shared   `json:"shared" doc:"What its machines have and others rarely, the most telling first"`
	Looked int              `json:"looked" doc:"How many attributes were compared, which is allowed for"`
	Helped []RemedyOutcomes `json:"helped" doc:"What was tried on its machines, and what came of it"`
}

// A MachineCount is how many machines there are of something.
type MachineCount struct {
	What     string `json:"what"`
	Machines int    `json:"machines"`
}

// RemedyOutcomes is what a remedy came to.
type RemedyOutcomes struct {
	Remedy string `json:"remedy"`
	Title  string `json:"title"`
	Proven int    `json:"proven" doc:"Machines on which it was proven"`
	Failed int    `json:"failed" doc:"Machines on which it did not help, or was taken back"`
}

// A CohortChange is what a person says of a cohort. What is absent stays.
type CohortChange struct {
	Name  *string `json:"name,omitempty" maxLength:"120"`
	Muted *bool   `json:"muted,omitempty"`
	Into  *int64  `json:"into,omitempty" minimum:"0" doc:"The cohort that it belongs to; 0 for none"`
	By    *string `json:"by,omitempty" enum:",site,model,release,firmware,kernel" doc:"By what it is split"`
}

// A CohortPage is one page of cohorts.
type CohortPage struct {
	Cohorts []Cohort `json:"cohorts"`
	Next    int64    `json:"next,omitempty" doc:"Ask for the next page with it"`
}

// Cohorts lists cohorts, the one that was seen last first.
func (c *Client) Cohorts(ctx context.Context, after int64, limit int) (*CohortPage, error) {
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	if after > 0 {
		q.Set("after", number(after))
	}
	var page CohortPage
	return &page, c.get(ctx, "/api/v1/cohorts?"+q.Encode(), &page)
}

// Cohort returns one.
func (c *Client) Cohort(ctx context.Context, id int64) (*CohortDetail, error) {
	var d CohortDetail
	return &d, c.get(ctx, fmt.Sprintf("/api/v1/cohorts/%d", id), &d)
}

// ChangeCohort names, mutes, merges or splits one.
func (c *Client) ChangeCohort(ctx context.Context, id int64, change CohortChange) (*Cohort, error) {
	var done Cohort
	return &done, c.send(ctx, http.MethodPatch, fmt.Sprintf("/api/v1/cohorts/%d", id), change, &done)
}

// Outbreaks lists them, those that go on first.
func (c *Client) Outbreaks(ctx context.Context) ([]Outbreak, error) {
	var body struct {
		Outbreaks []Outbreak `json:"outbreaks"`
	}
	return body.Outbreaks, c.get(ctx, "/api/v1/outbreaks", &body)
}

// A HoldChange holds something back because of an outbreak, or lifts that.
type HoldChange struct {
	Held string `json:"held" maxLength:"200" doc:"What is held back: a release, an update or a package; empty to lift it"`
}

// Hold holds something back because of an outbreak; with an empty text it is lifted.
func (c *Client) Hold(ctx context.Context, id int64, what string) (*Outbreak, error) {
	var done Outbreak
	return &done, c.send(ctx, http.MethodPut, fmt.Sprintf("/api/v1/outbreaks/%d/hold", id), HoldChange{Held: what}, &done)
}

// A TwinReport is which healthy machines are most like one, and how they differ.
type TwinReport struct {
	Machine     string             `json:"machine"`
	Twins       []fleet.Twin       `json:"twins" doc:"The most alike first"`
	Against     string             `json:"against,omitempty" doc:"The twin that it is compared with"`
	Differences []fleet.Difference `json:"differences" doc:"The most suspect first"`
	Looked      int                `json:"looked" doc:"Healthy machines of the same model and release that were looked at"`
}

// Twin finds the healthy machines that are most like one.
func (c *Client) Twin(ctx context.Context, machine, against string) (*TwinReport, error) {
	var r TwinReport
	path := "/api/v1/machines/" + url.PathEscape(machine) + "/twin"
	if against != "" {
		path += "?against=" + url.QueryEscape(against)
	}
	return &r, c.get(ctx, path, &r)
}

// Taught is what outcomes at this site have taught.
type Taught struct {
	Counts  []fleet.Learned `json:"learned" doc:"What counts when a case is read"`
	Waiting []fleet.Learned `json:"waiting" doc:"What outcomes have taught since it was frozen"`
	Frozen  *time.Time      `json:"frozen,omitempty" doc:"When it was frozen: nothing later counts"`
	Since   *time.Time      `json:"since,omitempty" doc:"Outcomes before this were forgotten"`
	By      string          `json:"by,omitempty" doc:"Who froze, thawed or reset it last"`
}

// A LearnedWhat is what is to be done with what was learned.
type LearnedWhat string

// What can be done with it.
const (
	FreezeLearned LearnedWhat = "freeze" // as it is now; what waits is accepted
	ThawLearned   LearnedWhat = "thaw"
	ResetLearned  LearnedWhat = "reset"
)

// A LearnedChange says what is to be done with what was learned.
type LearnedChange struct {
	Do LearnedWhat `json:"do" enum:"freeze,thaw,reset"`
}

// Learned is what outcomes at this site have taught.
func (c *Client) Learned(ctx context.Context) (*Taught, error) {
	var l Taught
	return &l, c.get(ctx, "/api/v1/learned", &l)
}

// ChangeLearned freezes what was learned as it is now, lets all count, or forgets it.
func (c *Client) ChangeLearned(ctx context.Context, do LearnedWhat) (*Taught, error) {
	var l Taught
	return &l, c.send(ctx, http.MethodPut, "/api/v1/learned", LearnedChange{do}, &l)
}
