package api

import (
	"context"
	"crypto/rand"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/service/records"
)

const (
	cookieName  = "diorthos_session"
	sessionTime = 12 * time.Hour
)

type identityKey struct{}

// person is who sent the request.
func person(ctx context.Context) string {
	p, _ := ctx.Value(identityKey{}).(*records.Person)
	if p == nil {
		return ""
	}
	return p.Name
}

// signIn lets only known people pass: by token, or by the console's cookie.
func (a *API) signIn(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		p, err := a.who(ctx)
		switch {
		case errors.Is(err, records.ErrNotFound):
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
		default:
			next(huma.WithValue(ctx, identityKey{}, p))
		}
	}
}

func (a *API) who(ctx huma.Context) (*records.Person, error) {
	if token, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		return a.Store.PersonByToken(ctx.Context(), token)
	}
	if c, err := huma.ReadCookie(ctx, cookieName); err == nil {
		return a.Store.PersonBySession(ctx.Context(), c.Value)
	}
	return nil, records.ErrNotFound
}

type signInRequest struct {
	Body struct {
		Token string `json:"token" minLength:"8" maxLength:"200" doc:"The token that you were given"`
	}
}

// Someone is who is signed in.
type Someone struct {
	Name string `json:"name"`
}

type sessionAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      Someone
}

func (a *API) sessionRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "sign-in",
		Method:      http.MethodPost,
		Path:        "/api/v1/session",
		Summary:     "Sign in at the console",
		Tags:        []string{"session"},
		Errors:      []int{http.StatusUnauthorized},
	},
		func(ctx context.Context, in *signInRequest) (*sessionAnswer, error) {
			p, err := a.Store.PersonByToken(ctx, strings.TrimSpace(in.Body.Token))
			if errors.Is(err, records.ErrNotFound) {
				return nil, problem(
					http.StatusUnauthorized, "sign-in",
					"this token is not known here; ask for one made with \"diorthos serve token NAME\"",
				)
			}
			if err != nil {
				return nil, a.internal("sign-in", err)
			}
			secret := rand.Text()
			if err := a.Store.AddSession(ctx, p.ID, secret, time.Now().Add(sessionTime)); err != nil {
				return nil, a.internal("sign-in", err)
			}
			return &sessionAnswer{SetCookie: cookie(secret, int(sessionTime.Seconds())), Body: Someone{Name: p.Name}}, nil
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
		func(ctx context.Context, _ *struct{}) (*struct{ Body Someone }, error) {
			return &struct{ Body Someone }{Someone{Name: person(ctx)}}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "sign-out",
		Method:      http.MethodDelete,
		Path:        "/api/v1/session",
		Summary:     "Sign out",
		Tags:        []string{"session"},
	},
		func(ctx context.Context, in *struct {
			Session string `cookie:"diorthos_session"`
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			if err := a.Store.DropSession(ctx, in.Session); err != nil {
				return nil, a.internal("sign-out", err)
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{cookie("", -1)}, nil
		})
}

func cookie(value string, maxAge int) http.Cookie {
	return http.Cookie{
		Name:     cookieName,
		Value:    value,
		Path:     "/",
		MaxAge:   maxAge,
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
	}
}
