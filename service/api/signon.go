package api

import (
	"context"
	"crypto/rand"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
	"diorthos/service/signon"
)

const (
	keptCookie = "diorthos_sign_on"
	keptTime   = 10 * time.Minute
)

// Ways are how somebody may sign in.
type Ways struct {
	Token  bool   `json:"token"`
	SignOn bool   `json:"signOn" doc:"At the site's provider of identities: go to /api/v1/oidc/begin"`
	At     string `json:"at,omitempty" doc:"Address of the provider"`
}

type beginAnswer struct {
	Status    int
	Location  string      `header:"Location"`
	SetCookie http.Cookie `header:"Set-Cookie"`
}

type callbackAnswer struct {
	Type      string        `header:"Content-Type"`
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      []byte
}

// goHome has the browser go on by itself: a cookie that is for this site alone is not sent along from another one.
const goHome = `<!doctype html><html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="0;url=/">` +
	`<title>Diorthos</title><p>You are signed in. <a href="/">Go on</a></p></html>`

func (a *API) signOnRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "sign-in-ways", Method: http.MethodGet, Path: "/api/v1/sign-in-ways", Tags: []string{"session"},
		Summary: "How somebody may sign in",
	}, func(context.Context, *struct{}) (*struct{ Body Ways }, error) {
		w := Ways{Token: true, SignOn: a.SignOn != nil}
		if a.SignOn != nil {
			w.At = a.SignOn.Issuer
		}
		return &struct{ Body Ways }{w}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "begin-sign-on", Method: http.MethodGet, Path: "/api/v1/oidc/begin", Tags: []string{"session"},
		Summary: "Go to the site's provider of identities to sign in", DefaultStatus: http.StatusFound,
		Errors: []int{http.StatusNotFound, http.StatusServiceUnavailable},
	}, func(ctx context.Context, _ *struct{}) (*beginAnswer, error) {
		if a.SignOn == nil {
			return nil, a.noSignOn()
		}
		address, kept, err := a.SignOn.Begin(ctx)
		if err != nil {
			return nil, a.signOnProblem(ctx, err)
		}
		return &beginAnswer{
			Status: http.StatusFound, Location: address, SetCookie: a.keptCookie(kept.String(), int(keptTime.Seconds())),
		}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "end-sign-on", Method: http.MethodGet, Path: signon.Callback, Tags: []string{"session"},
		Summary: "Come back from the site's provider of identities",
		Errors: []int{
			http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusTooManyRequests,
			http.StatusServiceUnavailable,
		},
	}, func(ctx context.Context, in *struct {
		State string `query:"state" maxLength:"200"`
		Code  string `query:"code" maxLength:"4000"`
		Error string `query:"error" maxLength:"200"`
		Kept  string `cookie:"diorthos_sign_on"`
	}) (*callbackAnswer, error) {
		if a.SignOn == nil {
			return nil, a.noSignOn()
		}
		if !a.throttle.open(address(ctx)) {
			return nil, huma.ErrorWithHeaders(tooMany(nil), http.Header{"Retry-After": {"60"}})
		}
		kept, ok := signon.ParseKept(in.Kept)
		if !ok || in.Error != "" {
			a.failedSignIn(ctx, true)
			return nil, problem(http.StatusUnauthorized, "sign-in", signon.ErrRefused.Error())
		}
		login, err := a.SignOn.Finish(ctx, kept, in.State, in.Code)
		if err != nil {
			return nil, a.signOnProblem(ctx, err)
		}
		i, err := a.Store.SignedOn(ctx, records.Login{
			Issuer: login.Issuer, Subject: login.Subject, Name: login.Name, Account: login.Account, Role: login.Role,
			Sites: login.Sites,
		}, time.Now().Add(sessionTime))
		if err != nil {
			return nil, a.signOnProblem(ctx, err)
		}
		secret := rand.Text()
		if err := a.Store.AddSession(ctx, i, secret, address(ctx), time.Now().Add(sessionTime)); err != nil {
			return nil, a.internal("sign-on", err)
		}
		a.metrics.signIns.WithLabelValues("done").Inc()
		a.note(context.WithValue(ctx, identityKey{}, i), client.AuditDone, "sign-on", login.Issuer, login.Account)
		return &callbackAnswer{
			Type:      "text/html; charset=utf-8",
			SetCookie: []http.Cookie{a.cookie(secret, int(sessionTime.Seconds())), a.keptCookie("", -1)},
			Body:      []byte(goHome),
		}, nil
	})
}

func (a *API) noSignOn() error {
	return problem(http.StatusNotFound, "not-found", "this service has no single sign-on: sign in with a token")
}

// signOnProblem says why somebody could not be signed in.
func (a *API) signOnProblem(ctx context.Context, err error) error {
	switch {
	case errors.Is(err, signon.ErrRefused):
		a.failedSignIn(ctx, true)
		a.Log.Warn("a sign-on was refused", "from", address(ctx), "error", err)
		return problem(http.StatusUnauthorized, "sign-in", signon.ErrRefused.Error())
	case errors.Is(err, signon.ErrNoGroup), errors.Is(err, records.ErrPersonEnded):
		a.failedSignIn(ctx, true)
		a.note(ctx, client.AuditRefused, "sign-on", a.SignOn.Issuer, err.Error())
		return problem(http.StatusForbidden, "not-allowed", err.Error())
	case errors.Is(err, signon.ErrAway):
		a.Log.Error("single sign-on", "error", err)
		return problem(http.StatusServiceUnavailable, "sign-on-away", signon.ErrAway.Error()+"; try again shortly")
	}
	return a.internal("sign-on", err)
}

// keptCookie is sent along when the provider sends the browser back, and goes nowhere else.
func (a *API) keptCookie(value string, maxAge int) http.Cookie {
	return http.Cookie{
		Name: keptCookie, Value: value, Path: signon.Callback, MaxAge: maxAge, HttpOnly: true, Secure: a.TLS,
		SameSite: http.SameSiteLaxMode,
	}
}
