package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"
)

// A Knock is how a machine that was started from a stick asks to be let in.
type Knock struct {
	Public []byte `json:"public" doc:"The Ed25519 key that was made for this time, the public half"`
	Tells  string `json:"tells,omitempty" doc:"What the machine is: its model, its disks" maxLength:"400"`
	Hardware
}

// A KnockCode stands on the machine's screen.
type KnockCode struct {
	Code    string    `json:"code"`
	Expires time.Time `json:"expires"`
}

// A KnockAsked asks whether somebody let the machine in: the signature of "TIME" by its key.
type KnockAsked struct {
	Public    []byte    `json:"public"`
	Time      time.Time `json:"time"`
	Signature []byte    `json:"signature"`
}

// KnockText is what a machine signs that asks whether it is let in.
func KnockText(at time.Time) []byte {
	return fmt.Appendf(nil, "diorthos knock\n%s", at.UTC().Format(time.RFC3339Nano))
}

// A KnockAnswer says whether somebody did.
type KnockAnswer struct {
	Enrolled *Enrolled `json:"enrolled,omitempty" doc:"Absent while nobody did"`
}

// Knocking is a machine that waits to be let in.
type Knocking struct {
	Tells   string    `json:"tells" doc:"What it says of itself"`
	Address string    `json:"address" doc:"From where it asks"`
	At      time.Time `json:"at"`
}

// An Admission lets the machine in on whose screen a code stands.
type Admission struct {
	Code    string `json:"code" minLength:"1" maxLength:"40" doc:"As it was read from the screen, or heard"`
	Machine string `json:"machine" minLength:"1" maxLength:"200" doc:"Which machine it is"`
	Site    string `json:"site,omitempty" maxLength:"200" doc:"Where it stands, of one that is not known yet"`
}

// Knock asks for a code to be shown.
func (c *Client) Knock(ctx context.Context, k Knock) (*KnockCode, error) {
	var code KnockCode
	return &code, c.send(ctx, http.MethodPost, "/api/v1/knocks", k, &code)
}

// Admitted waits for a while whether somebody lets the machine in.
func (c *Client) Admitted(ctx context.Context, asked KnockAsked) (*Enrolled, error) {
	var answer KnockAnswer
	err := c.send(ctx, http.MethodPost, "/api/v1/knocks/answer", asked, &answer)
	return answer.Enrolled, err
}

// Knocking says what waits behind a code.
func (c *Client) Knocking(ctx context.Context, code string) (*Knocking, error) {
	var k Knocking
	return &k, c.get(ctx, "/api/v1/knocks/"+url.PathEscape(code), &k)
}

// Admit lets a machine in.
func (c *Client) Admit(ctx context.Context, a Admission) (*Agent, error) {
	var done Agent
	return &done, c.send(ctx, http.MethodPost, "/api/v1/admissions", a, &done)
}
