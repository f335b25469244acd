package client

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"diorthos/core/climb"
)

// A Climb is one run over rungs of a case's ladder.
type Climb struct {
	ID      int64       `json:"id"`
	Case    int64       `json:"case"`
	By      string      `json:"by" doc:"Who climbs"`
	Host    string      `json:"host" doc:"The computer that does it"`
	State   ClimbState  `json:"state"`
	Rung    int         `json:"rung,omitempty" doc:"The rung that is taken"`
	Phase   string      `json:"phase,omitempty" doc:"What is being done right now"`
	Began   time.Time   `json:"began"`
	Ended   *time.Time  `json:"ended,omitempty"`
	Runs    []climb.Run `json:"runs" doc:"The rungs taken, in order"`
	Problem string      `json:"problem,omitempty" doc:"Why it stopped"`
}

// A ClimbStart begins a climb.
type ClimbStart struct {
	Host string `json:"host" maxLength:"200" doc:"The computer that will do it"`
	Rung int    `json:"rung,omitempty" minimum:"0" doc:"The rung that will be taken"`
}

// An Approval is a person's word that a rung may be taken.
type Approval struct {
	Remedy string    `json:"remedy"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// An ApprovalWish agrees to a rung.
type ApprovalWish struct {
	Rung int `json:"rung" minimum:"1" doc:"The rung of the case's ladder"`
}

// ApproveRung agrees to a rung of a case that disrupts or destroys.
func (c *Client) ApproveRung(ctx context.Context, number int64, rung int) ([]Approval, error) {
	var list struct {
		Approvals []Approval `json:"approvals"`
	}
	return list.Approvals, c.send(
		ctx,
		http.MethodPost,
		fmt.Sprintf("/api/v1/cases/%d/approvals", number),
		ApprovalWish{Rung: rung},
		&list,
	)
}

// A ClimbReport tells how a climb goes on. Fields left empty stay as they were.
type ClimbReport struct {
	State   ClimbState `json:"state"`
	Phase   string     `json:"phase,omitempty" maxLength:"200"`
	Run     *climb.Run `json:"run,omitempty" doc:"A rung that was taken"`
	Problem string     `json:"problem,omitempty" maxLength:"4000"`
}

// StartClimb tells the service that a climb of a case begins.
func (c *Client) StartClimb(ctx context.Context, number int64, start ClimbStart) (*Climb, error) {
	var climb Climb
	return &climb, c.send(ctx, http.MethodPost, fmt.Sprintf("/api/v1/cases/%d/climbs", number), start, &climb)
}

// ReportClimb tells the service how a climb goes on.
func (c *Client) ReportClimb(ctx context.Context, id int64, report ClimbReport) (*Climb, error) {
	var climb Climb
	return &climb, c.send(ctx, http.MethodPatch, fmt.Sprintf("/api/v1/climbs/%d", id), report, &climb)
}
