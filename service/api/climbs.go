package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
)

type climbAnswer struct{ Body client.Climb }

func (a *API) climbRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID:   "start-climb",
		Method:        http.MethodPost,
		Path:          "/api/v1/cases/{number}/climbs",
		Summary:       "Begin a climb",
		Tags:          []string{"climbs"},
		DefaultStatus: http.StatusCreated,
		Errors:        []int{http.StatusNotFound, http.StatusConflict},
	},
		func(ctx context.Context, in *struct {
			Number int64 `path:"number" minimum:"1" doc:"Number of the case"`
			Body   client.ClimbStart
		}) (*climbAnswer, error) {
			of, err := a.mine(ctx, "start a climb", in.Number)
			if err != nil {
				return nil, err
			}
			if err := a.agreed(ctx, of, in.Body.Rung); err != nil {
				return nil, err
			}
			c, err := a.Store.StartClimb(ctx, in.Number, person(ctx), in.Body)
			if err != nil {
				return nil, a.caseProblem("start a climb", fmt.Sprintf("case %d", in.Number), err)
			}
			a.note(ctx, client.AuditDone, "start-climb", fmt.Sprintf("case %d, %s", in.Number, of.Machine),
				fmt.Sprintf("climb %d on %s", c.ID, in.Body.Host))
			return &climbAnswer{*c}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "report-climb",
		Method:      http.MethodPatch,
		Path:        "/api/v1/climbs/{id}",
		Summary:     "Tell how a climb goes on",
		Description: "Only who began it may. One of which nothing is heard for 30 seconds is cut off: tell at least every " +
			"10 that it goes on.",
		Tags:   []string{"climbs"},
		Errors: []int{http.StatusNotFound, http.StatusConflict, http.StatusForbidden, http.StatusUnprocessableEntity},
	},
		func(ctx context.Context, in *struct {
			ID   int64 `path:"id" minimum:"1"`
			Body client.ClimbReport
		}) (*climbAnswer, error) {
			if in.Body.Run != nil {
				if err := in.Body.Run.Check(); err != nil {
					return nil, problem(http.StatusUnprocessableEntity, "run-not-valid", err.Error())
				}
			}
			c, err := a.Store.ReportClimb(ctx, in.ID, person(ctx), in.Body)
			if errors.Is(err, records.ErrNotYours) {
				a.note(ctx, client.AuditRefused, "report-climb", fmt.Sprintf("climb %d", in.ID), "somebody else began it")
			}
			if err != nil {
				return nil, a.caseProblem("report a climb", fmt.Sprintf("climb %d", in.ID), err)
			}
			if r := in.Body.Run; r != nil {
				a.note(ctx, client.AuditDone, "climb", fmt.Sprintf("case %d", c.Case),
					fmt.Sprintf("climb %d, rung %d, %s: %s", c.ID, r.Rung, r.Remedy, r.Outcome))
			}
			return &climbAnswer{*c}, nil
		})
}
