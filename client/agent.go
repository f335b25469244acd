package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"diorthos/core/fleet"
)

// A CodeWish asks for a code by which one agent may enrol.
type CodeWish struct {
	Machine string `json:"machine" minLength:"1" maxLength:"200" doc:"Name of the machine"`
	Site    string `json:"site,omitempty" maxLength:"200" doc:"Where it stands"`
}

// An AgentCode lets one agent enrol, once.
type AgentCode struct {
	Code    string    `json:"code"`
	Machine string    `json:"machine"`
	Expires time.Time `json:"expires"`
}

// An Enrolment is how an agent makes itself known.
type Enrolment struct {
	Code   string `json:"code" maxLength:"100"`
	Public []byte `json:"public" doc:"The agent's own Ed25519 key, the public half"`
	Hardware
}

// Hardware is on what an agent runs.
type Hardware struct {
	Hardware string `json:"hardware,omitempty" maxLength:"100" doc:"Digest that tells this from other hardware; empty if none is to be had"`
}

// Enrolled is what an agent has to keep.
type Enrolled struct {
	Agent   int64  `json:"agent" doc:"Number of the agent"`
	Machine string `json:"machine"`
	Site    string `json:"site,omitempty" doc:"Where the machine stands, as far as it is known"`
	Service []byte `json:"service" doc:"The service's public key, by which orders are signed"`
}

// A SignOn is how an agent signs in: the signature of "AGENT\nTIME" by its key.
type SignOn struct {
	Agent     int64     `json:"agent" minimum:"1"`
	Time      time.Time `json:"time"`
	Signature []byte    `json:"signature"`
	Hardware
}

// SignOnText is what an agent signs.
func SignOnText(agent int64, at time.Time) []byte {
	return fmt.Appendf(nil, "diorthos agent\n%d\n%s", agent, at.UTC().Format(time.RFC3339Nano))
}

// A SignedOn is a token for a short while.
type SignedOn struct {
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
}

// An AgentOrder is an order as it is sent, with the signature of the service.
type AgentOrder struct {
	ID        int64  `json:"id"`
	Payload   []byte `json:"payload"`
	Signature []byte `json:"signature"`
}

// OrderState is how an order stands.
type OrderState string

// The states of an order.
const (
	OrderWaiting   OrderState = "waiting" // its wave has not begun
	OrderOrdered   OrderState = "ordered"
	OrderRunning   OrderState = "running"
	OrderProven    OrderState = "proven"
	OrderFailed    OrderState = "failed"
	OrderRefused   OrderState = "refused"
	OrderLost      OrderState = "lost"
	OrderStopped   OrderState = "stopped"
	OrderTakenBack OrderState = "taken back"
	OrderLeftOut   OrderState = "left out"
)

// OrderStates lists them.
func OrderStates() []OrderState {
	return []OrderState{
		OrderWaiting, OrderOrdered, OrderRunning, OrderProven, OrderFailed, OrderRefused, OrderLost, OrderStopped,
		OrderTakenBack, OrderLeftOut,
	}
}

// An OrderReport is what an agent says of an order.
type OrderReport struct {
	State   OrderState `json:"state" enum:"running,proven,failed,refused,taken back"`
	Problem string     `json:"problem,omitempty" maxLength:"4000"`
}

// An Agent is the process on a machine.
type Agent struct {
	ID       int64      `json:"id"`
	Machine  string     `json:"machine"`
	Enrolled time.Time  `json:"enrolled"`
	By       string     `json:"by" doc:"Who made the code"`
	Seen     *time.Time `json:"seen,omitempty"`
	Silent   bool       `json:"silent,omitempty" doc:"Not heard for so long that its machine is left out of waves"`
	// Copied is when its key was last used on other hardware, by a copy of the machine's disk.
	Copied *time.Time `json:"copied,omitempty" doc:"When its key was last tried on other hardware"`
	// Stick means that it runs beside the machine's own system, from a stick.
	Stick   bool       `json:"stick,omitempty" doc:"It runs from a stick, beside the machine's own system"`
	Expires *time.Time `json:"expires,omitempty" doc:"Until when it is let in; absent for one that stays"`
	// Held is what its machine holds back.
	Held map[string]string `json:"held,omitempty" doc:"Why it cannot, by what it holds back; empty where it does"`
}

// A Rollout is a repair that goes round in waves.
type Rollout struct {
	ID       int64           `json:"id"`
	Cohort   int64           `json:"cohort"`
	Remedy   string          `json:"remedy"`
	Title    string          `json:"title"`
	Invasive string          `json:"invasive"`
	State    string          `json:"state" enum:"going,paused,halted,stopped,done,taking back,taken back"`
	Why      string          `json:"why,omitempty" doc:"Why it stands"`
	By       string          `json:"by"`
	Begun    time.Time       `json:"begun"`
	Tally    fleet.Tally     `json:"tally"`
	Wave     int             `json:"wave" doc:"The wave that runs, from 1"`
	Waves    int             `json:"waves"`
	Members  []RolloutMember `json:"members"`
}

// A RolloutMember is one machine of a roll-out.
type RolloutMember struct {
	Machine string     `json:"machine"`
	Site    string     `json:"site,omitempty"`
	Wave    int        `json:"wave" doc:"From 1; 0 for one that is left out"`
	State   OrderState `json:"state"`
	Case    int64      `json:"case,omitempty"`
	Problem string     `json:"problem,omitempty" doc:"Why it failed, or is left out"`
}

// A RolloutWish offers a repair to a cohort.
type RolloutWish struct {
	Cohort  int64  `json:"cohort" minimum:"1"`
	Remedy  string `json:"remedy" minLength:"1" maxLength:"200"`
	Preview bool   `json:"preview,omitempty" doc:"Only say who would be in which wave, and who is left out"`
	Paused  bool   `json:"paused,omitempty" doc:"Plan it, and begin with the first wave only when somebody lets it go on"`
}

// A RolloutChange stops a roll-out, lets it go on, or takes it back.
type RolloutChange struct {
	State string `json:"state" enum:"going,paused,stopped,taking back"`
}

// MakeCode makes a code by which an agent may enrol.
func (c *Client) MakeCode(ctx context.Context, wish CodeWish) (*AgentCode, error) {
	var done AgentCode
	return &done, c.send(ctx, http.MethodPost, "/api/v1/agents/codes", wish, &done)
}

// Enrol makes an agent known.
func (c *Client) Enrol(ctx context.Context, e Enrolment) (*Enrolled, error) {
	var done Enrolled
	return &done, c.send(ctx, http.MethodPost, "/api/v1/enrol", e, &done)
}

// SignOn gets an agent a token for a short while, which the client uses from then on.
func (c *Client) SignOn(ctx context.Context, s SignOn) (*SignedOn, error) {
	var done SignedOn
	err := c.send(ctx, http.MethodPost, "/api/v1/sign-on", s, &done)
	if err == nil {
		c.token = done.Token
	}
	return &done, err
}

// A Task is what an agent is to do.
type Task struct {
	Order *AgentOrder `json:"order,omitempty"`
	Held  []string    `json:"held" doc:"What the machine has to hold back"`
	// Again is set where too many agents wait already: this one asks again then.
	Again int `json:"again,omitempty" doc:"Seconds to wait where too many agents ask; without it, at once"`
}

// NextTask waits for an order, or until what has to be held back is something else, up to so long.
func (c *Client) NextTask(ctx context.Context, wait time.Duration, held []string) (*Task, error) {
	var task Task
	query := url.Values{"wait": {wait.String()}, "held": held}
	return &task, c.get(ctx, "/api/v1/order?"+query.Encode(), &task)
}

// TellHeld tells what a machine holds back, each with why it cannot; empty where it can.
func (c *Client) TellHeld(ctx context.Context, held map[string]string) error {
	var none struct{}
	return c.send(ctx, http.MethodPut, "/api/v1/held", HeldReport{Held: held}, &none)
}

// A HeldReport is what an agent says of what its machine holds back.
type HeldReport struct {
	Held map[string]string `json:"held" doc:"Why it cannot, by what is held back; empty where it can"`
}

// ReportOrder tells how an order stands.
func (c *Client) ReportOrder(ctx context.Context, id int64, r OrderReport) error {
	var none struct{}
	return c.send(ctx, http.MethodPatch, fmt.Sprintf("/api/v1/orders/%d", id), r, &none)
}

// Agents lists them.
func (c *Client) Agents(ctx context.Context) ([]Agent, error) {
	var body struct {
		Agents []Agent `json:"agents"`
	}
	return body.Agents, c.get(ctx, "/api/v1/agents", &body)
}

// EndAgent turns an agent off.
func (c *Client) EndAgent(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/api/v1/agents/%d", id))
}

// Rollouts lists roll-outs, the latest first.
func (c *Client) Rollouts(ctx context.Context) ([]Rollout, error) {
	var body struct {
		Rollouts []Rollout `json:"rollouts"`
	}
	return body.Rollouts, c.get(ctx, "/api/v1/rollouts", &body)
}

// Rollout returns one.
func (c *Client) Rollout(ctx context.Context, id int64) (*Rollout, error) {
	var r Rollout
	return &r, c.get(ctx, fmt.Sprintf("/api/v1/rollouts/%d", id), &r)
}

// Offer offers a repair to a cohort, in waves.
func (c *Client) Offer(ctx context.Context, wish RolloutWish) (*Rollout, error) {
	var r Rollout
	return &r, c.send(ctx, http.MethodPost, "/api/v1/rollouts", wish, &r)
}

// ChangeRollout stops a roll-out, lets it go on, or takes it back.
func (c *Client) ChangeRollout(ctx context.Context, id int64, state string) (*Rollout, error) {
	var r Rollout
	return &r, c.send(ctx, http.MethodPatch, fmt.Sprintf("/api/v1/rollouts/%d", id), RolloutChange{State: state}, &r)
}
