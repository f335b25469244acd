package client

import (
	"context"
	"fmt"
	"net/http"
	"time"
)

// A CaseOrder is a rung of a case that the agent of its machine was told to take, or to take back.
type CaseOrder struct {
	ID      int64      `json:"id"`
	Rung    int        `json:"rung"`
	Remedy  string     `json:"remedy"`
	Title   string     `json:"title"`
	State   OrderState `json:"state"`
	Back    bool       `json:"back,omitempty" doc:"It takes back what the rung did"`
	Problem string     `json:"problem,omitempty"`
	By      string     `json:"by"`
	Made    time.Time  `json:"made"`
	Changed time.Time  `json:"changed"`
}

// Ended reports whether the agent has nothing more to do for it.
func (o *CaseOrder) Ended() bool {
	return o.State != OrderWaiting && o.State != OrderOrdered && o.State != OrderRunning
}

// A CaseAgent is what works on a case's machine.
type CaseAgent struct {
	Seen   *time.Time `json:"seen,omitempty"`
	Silent bool       `json:"silent,omitempty" doc:"Not heard for so long that it is given no order"`
	Stick  bool       `json:"stick,omitempty" doc:"It runs from a stick, beside the machine's own system"`
}

// An OrderWish has the agent of a case's machine take a rung.
type OrderWish struct {
	Rung int  `json:"rung" minimum:"1" doc:"Number of the rung"`
	Back bool `json:"back,omitempty" doc:"Take back what the agent did of it"`
}

// OrderRung has the agent of a case's machine take a rung, or take it back.
func (c *Client) OrderRung(ctx context.Context, number int64, wish OrderWish) (*CaseOrder, error) {
	var done CaseOrder
	return &done, c.send(ctx, http.MethodPost, fmt.Sprintf("/api/v1/cases/%d/orders", number), wish, &done)
}

// WithdrawOrder stops an order that the agent has not begun.
func (c *Client) WithdrawOrder(ctx context.Context, number, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/api/v1/cases/%d/orders/%d", number, id))
}
