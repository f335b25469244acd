package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
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
			c, err := a.Store.StartClimb(ctx, in.Number, person(ctx), in.Body)
			if err != nil {
				return nil, a.caseProblem("start a climb", fmt.Sprintf("case %d", in.Number), err)
			}
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
		Errors: []int{http.StatusNotFound, http.StatusConflict, http.StatusForbidden},
	},
		func(ctx context.Context, in *struct {
			ID   int64 `path:"id" minimum:"1"`
			Body client.ClimbReport
		}) (*climbAnswer, error) {
			c, err := a.Store.ReportClimb(ctx, in.ID, person(ctx), in.Body)
			if err != nil {
				return nil, a.caseProblem("report a climb", fmt.Sprintf("climb %d", in.ID), err)
			}
			return &climbAnswer{*c}, nil
		})
}
