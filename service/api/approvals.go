package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
)

type approvalsBody struct {
	Approvals []client.Approval `json:"approvals"`
}

// approvalRoutes are those by which a second person agrees.
func (a *API) approvalRoutes(api huma.API) {
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "approve-rung", Method: http.MethodPost, Path: "/api/v1/cases/{number}/approvals",
		Tags:        []string{"climbs"},
		Summary:     "Agree to a rung that disrupts or destroys",
		Description: "It counts for a day. Who agrees to what destroys cannot be the one who takes it.",
		Errors:      []int{http.StatusNotFound, http.StatusConflict},
	}), func(ctx context.Context, in *struct {
		Number int64 `path:"number" minimum:"1" doc:"Number of the case"`
		Body   client.ApprovalWish
	}) (*struct{ Body approvalsBody }, error) {
		of, err := a.mine(ctx, "approve a rung", in.Number)
		if err != nil {
			return nil, err
		}
		rung, err := a.rung(ctx, in.Number, in.Body.Rung)
		if err != nil {
			return nil, err
		}
		if rung == nil {
			return nil, problem(
				http.StatusConflict,
				"no-such-rung",
				fmt.Sprintf("the ladder of case %d has no rung %d", in.Number, in.Body.Rung),
			)
		}
		if err := a.Store.Approve(ctx, in.Number, rung.Remedy, person(ctx)); err != nil {
			return nil, a.internal("approve a rung", err)
		}
		a.note(ctx, client.AuditDone, "approve-rung", fmt.Sprintf("case %d, %s", in.Number, of.Machine),
			fmt.Sprintf("rung %d, %s, which is %s", rung.Number, rung.Remedy, rung.Invasive))
		list, err := a.Store.Approvals(ctx, in.Number)
		if err != nil {
			return nil, a.internal("list approvals", err)
		}
		return &struct{ Body approvalsBody }{approvalsBody{Approvals: list}}, nil
	})
}

// rung is one of a case's ladder; nil when it has none of that number.
func (a *API) rung(ctx context.Context, number int64, n int) (*ladder.Rung, error) {
	d, err := a.Store.CaseDetail(ctx, number)
	if err != nil {
		return nil, a.caseProblem("look at a ladder", fmt.Sprintf("case %d", number), err)
	}
	if d.Docket == nil {
		return nil, nil
	}
	i := slices.IndexFunc(d.Docket.ToDo, func(r ladder.Rung) bool { return r.Number == n })
	if i < 0 {
		return nil, nil
	}
	return &d.Docket.ToDo[i], nil
}

// agreed refuses the climb of a rung to which nobody has agreed who may: what disrupts is for those
// who approve, or needs one of them; what destroys needs another one than who takes it, where there
// is another. An agent acts on an order that was agreed to, and never destroys.
func (a *API) agreed(ctx context.Context, of *client.Case, n int) error {
	rung, err := a.rung(ctx, of.Number, n)
	if err != nil || rung == nil || rung.Invasive.Degree() < knowledge.Disrupts.Degree() {
		return err
	}
	who := identity(ctx)
	list, err := a.Store.Approvals(ctx, of.Number)
	if err != nil {
		return a.internal("look at approvals", err)
	}
	destroys := rung.Invasive == knowledge.Destroys
	byAnother := slices.ContainsFunc(
		list,
		func(x client.Approval) bool { return x.Remedy == rung.Remedy && x.By != who.Name },
	)
	switch {
	case byAnother, !destroys && (who.May(client.Approve) || who.Machine != ""):
		return nil
	case destroys && who.Machine == "" && who.May(client.Approve):
		others, err := a.Store.OthersMayApprove(ctx, who.Name, of.Site)
		if err != nil {
			return a.internal("look who may approve", err)
		}
		if !others {
			a.note(ctx, client.AuditDone, "take-without-second", fmt.Sprintf("case %d, %s", of.Number, of.Machine),
				fmt.Sprintf("rung %d, %s: nobody else may approve", rung.Number, rung.Remedy))
			return nil
		}
	}
	a.note(ctx, client.AuditRefused, "start-climb", fmt.Sprintf("case %d, %s", of.Number, of.Machine),
		fmt.Sprintf("rung %d, %s, is %s and not approved", rung.Number, rung.Remedy, rung.Invasive))
	whose := "somebody who may approve"
	if destroys {
		whose = "another person who may approve"
	}
	return problem(http.StatusConflict, "not-approved", fmt.Sprintf(
		"rung %d, %q, %s: %s has to agree first, with \"diorthos case %d --approve %d\"",
		rung.Number, rung.Title, rung.Invasive, whose, of.Number, rung.Number,
	))
}
