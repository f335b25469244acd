package api

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
)

const (
	longestPoll = time.Minute
	orderPath   = "/api/v1/order"
)

// enrolRoutes are those of agents that are not known yet.
func (a *API) enrolRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "enrol", Method: http.MethodPost, Path: "/api/v1/enrol", Tags: []string{"agents"},
		Summary: "Make an agent known by a code that was made for its machine",
		Errors:  []int{http.StatusUnauthorized, http.StatusTooManyRequests},
	}, func(ctx context.Context, in *struct{ Body client.Enrolment }) (*struct{ Body client.Enrolled }, error) {
		if err := a.stranger(ctx, in.Body.Public); err != nil {
			return nil, err
		}
		done, err := a.Store.Enrol(ctx, in.Body.Code, in.Body.Public, in.Body.Hardware.Hardware)
		if errors.Is(err, records.ErrNotFound) {
			a.failedSignIn(ctx, true)
			return nil, problem(
				http.StatusUnauthorized,
				"sign-in",
				"this code is not known, was used, or has expired; have another one made",
			)
		}
		if err != nil {
			return nil, a.internal("enrol", err)
		}
		key, err := a.Store.ServiceKey(ctx)
		if err != nil {
			return nil, a.internal("enrol", err)
		}
		public, _ := key.Public().(ed25519.PublicKey)
		done.Service = public
		a.note(ctx, client.AuditDone, "enrol", done.Machine, fmt.Sprintf("agent %d", done.Agent))
		return &struct{ Body client.Enrolled }{*done}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "sign-on", Method: http.MethodPost, Path: "/api/v1/sign-on", Tags: []string{"agents"},
		Summary: "Give an agent a token for a short while, by the signature of its key",
		Errors:  []int{http.StatusUnauthorized, http.StatusConflict, http.StatusTooManyRequests},
	}, func(ctx context.Context, in *struct{ Body client.SignOn }) (*struct{ Body client.SignedOn }, error) {
		if err := a.stranger(ctx, nil); err != nil {
			return nil, err
		}
		done, err := a.Store.SignOn(ctx, in.Body, rand.Text())
		if errors.Is(err, records.ErrNotFound) {
			a.failedSignIn(ctx, true)
			return nil, problem(
				http.StatusUnauthorized,
				"sign-in",
				"this agent is not known or was turned off, or its clock is wrong",
			)
		}
		if errors.Is(err, records.ErrCopied) {
			a.note(ctx, client.AuditRefused, "sign-on", fmt.Sprintf("agent %d", in.Body.Agent), "on other hardware")
			return nil, problem(http.StatusConflict, "copied-disk", records.ErrCopied.Error())
		}
		if err != nil {
			return nil, a.internal("sign on", err)
		}
		return &struct{ Body client.SignedOn }{*done}, nil
	})
}

// stranger lets somebody ask who is not signed in: not too often from one address, and with a key that is one, if any.
func (a *API) stranger(ctx context.Context, public []byte) error {
	if !a.throttle.open(address(ctx)) {
		return huma.ErrorWithHeaders(tooMany(nil), http.Header{"Retry-After": {"60"}})
	}
	if public != nil && len(public) != ed25519.PublicKeySize {
		return problem(http.StatusUnprocessableEntity, "key-not-valid", "public: want an Ed25519 key of 32 bytes")
	}
	return nil
}

type agentsBody struct {
	Agents []client.Agent `json:"agents"`
}

type rolloutsBody struct {
	Rollouts []client.Rollout `json:"rollouts"`
}

type taskAnswer struct {
	Connection string `header:"Connection"`
	Body       client.Task
}

type rolloutAnswer struct{ Body client.Rollout }

// agentRoutes are those of agents, and of what goes round by them.
func (a *API) agentRoutes(api huma.API) {
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "make-agent-code", Method: http.MethodPost, Path: "/api/v1/agents/codes", Tags: []string{"agents"},
		Summary: "Make a code by which the agent of a machine may enrol, once, within an hour",
	}), func(ctx context.Context, in *struct{ Body client.CodeWish }) (*struct{ Body client.AgentCode }, error) {
		if !identity(ctx).At(in.Body.Site) {
			return nil, problem(http.StatusForbidden, "other-site", "the site is not one of yours")
		}
		code, err := a.Store.MakeCode(ctx, in.Body, rand.Text()[:10], identity(ctx).Name)
		if err != nil {
			return nil, a.internal("make a code", err)
		}
		a.note(ctx, client.AuditDone, "make-agent-code", in.Body.Machine, "")
		return &struct{ Body client.AgentCode }{*code}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "list-agents", Method: http.MethodGet, Path: "/api/v1/agents", Tags: []string{"agents"},
		Summary: "The agents that are on, by machine",
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body agentsBody }, error) {
		list, err := a.Store.Agents(ctx, identity(ctx).Sites)
		if err != nil {
			return nil, a.internal("list agents", err)
		}
		return &struct{ Body agentsBody }{agentsBody{list}}, nil
	})
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "end-agent", Method: http.MethodDelete, Path: "/api/v1/agents/{id}", Tags: []string{"agents"},
		Summary: "Turn an agent off", Errors: []int{http.StatusNotFound},
	}), func(ctx context.Context, in *idPath) (*struct{}, error) {
		list, err := a.Store.Agents(ctx, identity(ctx).Sites)
		if err == nil && !slices.ContainsFunc(list, func(g client.Agent) bool { return g.ID == in.ID }) {
			err = records.ErrNotFound // there is none, or it is at another site
		}
		if err == nil {
			err = a.Store.EndAgent(ctx, in.ID)
		}
		if err != nil {
			return nil, a.caseProblem("end an agent", fmt.Sprintf("agent %d", in.ID), err)
		}
		a.note(ctx, client.AuditDone, "end-agent", fmt.Sprintf("agent %d", in.ID), "")
		return nil, nil
	})
	huma.Register(api, forRole(client.Work, huma.Operation{
		OperationID: "next-order", Method: http.MethodGet, Path: orderPath, Tags: []string{"agents"},
		Summary: "What the agent that asks is to do and to hold back; waits until there is something new, up to a minute",
		Errors:  []int{http.StatusConflict},
	}), func(ctx context.Context, in *struct {
		Wait string   `query:"wait" maxLength:"20" doc:"How long to wait, such as 30s"`
		Held []string `query:"held,explode" maxItems:"1000" doc:"What the machine was told to hold back so far"`
	}) (*taskAnswer, error) {
		machine := identity(ctx).Machine
		if machine == "" {
			return nil, problem(http.StatusConflict, "not-an-agent", "orders are for agents")
		}
		wait, _ := time.ParseDuration(in.Wait) // 0 for what is none
		slices.Sort(in.Held)
		task, err := a.desk.task(ctx, machine, in.Held, min(wait, longestPoll))
		if err != nil && ctx.Err() != nil {
			return nil, problem(http.StatusServiceUnavailable, "ending", "this process of the service ends, or you hung up")
		}
		if err != nil {
			return nil, a.internal("next order", err)
		}
		answer := &taskAnswer{Body: *task}
		if task.Again > 0 {
			answer.Connection = "close" // many thousands would be kept open for nothing
		}
		return answer, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "report-order", Method: http.MethodPatch, Path: "/api/v1/orders/{id}", Tags: []string{"agents"},
		Summary: "Tell how an order stands; only the agent of its machine may", Errors: []int{http.StatusNotFound,
			http.StatusConflict},
	}, func(ctx context.Context, in *struct {
		ID   int64 `path:"id" minimum:"1"`
		Body client.OrderReport
	}) (*struct {
		Body struct{}
	}, error) {
		machine := identity(ctx).Machine
		if machine == "" {
			return nil, problem(http.StatusConflict, "not-an-agent", "orders are for agents")
		}
		if err := a.Store.ReportOrder(ctx, machine, in.ID, in.Body); err != nil {
			return nil, a.caseProblem("report an order", fmt.Sprintf("order %d", in.ID), err)
		}
		a.note(
			ctx,
			client.AuditDone,
			"order",
			fmt.Sprintf("order %d, %s", in.ID, machine),
			string(in.Body.State)+" "+in.Body.Problem,
		)
		return &struct{ Body struct{} }{}, nil
	})
	huma.Register(api, forRole(client.Work, huma.Operation{
		OperationID: "tell-held", Method: http.MethodPut, Path: "/api/v1/held", Tags: []string{"agents"},
		Summary: "Tell what the agent's machine holds back", Errors: []int{http.StatusConflict},
	}), func(ctx context.Context, in *struct{ Body client.HeldReport }) (*struct{ Body struct{} }, error) {
		machine := identity(ctx).Machine
		if machine == "" {
			return nil, problem(http.StatusConflict, "not-an-agent", "what is held back is told by agents")
		}
		if len(in.Body.Held) > 1000 {
			return nil, problem(http.StatusUnprocessableEntity, "too-many", "held: at most 1000")
		}
		if err := a.Store.TellHeld(ctx, machine, in.Body.Held); err != nil {
			return nil, a.caseProblem("tell what is held", machine, err)
		}
		return &struct{ Body struct{} }{}, nil
	})
	a.siteRuleRoutes(api)
	a.rolloutRoutes(api)
}

type siteRulesBody struct {
	Rules []client.SiteRule `json:"rules"`
}

// siteRuleRoutes are those of when orders may be carried out.
func (a *API) siteRuleRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "list-site-rules", Method: http.MethodGet, Path: "/api/v1/site-rules", Tags: []string{"fleet"},
		Summary: "When, and on how many machines at once, orders may be carried out, by site",
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body siteRulesBody }, error) {
		list, err := a.Store.SiteRules(ctx, identity(ctx).Sites)
		if err != nil {
			return nil, a.internal("list the rules of sites", err)
		}
		return &struct{ Body siteRulesBody }{siteRulesBody{list}}, nil
	})
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "set-site-rule", Method: http.MethodPut, Path: "/api/v1/site-rules", Tags: []string{"fleet"},
		Summary: "Set when, and on how many machines at once, orders may be carried out at a site",
	}), func(ctx context.Context, in *struct{ Body client.SiteRule }) (*struct{ Body client.SiteRule }, error) {
		if !identity(ctx).At(in.Body.Site) {
			return nil, problem(http.StatusForbidden, "other-site", "the site is not one of yours")
		}
		rule, err := a.Store.SetSiteRule(ctx, in.Body, identity(ctx).Name)
		if errors.Is(err, records.ErrWindow) {
			return nil, problem(http.StatusUnprocessableEntity, "window-not-valid", err.Error())
		}
		if err != nil {
			return nil, a.internal("set the rule of a site", err)
		}
		a.note(ctx, client.AuditDone, "set-site-rule", in.Body.Site, fmt.Sprintf(
			"%s to %s %s, %d at once", rule.Opens, rule.Closes, rule.Zone, rule.AtOnce,
		))
		return &struct{ Body client.SiteRule }{*rule}, nil
	})
}

func (a *API) rolloutRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "list-rollouts", Method: http.MethodGet, Path: "/api/v1/rollouts", Tags: []string{"fleet"},
		Summary: "Repairs that go round in waves, the latest first",
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body rolloutsBody }, error) {
		list, err := a.Store.Rollouts(ctx)
		if err != nil {
			return nil, a.internal("list roll-outs", err)
		}
		return &struct{ Body rolloutsBody }{rolloutsBody{list}}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-rollout", Method: http.MethodGet, Path: "/api/v1/rollouts/{id}", Tags: []string{"fleet"},
		Summary: "A roll-out with its machines", Errors: []int{http.StatusNotFound},
	}, func(ctx context.Context, in *idPath) (*rolloutAnswer, error) {
		r, err := a.Store.Rollout(ctx, identity(ctx).Sites, in.ID)
		if err != nil {
			return nil, a.caseProblem("get a roll-out", fmt.Sprintf("roll-out %d", in.ID), err)
		}
		return &rolloutAnswer{*r}, nil
	})
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "offer", Method: http.MethodPost, Path: "/api/v1/rollouts", Tags: []string{"fleet"},
		Summary: "Offer a repair that was proven on one machine to those that fail in the same way, in waves",
		Errors:  []int{http.StatusNotFound, http.StatusConflict},
	}), func(ctx context.Context, in *struct{ Body client.RolloutWish }) (*rolloutAnswer, error) {
		r, err := a.Store.Offer(ctx, identity(ctx).Sites, in.Body, identity(ctx).Name)
		object := fmt.Sprintf("cohort %d, %s", in.Body.Cohort, in.Body.Remedy)
		for _, no := range []error{records.ErrNotProven, records.ErrNotOffered, records.ErrNobody, records.ErrGoing} {
			if errors.Is(err, no) {
				a.note(ctx, client.AuditRefused, "offer", object, err.Error())
				return nil, problem(http.StatusConflict, "not-offered", err.Error())
			}
		}
		if err != nil {
			return nil, a.caseProblem("offer", fmt.Sprintf("cohort %d", in.Body.Cohort), err)
		}
		if !in.Body.Preview {
			a.note(ctx, client.AuditDone, "offer", object, fmt.Sprintf("roll-out %d, %d waves", r.ID, r.Waves))
		}
		return &rolloutAnswer{*r}, nil
	})
	huma.Register(api, forRole(client.Approve, huma.Operation{
		OperationID: "change-rollout", Method: http.MethodPatch, Path: "/api/v1/rollouts/{id}", Tags: []string{"fleet"},
		Summary: "Pause a roll-out, let it go on, stop it, or take it back", Errors: []int{http.StatusNotFound},
	}), func(ctx context.Context, in *struct {
		ID   int64 `path:"id" minimum:"1"`
		Body client.RolloutChange
	}) (*rolloutAnswer, error) {
		r, err := a.Store.ChangeRollout(ctx, identity(ctx).Sites, in.ID, in.Body.State, identity(ctx).Name)
		object := fmt.Sprintf("roll-out %d", in.ID)
		if err != nil {
			return nil, a.caseProblem("change a roll-out", object, err)
		}
		a.note(ctx, client.AuditDone, "change-rollout", object, in.Body.State)
		return &rolloutAnswer{*r}, nil
	})
}
