package api

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
)

type idPath struct {
	ID int64 `path:"id" minimum:"1"`
}

type peopleBody struct {
	People []client.Person `json:"people"`
}

// peopleRoutes are those of who administers.
func (a *API) peopleRoutes(api huma.API) {
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: "list-people", Method: http.MethodGet, Path: "/api/v1/people", Tags: []string{"people"},
		Summary: "Who may use the service, with their tokens and sessions",
	}), func(ctx context.Context, _ *struct{}) (*struct{ Body peopleBody }, error) {
		list, err := a.Store.People(ctx)
		if err != nil {
			return nil, a.internal("list people", err)
		}
		return &struct{ Body peopleBody }{peopleBody{People: list}}, nil
	})
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: "set-person", Method: http.MethodPut, Path: "/api/v1/people/{name}", Tags: []string{"people"},
		Summary: "Make a person, or change one", Errors: []int{http.StatusConflict},
	}), func(ctx context.Context, in *struct {
		Name string `path:"name" minLength:"1" maxLength:"80" doc:"Name of the person"`
		Body client.PersonChange
	}) (*struct{ Body client.Person }, error) {
		p, err := a.Store.SetPerson(ctx, in.Name, in.Body)
		if errors.Is(err, records.ErrLastAdministrator) {
			a.note(ctx, client.AuditRefused, "set-person", in.Name, err.Error())
			return nil, problem(http.StatusConflict, "last-administrator", err.Error()+"; make another one first")
		}
		if err != nil {
			return nil, a.internal("set a person", err)
		}
		state := "may sign in"
		if p.Ended != nil {
			state = "ended"
		}
		sites := cmp.Or(strings.Join(p.Sites, ", "), "all sites")
		a.note(ctx, client.AuditDone, "set-person", in.Name, fmt.Sprintf("role %s, %s, %s", p.Role, sites, state))
		return &struct{ Body client.Person }{*p}, nil
	})
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: "add-token", Method: http.MethodPost, Path: "/api/v1/people/{name}/tokens", Tags: []string{"people"},
		Summary: "Give a person a further token; it is shown once", DefaultStatus: http.StatusCreated,
		Errors: []int{http.StatusNotFound},
	}), func(ctx context.Context, in *struct {
		Name string `path:"name" minLength:"1" maxLength:"80" doc:"Name of the person"`
		Body client.TokenWish
	}) (*struct{ Body client.NewToken }, error) {
		secret := "dt-" + rand.Text()
		t, err := a.Store.AddToken(ctx, in.Name, secret, in.Body)
		if err != nil {
			return nil, a.caseProblem("add a token", fmt.Sprintf("person %q who may sign in", in.Name), err)
		}
		a.note(ctx, client.AuditDone, "add-token", in.Name, fmt.Sprintf("token %d, %s", t.ID, t.Name))
		return &struct{ Body client.NewToken }{client.NewToken{Token: *t, Secret: secret}}, nil
	})
	a.endRoute(api, "end-token", "/api/v1/tokens/{id}", "End a token, and the sessions begun with it", a.Store.EndToken)
	a.endRoute(api, "end-session", "/api/v1/sessions/{id}", "Sign a browser out", a.Store.EndSession)
	a.auditRoutes(api)
}

// endRoute is one by which something ends for good.
func (a *API) endRoute(api huma.API, id, path, summary string, end func(context.Context, int64) error) {
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: id, Method: http.MethodDelete, Path: path, Tags: []string{"people"}, Summary: summary,
		Errors: []int{http.StatusNotFound},
	}), func(ctx context.Context, in *idPath) (*struct{}, error) {
		if err := end(ctx, in.ID); err != nil {
			return nil, a.caseProblem(id, fmt.Sprintf("number %d that has not ended", in.ID), err)
		}
		a.note(ctx, client.AuditDone, id, fmt.Sprint(in.ID), "")
		return nil, nil
	})
}

func (a *API) auditRoutes(api huma.API) {
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: "list-audit", Method: http.MethodGet, Path: "/api/v1/audit", Tags: []string{"audit"},
		Summary: "Who did what to what, the newest first",
	}), func(ctx context.Context, in *struct {
		Before int64 `query:"before" minimum:"0" doc:"Only entries with a lower number: the \"next\" of the page before"`
		Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"Entries on a page"`
	}) (*struct{ Body client.AuditPage }, error) {
		page, err := a.Store.Audit(ctx, in.Before, in.Limit)
		if err != nil {
			return nil, a.internal("list the audit", err)
		}
		return &struct{ Body client.AuditPage }{*page}, nil
	})
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: "check-audit", Method: http.MethodGet, Path: "/api/v1/audit/check", Tags: []string{"audit"},
		Summary: "Hold every entry of the audit against the one before it",
	}), func(ctx context.Context, _ *struct{}) (*struct{ Body client.AuditCheck }, error) {
		check, err := a.Store.CheckAudit(ctx)
		if err != nil {
			return nil, a.internal("check the audit", err)
		}
		return &struct{ Body client.AuditCheck }{*check}, nil
	})
}
