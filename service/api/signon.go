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
	}, func(context.Context, *struct{}) (*struct{ Body client.Ways }, error) {
		w := client.Ways{Token: true, SignOn: a.SignOn != nil}
		if a.SignOn != nil {
			w.At = a.SignOn.Issuer
		}
		return &struct{ Body client.Ways }{w}, nil
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
		i, err := a.signedOn(ctx, login, "", time.Now().Add(sessionTime))
		if err != nil {
			return nil, err
		}
		secret := rand.Text()
		if err := a.Store.AddSession(ctx, i, secret, address(ctx), time.Now().Add(sessionTime)); err != nil {
			return nil, a.internal("sign-on", err)
		}
		return &callbackAnswer{
			Type:      "text/html; charset=utf-8",
			SetCookie: []http.Cookie{a.cookie(secret, int(sessionTime.Seconds())), a.keptCookie("", -1)},
			Body:      []byte(goHome),
		}, nil
	})
}

// signedOn lets in who signed in at the provider; a program is given a token of that secret.
func (a *API) signedOn(
	ctx context.Context, l *signon.Login, secret string, until time.Time,
) (*records.Identity, error) {
	i, err := a.Store.SignedOn(ctx, records.Login{
		Issuer: l.Issuer, Subject: l.Subject, Name: l.Name, Account: l.Account, Role: l.Role, Sites: l.Sites,
	}, secret, until)
	if err != nil {
		return nil, a.signOnProblem(ctx, err)
	}
	a.metrics.signIns.WithLabelValues("done").Inc()
	a.note(context.WithValue(ctx, identityKey{}, i), client.AuditDone, "sign-on", l.Issuer, l.Account)
	return i, nil
}

const (
	deviceWait  = 20 * time.Second // one question waits so long for somebody to agree
	deviceWaits = 64               // so many questions wait at once
)

// deviceRoutes let a program in that has no browser.
func (a *API) deviceRoutes(api huma.API) {
	waits := make(chan struct{}, deviceWaits)
	errs := []int{
		http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusTooManyRequests,
		http.StatusServiceUnavailable,
	}
	huma.Register(api, huma.Operation{
		OperationID: "begin-device", Method: http.MethodPost, Path: "/api/v1/oidc/device", Tags: []string{"session"},
		Summary: "Ask for a code by which somebody lets a program in that has no browser", Errors: errs,
	}, func(ctx context.Context, _ *struct{}) (*struct{ Body client.DeviceCode }, error) {
		if a.SignOn == nil {
			return nil, a.noSignOn()
		}
		if !a.throttle.open(address(ctx)) {
			return nil, huma.ErrorWithHeaders(tooMany(nil), http.Header{"Retry-After": {"60"}})
		}
		d, err := a.SignOn.BeginDevice(ctx)
		if err != nil {
			return nil, a.signOnProblem(ctx, err)
		}
		return &struct{ Body client.DeviceCode }{client.DeviceCode{
			Code: d.Code, Address: d.Address, Direct: d.Direct, Secret: d.Secret, Expires: d.Expires.UTC(),
		}}, nil
	})
	huma.Register(api, huma.Operation{
		OperationID: "finish-device", Method: http.MethodPost, Path: "/api/v1/oidc/device/token",
		Tags: []string{"session"}, Errors: errs,
		Summary:     "Ask whether somebody agreed to a code",
		Description: "Waits up to 20 seconds; `waiting` says to ask again. The token is for 12 hours.",
	}, func(ctx context.Context, in *struct {
		Body struct {
			Secret string `json:"secret" minLength:"1" maxLength:"4000" doc:"As it was given with the code"`
		}
	}) (*struct{ Body client.DeviceToken }, error) {
		if a.SignOn == nil {
			return nil, a.noSignOn()
		}
		if !a.throttle.open(address(ctx)) {
			return nil, huma.ErrorWithHeaders(tooMany(nil), http.Header{"Retry-After": {"60"}})
		}
		select {
		case waits <- struct{}{}:
			defer func() { <-waits }()
		default:
			return nil, huma.ErrorWithHeaders(
				problem(http.StatusServiceUnavailable, "busy", "too many programs wait to be let in; try again shortly"),
				http.Header{"Retry-After": {"5"}})
		}
		login, err := a.SignOn.FinishDevice(ctx, in.Body.Secret, deviceWait)
		if errors.Is(err, signon.ErrWaiting) {
			return &struct{ Body client.DeviceToken }{client.DeviceToken{Waiting: true}}, nil
		}
		if err != nil {
			return nil, a.signOnProblem(ctx, err)
		}
		secret, until := rand.Text(), time.Now().Add(sessionTime)
		i, err := a.signedOn(ctx, login, secret, until)
		if err != nil {
			return nil, err
		}
		return &struct{ Body client.DeviceToken }{client.DeviceToken{
			Token: secret, Name: i.Name, Role: i.Role, Expires: until.UTC(),
		}}, nil
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
	case errors.Is(err, signon.ErrNoDevices):
		return problem(http.StatusNotFound, "not-found", err.Error())
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
