// Package signon has people sign in at a provider of identities that the site has already (OpenID Connect Core 1.0:
// authorisation code with PKCE, RFC 7636; where there is no browser with a device code, RFC 8628). Who they are there,
// and in which groups, says what they may do here.
//
//	p, err := signon.New(signon.Config{Issuer: …, Client: …, Public: …, Groups: rules})
//	address, kept, err := p.Begin(ctx)        // the browser goes there, and keeps what has to be kept
//	login, err := p.Finish(ctx, kept, state, code)
package signon

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"diorthos/client"
)

// A Config says where people sign in.
type Config struct {
	Issuer     string // address of the provider
	Client     string // what this service is called there
	SecretFile string // with what it was given there; empty where it was given nothing
	Public     string // address at which browsers reach this service
	Groups     []Rule
}

// A Rule says what a group of the provider may do here.
type Rule struct {
	Group string
	Role  client.Role
	Sites []string // none named means all
}

// ParseRule reads GROUP=ROLE, or GROUP=ROLE@SITE+SITE.
func ParseRule(text string) (Rule, error) {
	group, rest, ok := strings.Cut(text, "=")
	role, sites, atSites := strings.Cut(rest, "@")
	r := Rule{Group: strings.TrimSpace(group), Role: client.Role(strings.TrimSpace(role))}
	for _, s := range strings.Split(sites, "+") {
		if s = strings.TrimSpace(s); s != "" {
			r.Sites = append(r.Sites, s)
		}
	}
	if !ok || r.Group == "" || !slices.Contains(client.Roles(), r.Role) || atSites && len(r.Sites) == 0 {
		return r, fmt.Errorf("%q: want GROUP=ROLE or GROUP=ROLE@SITE+SITE, with a role of %v", text, client.Roles())
	}
	return r, nil
}

var (
	// ErrAway means that the provider does not answer.
	ErrAway = errors.New("the provider of identities does not answer")
	// ErrRefused means that what came back cannot be believed.
	ErrRefused = errors.New("the sign-in could not be completed: begin it again")
	// ErrWaiting means that nobody has agreed at the provider yet.
	ErrWaiting = errors.New("nobody has agreed at the provider of identities yet")
	// ErrNoDevices means that the provider lets nobody in by a device code.
	ErrNoDevices = errors.New("the provider of identities lets nobody in without a browser here: use a token")
	// ErrNoGroup means that somebody is known there and in no group that may do anything here.
	ErrNoGroup = errors.New("you are in no group that may use this service: ask who looks after it")
)

// A Provider is where people sign in.
type Provider struct {
	Config
	mu    sync.Mutex
	found *oidc.Provider
}

// New checks a configuration. The provider itself is asked when somebody signs in first.
func New(c Config) (*Provider, error) {
	switch {
	case c.Issuer == "" || c.Client == "" || c.Public == "":
		return nil, errors.New("single sign-on needs the issuer, the client and the public address of this service")
	case len(c.Groups) == 0:
		return nil, errors.New("single sign-on needs a group at least that may do something here")
	}
	return &Provider{Config: c}, nil
}

// longest is how long the provider is waited for.
const longest = 10 * time.Second

// provider is the provider as it describes itself; it is asked until it has answered once.
func (p *Provider) provider(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found == nil {
		// What it found is kept, with keys that are fetched later: it may not end with this request.
		found, err := oidc.NewProvider(context.WithoutCancel(ctx), p.Issuer)
		if err != nil {
			return nil, nil, fmt.Errorf("%w: %w", ErrAway, err)
		}
		p.found = found
	}
	secret := ""
	if p.SecretFile != "" {
		raw, err := os.ReadFile(p.SecretFile)
		if err != nil {
			return nil, nil, fmt.Errorf("the secret of single sign-on: %w", err)
		}
		secret = strings.TrimSpace(string(raw))
	}
	return p.found, &oauth2.Config{
		ClientID: p.Client, ClientSecret: secret, Endpoint: p.found.Endpoint(),
		RedirectURL: strings.TrimSuffix(p.Public, "/") + Callback, Scopes: []string{oidc.ScopeOpenID, "profile", "groups"},
	}, nil
}

// Callback is the path to which the provider sends browsers back.
const Callback = "/api/v1/oidc/callback"

// Kept is what the browser keeps meanwhile, and nobody else may see.
type Kept struct{ State, Nonce, Verifier string }

// String is what goes into its cookie.
func (k Kept) String() string { return k.State + "." + k.Nonce + "." + k.Verifier }

// ParseKept reads it again.
func ParseKept(text string) (Kept, bool) {
	parts := strings.Split(text, ".")
	if len(parts) != 3 || slices.Contains(parts, "") {
		return Kept{}, false
	}
	return Kept{parts[0], parts[1], parts[2]}, true
}

// Begin is the address at which somebody signs in.
func (p *Provider) Begin(ctx context.Context) (address string, k Kept, err error) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	_, conf, err := p.provider(ctx)
	if err != nil {
		return "", Kept{}, err
	}
	k = Kept{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier()}
	return conf.AuthCodeURL(k.State, oidc.Nonce(k.Nonce), oauth2.S256ChallengeOption(k.Verifier)), k, nil
}

// A Login is who signed in.
type Login struct {
	Issuer, Subject string
	Name            string
	Account         string // by which two of one name are told apart
	Groups          []string
	Role            client.Role
	Sites           []string
}

// Finish finds out who signed in, by what the provider sent back.
func (p *Provider) Finish(ctx context.Context, k Kept, state, code string) (*Login, error) {
	if subtle.ConstantTimeCompare([]byte(k.State), []byte(state)) != 1 || code == "" {
		return nil, ErrRefused
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	found, conf, err := p.provider(ctx)
	if err != nil {
		return nil, err
	}
	token, err := conf.Exchange(ctx, code, oauth2.VerifierOption(k.Verifier))
	if err != nil {
		return nil, refused(err)
	}
	return p.login(ctx, found, token, k.Nonce)
}

// refused tells the provider's no from its silence.
func refused(err error) error {
	var answer *oauth2.RetrieveError
	if errors.As(err, &answer) {
		return fmt.Errorf("%w: the provider answered %q", ErrRefused, answer.ErrorCode)
	}
	return fmt.Errorf("%w: %w", ErrAway, err)
}

// A Device is what lets a program in that has no browser: its code is typed at an address, and who signs in there lets
// it in. The secret is the program's own.
type Device struct {
	Secret, Code, Address, Direct string
	Expires                       time.Time
}

// BeginDevice asks the provider for a code.
func (p *Provider) BeginDevice(ctx context.Context) (*Device, error) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	_, conf, err := p.provider(ctx)
	if err != nil {
		return nil, err
	}
	if conf.Endpoint.DeviceAuthURL == "" {
		return nil, ErrNoDevices
	}
	d, err := conf.DeviceAuth(ctx)
	if err != nil {
		return nil, refused(err)
	}
	return &Device{
		Secret: d.DeviceCode, Code: d.UserCode, Address: d.VerificationURI, Direct: d.VerificationURIComplete,
		Expires: d.Expiry,
	}, nil
}

// FinishDevice waits for a while whether somebody agrees to a device.
func (p *Provider) FinishDevice(ctx context.Context, secret string, wait time.Duration) (*Login, error) {
	ctx, cancel := context.WithTimeout(ctx, wait+longest)
	defer cancel()
	found, conf, err := p.provider(ctx)
	if err != nil {
		return nil, err
	}
	waiting, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	token, err := conf.DeviceAccessToken(waiting, &oauth2.DeviceAuthResponse{DeviceCode: secret, Interval: 1})
	switch {
	case err != nil && ctx.Err() == nil && waiting.Err() != nil:
		return nil, ErrWaiting
	case err != nil:
		return nil, refused(err)
	}
	return p.login(ctx, found, token, "")
}

// login is whom the provider's signed word names.
func (p *Provider) login(ctx context.Context, found *oidc.Provider, token *oauth2.Token, nonce string) (*Login, error) {
	raw, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.Client}).Verify(ctx, raw)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(nonce)) != 1 {
		return nil, fmt.Errorf("%w: it is the answer to another sign-in", ErrRefused)
	}
	var claims struct {
		Name    string   `json:"name"`
		Account string   `json:"preferred_username"`
		Email   string   `json:"email"`
		Groups  []string `json:"groups"`
	}
	if err := id.Claims(&claims); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	l := &Login{Issuer: id.Issuer, Subject: id.Subject, Groups: claims.Groups}
	for _, name := range []string{claims.Name, claims.Account, claims.Email, id.Subject} {
		if l.Name = plain(name); l.Name != "" {
			break
		}
	}
	for _, account := range []string{claims.Account, claims.Email, id.Subject} {
		if l.Account = plain(account); l.Account != "" {
			break
		}
	}
	var ok bool
	if l.Role, l.Sites, ok = p.may(claims.Groups); !ok {
		return l, ErrNoGroup
	}
	return l, nil
}

// mostName is how long a name may be, in bytes.
const mostName = 100

// plain is a name without what no name has.
func plain(name string) string {
	name = strings.Join(strings.FieldsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f }), " ")
	if len(name) > mostName {
		name = strings.ToValidUTF8(name[:mostName], "")
	}
	return strings.TrimSpace(name)
}

// may is the most that groups may do: the highest role, at all sites of the rules that give it.
func (p *Provider) may(groups []string) (role client.Role, sites []string, ok bool) {
	everywhere := false
	for _, r := range p.Groups {
		if !slices.Contains(groups, r.Group) {
			continue
		}
		switch {
		case !ok || r.Role != role && r.Role.May(role):
			role, sites, everywhere, ok = r.Role, slices.Clone(r.Sites), len(r.Sites) == 0, true
		case r.Role == role:
			sites = append(sites, r.Sites...)
			everywhere = everywhere || len(r.Sites) == 0
		}
	}
	if everywhere {
		sites = nil
	}
	slices.Sort(sites)
	return role, slices.Compact(sites), ok
}
