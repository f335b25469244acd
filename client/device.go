package client

import (
	"context"
	"net/http"
	"time"
)

// Ways are how somebody may sign in.
type Ways struct {
	Token  bool   `json:"token"`
	SignOn bool   `json:"signOn" doc:"At the site's provider of identities: go to /api/v1/oidc/begin"`
	At     string `json:"at,omitempty" doc:"Address of the provider"`
}

// A DeviceCode lets a program in that has no browser: somebody types it at the provider of identities (RFC 8628).
type DeviceCode struct {
	Code    string    `json:"code" doc:"What is typed at the address"`
	Address string    `json:"address" doc:"Where it is typed, with any browser"`
	Direct  string    `json:"direct,omitempty" doc:"The same address with the code in it"`
	Secret  string    `json:"secret" doc:"The program's own: it shows this when it asks"`
	Expires time.Time `json:"expires"`
}

// A DeviceToken is what a program signs in with once somebody agreed.
type DeviceToken struct {
	Waiting bool      `json:"waiting" doc:"Nobody has agreed yet: ask again"`
	Token   string    `json:"token,omitempty"`
	Name    string    `json:"name,omitempty" doc:"Who agreed"`
	Role    Role      `json:"role,omitempty"`
	Expires time.Time `json:"expires,omitzero"`
}

// A Someone is who is signed in.
type Someone struct {
	Name  string   `json:"name"`
	Role  Role     `json:"role"`
	Sites []string `json:"sites" doc:"Only machines of these; none named: of all"`
}

// Ways asks how somebody may sign in.
func (c *Client) Ways(ctx context.Context) (*Ways, error) {
	var w Ways
	return &w, c.get(ctx, "/api/v1/sign-in-ways", &w)
}

// Who asks who is signed in.
func (c *Client) Who(ctx context.Context) (*Someone, error) {
	var s Someone
	return &s, c.get(ctx, "/api/v1/session", &s)
}

// BeginDevice asks for a code by which somebody lets this program in.
func (c *Client) BeginDevice(ctx context.Context) (*DeviceCode, error) {
	var d DeviceCode
	return &d, c.send(ctx, http.MethodPost, "/api/v1/oidc/device", struct{}{}, &d)
}

// FinishDevice waits for some seconds whether somebody agrees.
func (c *Client) FinishDevice(ctx context.Context, secret string) (*DeviceToken, error) {
	var t DeviceToken
	return &t, c.send(ctx, http.MethodPost, "/api/v1/oidc/device/token", map[string]string{"secret": secret}, &t)
}

// SignOut ends the token of this client, if it was got by a sign-in; one that was given by hand stays.
func (c *Client) SignOut(ctx context.Context) error { return c.remove(ctx, "/api/v1/session") }
