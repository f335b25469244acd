package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
	"diorthos/service/records"
)

// orderRoutes are those by which a person has the agent of a case's machine take a rung.
func (a *API) orderRoutes(api huma.API) {
	huma.Register(api, forRole(client.Work, huma.Operation{
		OperationID: "order-rung", Method: http.MethodPost, Path: "/api/v1/cases/{number}/orders", Tags: []string{"climbs"},
		Summary: "Have the agent of the machine take a rung, or take back what it did of it",
		Description: "Never one that destroys; one that disrupts only for those who approve, or after one of them agreed. " +
			"It is good for a day.",
		DefaultStatus: http.StatusCreated, Errors: []int{http.StatusNotFound, http.StatusConflict},
	}), func(ctx context.Context, in *struct {
		Number int64 `path:"number" minimum:"1" doc:"Number of the case"`
		Body   client.OrderWish
	}) (*struct{ Body client.CaseOrder }, error) {
		if err := a.personOnly(ctx); err != nil {
			return nil, err
		}
		of, err := a.mine(ctx, "order a rung", in.Number)
		if err != nil {
			return nil, err
		}
		object := fmt.Sprintf("case %d, %s", in.Number, of.Machine)
		rung, err := a.rung(ctx, in.Number, in.Body.Rung)
		if err == nil {
			err = orderable(in.Number, in.Body.Rung, rung)
		}
		if err == nil {
			err = a.agreed(ctx, of, in.Body.Rung)
		}
		if err != nil {
			return nil, err
		}
		o, err := a.Store.OrderRung(ctx, in.Number, rung, in.Body.Back, person(ctx))
		for _, no := range []error{
			records.ErrNoAgent, records.ErrOrdered, records.ErrNewer, records.ErrNothingDone, records.ErrNotOpen,
		} {
			if errors.Is(err, no) {
				a.note(ctx, client.AuditRefused, "order-rung", object, err.Error())
				return nil, problem(http.StatusConflict, "not-ordered", err.Error())
			}
		}
		if err != nil {
			return nil, a.caseProblem("order a rung", object, err)
		}
		a.note(ctx, client.AuditDone, "order-rung", object, fmt.Sprintf("order %d, %s", o.ID, o.Remedy))
		return &struct{ Body client.CaseOrder }{*o}, nil
	})
	huma.Register(api, forRole(client.Work, huma.Operation{
		OperationID: "withdraw-order", Method: http.MethodDelete, Path: "/api/v1/cases/{number}/orders/{id}",
		Tags: []string{"climbs"}, Summary: "Stop an order that the machine's agent has not begun",
		Errors: []int{http.StatusNotFound},
	}), func(ctx context.Context, in *struct {
		Number int64 `path:"number" minimum:"1" doc:"Number of the case"`
		ID     int64 `path:"id" minimum:"1" doc:"Number of the order"`
	}) (*struct{}, error) {
		if err := a.personOnly(ctx); err != nil {
			return nil, err
		}
		of, err := a.mine(ctx, "stop an order", in.Number)
		if err != nil {
			return nil, err
		}
		err = a.Store.WithdrawOrder(ctx, in.Number, in.ID, person(ctx))
		if errors.Is(err, records.ErrNotFound) {
			return nil, problem(
				http.StatusConflict, "not-ordered", fmt.Sprintf("order %d was begun, has ended, or is none of this case", in.ID),
			)
		}
		if err != nil {
			return nil, a.internal("stop an order", err)
		}
		a.note(ctx, client.AuditDone, "withdraw-order", fmt.Sprintf("case %d, %s", in.Number, of.Machine),
			fmt.Sprintf("order %d", in.ID))
		return nil, nil
	})
}

// orderable refuses a rung that no agent could take.
func orderable(number int64, n int, rung *ladder.Rung) error {
	switch {
	case rung == nil:
		return problem(http.StatusConflict, "no-such-rung", fmt.Sprintf("the ladder of case %d has no rung %d", number, n))
	case rung.By != knowledge.ByDiorthos:
		return problem(http.StatusConflict, "not-ordered", fmt.Sprintf("rung %d is for hands, not for an agent", n))
	case rung.Invasive == knowledge.Destroys:
		return problem(
			http.StatusConflict, "not-ordered", fmt.Sprintf("rung %d destroys: it is taken at the machine, by a person", n),
		)
	}
	return nil
}
