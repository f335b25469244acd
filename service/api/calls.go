package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/core/ask"
	"diorthos/core/bag"
)

func (a *API) callRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID:   "open-call",
		Method:        http.MethodPost,
		Path:          "/api/v1/calls",
		Tags:          []string{"cases"},
		DefaultStatus: http.StatusCreated,
		Summary:       "Begin a case with words alone",
		Description: "What somebody reads off a screen, before there is evidence. The next bag of this machine joins " +
			"the case.",
		Errors: []int{http.StatusUnprocessableEntity, http.StatusServiceUnavailable},
	},
		func(ctx context.Context, in *struct{ Body client.NewCall }) (*acceptedAnswer, error) {
			call := bag.Call{Words: in.Body.Words, When: in.Body.When, Answers: in.Body.Answers}
			q := ask.Question{Text: call.Words, When: call.When, Answers: call.Answers}
			if _, err := ask.About(q, a.Knowledge()); err != nil {
				return nil, problem(http.StatusUnprocessableEntity, "validation", err.Error())
			}
			packed, err := packCall(in.Body.Machine, in.Body.Site, call, time.Now())
			if err != nil {
				return nil, problem(http.StatusUnprocessableEntity, "validation", err.Error())
			}
			done, err := a.turn(ctx)
			if err != nil {
				return nil, err
			}
			defer done()
			return a.take(ctx, "open-call", packed)
		})
}

// packCall makes a bag that holds nothing but what was told.
func packCall(machine, site string, call bag.Call, at time.Time) (*bytes.Buffer, error) {
	var out bytes.Buffer
	w, err := bag.NewWriter(&out, bag.Options{Name: machine, Created: at})
	if err != nil {
		return nil, fmt.Errorf("open a call: %w", err)
	}
	err = w.AddFacts(&bag.Facts{
		Schema:   bag.FactsVersion,
		Gathered: at.UTC(),
		Machine:  bag.Machine{Name: machine, Site: site},
		Disks:    []bag.Disk{},
		Call:     &call,
	})
	if err != nil {
		return nil, fmt.Errorf("open a call: %w", err)
	}
	if _, err := w.Close(); err != nil {
		return nil, fmt.Errorf("open a call: %w", err)
	}
	return &out, nil
}
