package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
)

type cohortList struct {
	After int64 `query:"after" minimum:"0" doc:"The \"next\" of the page before"`
	Limit int   `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"Cohorts on a page"`
}

type twinPath struct {
	Name    string `path:"name" minLength:"1" maxLength:"200" doc:"Name of the machine"`
	Against string `query:"against" maxLength:"200" doc:"The healthy machine to compare with; the most alike by default"`
}

type outbreaksBody struct {
	Outbreaks []client.Outbreak `json:"outbreaks"`
}

// fleetRoutes are those of what many machines have in common.
func (a *API) fleetRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "list-cohorts", Method: http.MethodGet, Path: "/api/v1/cohorts", Tags: []string{"fleet"},
		Summary: "Failures that are the same, the one seen last first",
	}, func(ctx context.Context, in *cohortList) (*struct{ Body client.CohortPage }, error) {
		page, err := a.Store.Cohorts(ctx, identity(ctx).Sites, in.After, in.Limit)
		if err != nil {
			return nil, a.internal("list cohorts", err)
		}
		return &struct{ Body client.CohortPage }{*page}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-cohort", Method: http.MethodGet, Path: "/api/v1/cohorts/{id}", Tags: []string{"fleet"},
		Summary: "A cohort: its machines, what they share, and what helped", Errors: []int{http.StatusNotFound},
	}, func(ctx context.Context, in *idPath) (*struct{ Body client.CohortDetail }, error) {
		d, err := a.Store.CohortDetail(ctx, identity(ctx).Sites, in.ID)
		if err != nil {
			return nil, a.caseProblem("get a cohort", fmt.Sprintf("cohort %d", in.ID), err)
		}
		return &struct{ Body client.CohortDetail }{*d}, nil
	})
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "change-cohort", Method: http.MethodPatch, Path: "/api/v1/cohorts/{id}", Tags: []string{"fleet"},
		Summary: "Name, mute, merge or split a cohort; it holds for cases to come as well",
		Errors:  []int{http.StatusNotFound, http.StatusConflict},
	}), func(ctx context.Context, in *struct {
		ID   int64 `path:"id" minimum:"1"`
		Body client.CohortChange
	}) (*struct{ Body client.Cohort }, error) {
		if err := a.seesCohort(ctx, in.ID); err != nil {
			return nil, err
		}
		c, err := a.Store.ChangeCohort(ctx, in.ID, in.Body)
		object := fmt.Sprintf("cohort %d", in.ID)
		if errors.Is(err, records.ErrItself) {
			a.note(ctx, client.AuditRefused, "change-cohort", object, err.Error())
			return nil, problem(http.StatusConflict, "cohort-of-itself", err.Error())
		}
		if err != nil {
			return nil, a.caseProblem("change a cohort", object, err)
		}
		a.note(ctx, client.AuditDone, "change-cohort", object, c.Called())
		return &struct{ Body client.Cohort }{*c}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-outbreaks", Method: http.MethodGet, Path: "/api/v1/outbreaks", Tags: []string{"fleet"},
		Summary: "Failures that are suddenly common, those that go on first",
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body outbreaksBody }, error) {
		list, err := a.Store.Outbreaks(ctx, identity(ctx).Sites)
		if err != nil {
			return nil, a.internal("list outbreaks", err)
		}
		return &struct{ Body outbreaksBody }{outbreaksBody{list}}, nil
	})
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "hold", Method: http.MethodPut, Path: "/api/v1/outbreaks/{id}/hold", Tags: []string{"fleet"},
		Summary: "Hold back a release, an update or a package because of an outbreak, or lift that",
		Errors:  []int{http.StatusNotFound},
	}), func(ctx context.Context, in *struct {
		ID   int64 `path:"id" minimum:"1"`
		Body client.HoldChange
	}) (*struct{ Body client.Outbreak }, error) {
		going, err := a.Store.Outbreaks(ctx, identity(ctx).Sites)
		if err == nil && !slices.ContainsFunc(going, func(o client.Outbreak) bool { return o.ID == in.ID }) {
			err = records.ErrNotFound // there is none, or it is of other sites
		}
		if err != nil {
			return nil, a.caseProblem("hold", fmt.Sprintf("outbreak %d", in.ID), err)
		}
		o, err := a.Store.Hold(ctx, in.ID, in.Body.Held, identity(ctx).Name)
		object := fmt.Sprintf("outbreak %d", in.ID)
		if err != nil {
			return nil, a.caseProblem("hold", object, err)
		}
		a.note(ctx, client.AuditDone, "hold", object, in.Body.Held)
		return &struct{ Body client.Outbreak }{*o}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-twin", Method: http.MethodGet, Path: "/api/v1/machines/{name}/twin", Tags: []string{"fleet"},
		Summary: "The healthy machines that are most like one, and how it differs", Errors: []int{http.StatusNotFound},
	}, func(ctx context.Context, in *twinPath) (*struct{ Body client.TwinReport }, error) {
		r, err := a.Store.Twin(ctx, identity(ctx).Sites, in.Name, in.Against)
		if err != nil {
			return nil, a.caseProblem("find a twin", fmt.Sprintf("machine %q", in.Name), err)
		}
		return &struct{ Body client.TwinReport }{*r}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-learned", Method: http.MethodGet, Path: "/api/v1/learned", Tags: []string{"fleet"},
		Summary: "What outcomes at this site have taught of each remedy",
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body client.Taught }, error) {
		l, err := a.Store.Learned(ctx, a.Knowledge().ShippedHelp)
		if err != nil {
			return nil, a.internal("list what was learned", err)
		}
		return &struct{ Body client.Taught }{*l}, nil
	})
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: "change-learned", Method: http.MethodPut, Path: "/api/v1/learned", Tags: []string{"fleet"},
		Summary: "Freeze what outcomes have taught as it is now, let all count again, or forget what was learned so far",
	}), func(ctx context.Context, in *struct{ Body client.LearnedChange }) (*struct{ Body client.Taught }, error) {
		l, err := a.Store.ChangeLearned(ctx, in.Body.Do, identity(ctx).Name, a.Knowledge().ShippedHelp)
		if err != nil {
			return nil, a.internal("change what was learned", err)
		}
		a.note(ctx, client.AuditDone, "change-learned", string(in.Body.Do), fmt.Sprintf("%d count", len(l.Counts)))
		return &struct{ Body client.Taught }{*l}, nil
	})
}

// seesCohort refuses a cohort that has no machine at the person's sites.
func (a *API) seesCohort(ctx context.Context, id int64) error {
	if len(identity(ctx).Sites) == 0 {
		return nil
	}
	if _, err := a.Store.CohortDetail(ctx, identity(ctx).Sites, id); err != nil {
		return a.caseProblem("get a cohort", fmt.Sprintf("cohort %d", id), err)
	}
	return nil
}
