package api

import (
	"cmp"
	"context"
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
	cookieName  = "diorthos_session"
	sessionTime = 12 * time.Hour
)

type identityKey struct{}

// identity is who sent the request.
func identity(ctx context.Context) *records.Identity {
	i, _ := ctx.Value(identityKey{}).(*records.Identity)
	if i == nil {
		return &records.Identity{}
	}
	return i
}

// person is the name of who sent the request.
func person(ctx context.Context) string { return identity(ctx).Name }

// needs is the metadata of an operation that says which role it is for. Without it,
// looking is for all, and what changes something for those who work.
const needs = "needs"

// forRole makes an operation one of a role.
func forRole(r client.Role, o huma.Operation) huma.Operation {
	o.Metadata = map[string]any{needs: r}
	o.Errors = append(o.Errors, http.StatusForbidden)
	return o
}

// RoleOf is the role that an operation is for.
func RoleOf(o *huma.Operation) client.Role {
	if r, ok := o.Metadata[needs].(client.Role); ok {
		return r
	}
	if o.Method == http.MethodGet {
		return client.See
	}
	return client.Work
}

// signIn lets only known people pass, who may do what they ask for: by token, or by the
// console's cookie.
func (a *API) signIn(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		i, err := a.who(ctx)
		switch {
		case errors.Is(err, records.ErrNotFound) && ctx.Header("Authorization") != "" &&
			!a.throttle.open(address(ctx.Context())):
			writeProblem(api, ctx, tooMany(ctx))
		case errors.Is(err, records.ErrNotFound):
			a.failedSignIn(ctx.Context(), ctx.Header("Authorization") != "")
			ctx.SetHeader("WWW-Authenticate", "Bearer")
			writeProblem(
				api, ctx,
				problem(
					http.StatusUnauthorized, "sign-in",
					"sign in first: send \"Authorization: Bearer TOKEN\" (the command line reads DIORTHOS_TOKEN), or sign in at "+
						"the console",
				),
			)
		case err != nil:
			a.Log.Error("sign-in", "error", err)
			writeProblem(
				api, ctx, problem(http.StatusServiceUnavailable, "database", "the database does not answer; try again shortly"),
			)
		case !i.May(RoleOf(ctx.Operation())):
			o := ctx.Operation()
			known := context.WithValue(ctx.Context(), identityKey{}, i)
			a.note(
				known,
				client.AuditRefused,
				o.OperationID,
				o.Method+" "+cut(ctx.URL().Path),
				fmt.Sprintf("the role is %s", i.Role),
			)
			writeProblem(api, ctx, problem(
				http.StatusForbidden, "not-allowed",
				fmt.Sprintf("this is for the role %q or above, and yours is %q", RoleOf(o), i.Role),
			))
		default:
			next(huma.WithValue(ctx, identityKey{}, i))
		}
	}
}

// tooMany is the answer to who failed to sign in too often.
func tooMany(ctx huma.Context) *huma.ErrorModel {
	if ctx != nil {
		ctx.SetHeader("Retry-After", "60")
	}
	return problem(
		http.StatusTooManyRequests, "too-many-tries", "too many tries from this address failed; wait a minute",
	)
}

// failedSignIn counts a try to sign in that failed. That nothing was tried with is not one.
func (a *API) failedSignIn(ctx context.Context, tried bool) {
	if !tried {
		return
	}
	from := address(ctx)
	a.throttle.failed(from)
	a.metrics.signIns.WithLabelValues("failed").Inc()
	if !a.throttle.open(from) {
		a.metrics.signIns.WithLabelValues("throttled").Inc()
		a.Log.Warn("too many tries to sign in failed", "from", from)
		a.note(ctx, client.AuditRefused, "sign-in", from, "too many tries failed; this address has to wait")
	}
}

// note adds to the audit. What was done stays done if that fails; the log says so then.
func (a *API) note(ctx context.Context, outcome client.AuditOutcome, action, object, detail string) {
	i := identity(ctx)
	by := i.By
	if i.Session {
		by = "session by " + by
	}
	err := a.Store.Note(context.WithoutCancel(ctx), client.AuditEntry{
		Who: i.Name, Token: by, Address: address(ctx),
		Action: action, Object: cut(object), Outcome: outcome, Detail: cut(detail),
	})
	if err != nil {
		a.Log.Error("not in the audit", "who", i.Name, "action", action, "object", object, "outcome", outcome, "error", err)
	}
}

func (a *API) who(ctx huma.Context) (*records.Identity, error) {
	if token, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		return a.Store.IdentityByToken(ctx.Context(), token)
	}
	if c, err := huma.ReadCookie(ctx, a.cookieName()); err == nil {
		return a.Store.IdentityBySession(ctx.Context(), c.Value)
	}
	return nil, records.ErrNotFound
}

type signInRequest struct {
	Body struct {
		Token string `json:"token" minLength:"8" maxLength:"200" doc:"The token that you were given"`
	}
}

func someone(i *records.Identity) client.Someone {
	return client.Someone{Name: i.Name, Role: i.Role, Sites: append([]string{}, i.Sites...)}
}

type sessionAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      client.Someone
}

func (a *API) sessionRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "sign-in",
		Method:      http.MethodPost,
		Path:        "/api/v1/session",
		Summary:     "Sign in at the console",
		Tags:        []string{"session"},
		Errors:      []int{http.StatusUnauthorized, http.StatusTooManyRequests},
	},
		func(ctx context.Context, in *signInRequest) (*sessionAnswer, error) {
			if !a.throttle.open(address(ctx)) {
				return nil, huma.ErrorWithHeaders(tooMany(nil), http.Header{"Retry-After": {"60"}})
			}
			i, err := a.Store.IdentityByToken(ctx, strings.TrimSpace(in.Body.Token))
			if errors.Is(err, records.ErrNotFound) {
				a.failedSignIn(ctx, true)
				return nil, problem(
					http.StatusUnauthorized, "sign-in",
					"this token is not known here, has expired or was ended; ask for another one",
				)
			}
			if err != nil {
				return nil, a.internal("sign-in", err)
			}
			secret := rand.Text()
			if err := a.Store.AddSession(ctx, i, secret, address(ctx), time.Now().Add(sessionTime)); err != nil {
				return nil, a.internal("sign-in", err)
			}
			a.metrics.signIns.WithLabelValues("done").Inc()
			a.note(context.WithValue(ctx, identityKey{}, i), client.AuditDone, "sign-in", "", "")
			return &sessionAnswer{SetCookie: a.cookie(secret, int(sessionTime.Seconds())), Body: someone(i)}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "who",
		Method:      http.MethodGet,
		Path:        "/api/v1/session",
		Summary:     "Who is signed in",
		Tags:        []string{"session"},
		Errors:      []int{http.StatusUnauthorized},
		Middlewares: huma.Middlewares{a.signIn(api)},
		Security:    []map[string][]string{{"token": {}}, {"cookie": {}}},
	},
		func(ctx context.Context, _ *struct{}) (*struct{ Body client.Someone }, error) {
			return &struct{ Body client.Someone }{someone(identity(ctx))}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "sign-out",
		Method:      http.MethodDelete,
		Path:        "/api/v1/session",
		Summary:     "Sign out: end the session, or the token that a program was given at a sign-in",
		Tags:        []string{"session"},
	},
		func(ctx context.Context, in *struct {
			Plain  string `cookie:"diorthos_session"`
			Secure string `cookie:"__Host-diorthos_session"`
			Token  string `header:"Authorization"`
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			if err := a.Store.DropSession(ctx, cmp.Or(in.Secure, in.Plain)); err != nil {
				return nil, a.internal("sign-out", err)
			}
			if token, ok := strings.CutPrefix(in.Token, "Bearer "); ok {
				if _, err := a.Store.SignOff(ctx, token); err != nil {
					return nil, a.internal("sign-out", err)
				}
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{a.cookie("", -1)}, nil
		})
}

// cookieName binds the cookie to this host alone where that can be: over TLS.
func (a *API) cookieName() string {
	if a.TLS {
		return "__Host-" + cookieName
	}
	return cookieName
}

func (a *API) cookie(value string, maxAge int) http.Cookie {
	return http.Cookie{
		Name:     a.cookieName(),
		Value:    value,
		Path:     "/",
		MaxAge:   maxAge,
		HttpOnly: true,
		Secure:   a.TLS,
		SameSite: http.SameSiteStrictMode,
	}
}
