package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// A Role is what a person may do. Each may what those before it may.
type Role string

// The roles.
const (
	See        Role = "see"        // look at cases and machines
	Work       Role = "work"       // hand in evidence, climb, close cases
	Approve    Role = "approve"    // agree to what disrupts
	Administer Role = "administer" // people, tokens, the audit
)

// Roles lists those that there are, the narrowest first.
func Roles() []Role { return []Role{See, Work, Approve, Administer} }

var roleRank = map[Role]int{See: 1, Work: 2, Approve: 3, Administer: 4}

// May reports whether it covers what needs another role.
func (r Role) May(needs Role) bool { return roleRank[r] > 0 && roleRank[r] >= roleRank[needs] }

// A Person may use the service.
type Person struct {
	Name    string     `json:"name"`
	Role    Role       `json:"role"`
	Sites   []string   `json:"sites" doc:"Only machines of these; none named: of all"`
	Created time.Time  `json:"created"`
	Ended   *time.Time `json:"ended,omitempty" doc:"Since then the person may do nothing"`
	Tokens  []Token    `json:"tokens"`
	Signed  []Session  `json:"sessions" doc:"Browsers that are signed in"`
}

// A Token is what a person signs in with. Only its hash is kept.
type Token struct {
	ID      int64      `json:"id"`
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Expires *time.Time `json:"expires,omitempty"`
	Used    *time.Time `json:"used,omitempty" doc:"Last, to the minute"`
	Ended   *time.Time `json:"ended,omitempty"`
}

// A Session is a browser that is signed in.
type Session struct {
	ID      int64     `json:"id"`
	Address string    `json:"address"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
}

// A PersonChange makes a person, or changes one. Fields left empty stay as they are.
type PersonChange struct {
	Role  Role      `json:"role,omitempty" doc:"Of a new person: work, if it is not given"`
	Sites *[]string `json:"sites,omitempty" maxItems:"100"`
	Ended *bool     `json:"ended,omitempty" doc:"true ends all tokens and sessions; false lets the person in again"`
}

// A TokenWish asks for a token.
type TokenWish struct {
	Name string `json:"name" minLength:"1" maxLength:"80" doc:"What it is for, such as a computer"`
	Days int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"Until it expires; 0 for never"`
}

// A NewToken is shown once.
type NewToken struct {
	Token
	Secret string `json:"secret"`
}

// An AuditEntry says who did what to what. Each holds the hash of the one before it.
type AuditEntry struct {
	Number  int64        `json:"number"`
	At      time.Time    `json:"at"`
	Who     string       `json:"who"`
	Token   string       `json:"token" doc:"By which token or session"`
	Address string       `json:"address" doc:"From where"`
	Action  string       `json:"action"`
	Object  string       `json:"object"`
	Outcome AuditOutcome `json:"outcome"`
	Detail  string       `json:"detail,omitempty"`
	Before  string       `json:"before" doc:"Hash of the entry before, in hexadecimal"`
	Hash    string       `json:"hash"`
}

// An AuditOutcome says whether something was done.
type AuditOutcome string

// The outcomes of what was asked for.
const (
	AuditDone    AuditOutcome = "done"
	AuditRefused AuditOutcome = "refused"
)

// AuditOutcomes lists those that there are.
func AuditOutcomes() []AuditOutcome { return []AuditOutcome{AuditDone, AuditRefused} }

// An AuditPage is one page of the audit, the newest first.
type AuditPage struct {
	Entries []AuditEntry `json:"entries"`
	Next    int64        `json:"next,omitempty" doc:"Pass as \"before\" for the next page; absent on the last"`
}

// An AuditCheck is what comes of holding every entry against the one before it.
type AuditCheck struct {
	Entries int64  `json:"entries" doc:"That were looked at"`
	Problem string `json:"problem,omitempty" doc:"The first entry that does not fit"`
}

// People lists all.
func (c *Client) People(ctx context.Context) ([]Person, error) {
	var answer struct {
		People []Person `json:"people"`
	}
	return answer.People, c.get(ctx, "/api/v1/people", &answer)
}

// SetPerson makes or changes a person.
func (c *Client) SetPerson(ctx context.Context, name string, change PersonChange) (*Person, error) {
	var p Person
	return &p, c.send(ctx, http.MethodPut, "/api/v1/people/"+url.PathEscape(name), change, &p)
}

// AddToken gives a person a further token.
func (c *Client) AddToken(ctx context.Context, name string, wish TokenWish) (*NewToken, error) {
	var t NewToken
	return &t, c.send(ctx, http.MethodPost, "/api/v1/people/"+url.PathEscape(name)+"/tokens", wish, &t)
}

// ExportPerson fetches everything that is kept of a person, as a packed tar archive.
func (c *Client) ExportPerson(ctx context.Context, name string, to io.Writer) error {
	return c.download(ctx, "/api/v1/people/"+url.PathEscape(name)+"/export", "what is kept of "+name, to)
}

// ExportMachine fetches everything that is kept of a machine, its bags with it, as a packed tar archive.
func (c *Client) ExportMachine(ctx context.Context, name string, to io.Writer) error {
	return c.download(ctx, "/api/v1/machines/"+url.PathEscape(name)+"/export", "what is kept of "+name, to)
}

// EndToken ends a token, and the sessions that were begun with it.
func (c *Client) EndToken(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/api/v1/tokens/%d", id))
}

// EndSession signs a browser out.
func (c *Client) EndSession(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/api/v1/sessions/%d", id))
}

func (c *Client) remove(ctx context.Context, path string) error {
	req, err := c.request(ctx, http.MethodDelete, path, nil)
	if err != nil {
		return err
	}
	resp, err := c.answer(req)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// Audit returns one page of the audit, the entries below a number; 0 for the newest.
func (c *Client) Audit(ctx context.Context, before int64, limit int) (*AuditPage, error) {
	v := url.Values{"limit": {strconv.Itoa(limit)}}
	if before > 0 {
		v.Set("before", strconv.FormatInt(before, 10))
	}
	var p AuditPage
	return &p, c.get(ctx, "/api/v1/audit?"+v.Encode(), &p)
}

// VerifyAudit holds every entry against the one before it.
func (c *Client) VerifyAudit(ctx context.Context) (*AuditCheck, error) {
	var check AuditCheck
	return &check, c.get(ctx, "/api/v1/audit/check", &check)
}
