package api

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
)

const (
	knockLength = 8                // letters and digits of a code
	knockWait   = 20 * time.Second // one question waits so long for somebody to let the machine in
	knockWaits  = 64               // so many questions wait at once
	knockLook   = time.Second
)

// heardCode is a code as it was made, of what was read from a screen or heard: no 0 and no 1 is ever in one.
func heardCode(said string) string {
	return strings.NewReplacer("0", "O", "1", "I", "8", "B", "-", "", " ", "").Replace(strings.ToUpper(said))
}

// shownCode is a code as it stands on a screen, in two halves.
func shownCode(code string) string { return code[:knockLength/2] + "-" + code[knockLength/2:] }

// knockRoutes are those by which a machine that was started from a stick asks to be let in.
func (a *API) knockRoutes(api huma.API) {
	waits := make(chan struct{}, knockWaits)
	huma.Register(api, huma.Operation{
		OperationID: "knock", Method: http.MethodPost, Path: "/api/v1/knocks", Tags: []string{"agents"},
		Summary: "Ask for a code by which somebody lets this machine in, that was started from a stick",
		Errors:  []int{http.StatusTooManyRequests, http.StatusServiceUnavailable},
	}, func(ctx context.Context, in *struct{ Body client.Knock }) (*struct{ Body client.KnockCode }, error) {
		if err := a.stranger(ctx, in.Body.Public); err != nil {
			return nil, err
		}
		a.throttle.failed(address(ctx)) // each costs a row
		code, err := a.Store.Knock(ctx, in.Body, rand.Text()[:knockLength], address(ctx))
		if errors.Is(err, records.ErrCrowded) {
			return nil, huma.ErrorWithHeaders(
				problem(http.StatusServiceUnavailable, "crowded", err.Error()), http.Header{"Retry-After": {"60"}},
			)
		}
		if err != nil {
			return nil, a.internal("knock", err)
		}
		code.Code = shownCode(code.Code)
		return &struct{ Body client.KnockCode }{*code}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "ask-whether-admitted", Method: http.MethodPost, Path: "/api/v1/knocks/answer", Tags: []string{"agents"},
		Summary: "Wait up to 20 s whether somebody lets this machine in",
		Errors:  []int{http.StatusGone, http.StatusTooManyRequests},
	}, func(ctx context.Context, in *struct{ Body client.KnockAsked }) (*struct{ Body client.KnockAnswer }, error) {
		if err := a.stranger(ctx, in.Body.Public); err != nil {
			return nil, err
		}
		end := time.NewTimer(knockWait)
		defer end.Stop()
		select {
		case waits <- struct{}{}:
			defer func() { <-waits }()
		default:
			end.Reset(0)
		}
		done, err := a.admitted(ctx, in.Body, end.C)
		if errors.Is(err, records.ErrNotFound) {
			a.failedSignIn(ctx, true)
			return nil, problem(
				http.StatusGone,
				"code-over",
				"this code is over, or this machine's clock is wrong; have another one made",
			)
		}
		if err != nil {
			return nil, a.internal("ask whether a machine is let in", err)
		}
		return &struct{ Body client.KnockAnswer }{client.KnockAnswer{Enrolled: done}}, nil
	})
}

// admitted waits until a machine is let in, or until end.
func (a *API) admitted(
	ctx context.Context, asked client.KnockAsked, end <-chan time.Time,
) (*client.Enrolled, error) {
	for {
		done, err := a.Store.Admitted(ctx, asked)
		if err != nil {
			return nil, err
		}
		if done != nil {
			key, err := a.Store.ServiceKey(ctx)
			if err != nil {
				return nil, err
			}
			done.Service, _ = key.Public().(ed25519.PublicKey)
			return done, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-end:
			return nil, nil
		case <-time.After(knockLook):
		}
	}
}

// admissionRoutes are those by which somebody lets it in.
func (a *API) admissionRoutes(api huma.API) {
	notKnown := problem(
		http.StatusNotFound,
		"no-such-code",
		"no machine shows this code now; have it read aloud again: a code is good for 15 minutes",
	)
	huma.Register(api, forRole(client.Work, huma.Operation{
		OperationID: "get-knock", Method: http.MethodGet, Path: "/api/v1/knocks/{code}", Tags: []string{"agents"},
		Summary: "What the machine says of itself on whose screen a code stands", Errors: []int{http.StatusNotFound},
	}), func(ctx context.Context, in *struct {
		Code string `path:"code" maxLength:"40" doc:"As it was read from the screen or heard"`
	}) (*struct{ Body client.Knocking }, error) {
		if err := a.personOnly(ctx); err != nil {
			return nil, err
		}
		k, err := a.Store.Knocking(ctx, heardCode(in.Code))
		if errors.Is(err, records.ErrNotFound) {
			return nil, notKnown
		}
		if err != nil {
			return nil, a.internal("look who knocks", err)
		}
		return &struct{ Body client.Knocking }{*k}, nil
	})
	huma.Register(api, forRole(client.Work, huma.Operation{
		OperationID: "admit", Method: http.MethodPost, Path: "/api/v1/admissions", Tags: []string{"agents"},
		Summary: "Let the machine in on whose screen a code stands: its agent hands in what it finds, and takes orders",
		Errors:  []int{http.StatusNotFound},
	}), func(ctx context.Context, in *struct{ Body client.Admission }) (*struct{ Body client.Agent }, error) {
		if err := a.personOnly(ctx); err != nil {
			return nil, err
		}
		agent, err := a.Store.Admit(ctx, identity(ctx), in.Body, heardCode(in.Body.Code))
		switch {
		case errors.Is(err, records.ErrNotFound):
			a.note(ctx, client.AuditRefused, "admit", in.Body.Machine, "no machine shows this code")
			return nil, notKnown
		case errors.Is(err, records.ErrElsewhere):
			a.note(ctx, client.AuditRefused, "admit", in.Body.Machine, err.Error())
			return nil, problem(http.StatusForbidden, "other-site", err.Error())
		case err != nil:
			return nil, a.internal("let a machine in", err)
		}
		a.note(ctx, client.AuditDone, "admit", in.Body.Machine, fmt.Sprintf("agent %d, from a stick", agent.ID))
		return &struct{ Body client.Agent }{*agent}, nil
	})
}

// personOnly refuses agents.
func (a *API) personOnly(ctx context.Context) error {
	if identity(ctx).Machine != "" {
		return problem(http.StatusForbidden, "not-allowed", "this is for people, and none of an agent's")
	}
	return nil
}
