// Package identity is a small provider of identities (OpenID Connect Core 1.0, device codes of RFC 8628) for tests and
// for trying things out. It asks for no password: whoever comes says who they are.
//
//	p, err := identity.New("diorthos", "the-secret", people)
//	server := httptest.NewServer(p)
//	p.Issuer = server.URL
package identity

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// A Person is somebody who can sign in.
type Person struct {
	Subject, Name, Account string
	Groups                 []string
}

// A Provider answers HTTP.
type Provider struct {
	Issuer string
	People map[string]Person // by account
	// Wrong makes what it signs wrong in a way, for tests: "nonce", "audience", "expired" or "key".
	Wrong string

	client, secret string
	key            *rsa.PrivateKey
	mu             sync.Mutex
	codes          map[string]grant
	devices        map[string]*device // by the device's secret
}

// A grant is a code that was given out.
type grant struct{ account, nonce, challenge, redirect string }

// A device waits for somebody who types its code.
type device struct{ code, account, ended string }

// New makes a provider that knows one client.
func New(client, secret string, people ...Person) (*Provider, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	p := &Provider{
		client:  client,
		secret:  secret,
		key:     key,
		codes:   map[string]grant{},
		devices: map[string]*device{},
		People:  map[string]Person{},
	}
	for _, one := range people {
		p.People[one.Account] = one
	}
	return p, nil
}

// ServeHTTP answers.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer(w, map[string]any{
			"issuer": p.Issuer, "authorization_endpoint": p.Issuer + "/authorize", "token_endpoint": p.Issuer + "/token",
			"device_authorization_endpoint": p.Issuer + "/device/begin",
			"jwks_uri":                      p.Issuer + "/keys", "response_types_supported": []string{"code"},
			"subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"RS256"},
		})
	case "/keys":
		answer(
			w,
			jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: "1", Algorithm: "RS256", Use: "sig"}}},
		)
	case "/authorize":
		p.authorize(w, r)
	case "/device/begin":
		p.beginDevice(w, r)
	case "/device":
		p.agree(w, r)
	case "/token":
		p.token(w, r)
	default:
		http.NotFound(w, r)
	}
}

// authorize lets somebody say who they are, and sends them back with a code.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	account := q.Get("as")
	if _, known := p.People[account]; !known {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = fmt.Fprint(w, "<!doctype html><title>Who are you?</title><h1>Who are you?</h1>")
		for _, one := range p.People {
			q.Set("as", one.Account)
			_, _ = fmt.Fprintf(
				w,
				`<p><a href="/authorize?%s">%s</a></p>`,
				html.EscapeString(q.Encode()),
				html.EscapeString(one.Name),
			)
		}
		return
	}
	if q.Get("client_id") != p.client || q.Get("code_challenge_method") != "S256" || q.Get("response_type") != "code" {
		http.Error(w, "unknown client, or no PKCE", http.StatusBadRequest)
		return
	}
	code := rand.Text()
	p.mu.Lock()
	p.codes[code] = grant{account, q.Get("nonce"), q.Get("code_challenge"), q.Get("redirect_uri")}
	p.mu.Unlock()
	back := url.Values{"code": {code}, "state": {q.Get("state")}}
	http.Redirect(w, r, q.Get("redirect_uri")+"?"+back.Encode(), http.StatusFound)
}

// beginDevice gives a program a secret of its own and a code to be typed.
func (p *Provider) beginDevice(w http.ResponseWriter, r *http.Request) {
	if id, _ := credentials(r); id != p.client {
		http.Error(w, "unknown client", http.StatusBadRequest)
		return
	}
	secret, code := rand.Text(), rand.Text()[:8]
	p.mu.Lock()
	p.devices[secret] = &device{code: code}
	p.mu.Unlock()
	answer(w, map[string]any{
		"device_code": secret, "user_code": code, "verification_uri": p.Issuer + "/device",
		"verification_uri_complete": p.Issuer + "/device?code=" + code, "expires_in": 600, "interval": 1,
	})
}

// agree lets the device of a code in as somebody, or refuses it (as=nobody).
func (p *Provider) agree(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	account := r.FormValue("as")
	if _, known := p.People[account]; !known && account != "nobody" {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = fmt.Fprint(w, "<!doctype html><title>Let a program in</title><h1>Let a program in</h1>",
			`<form><label>Its code <input name="code" value="`, html.EscapeString(r.FormValue("code")),
			`"></label> <select name="as" aria-label="as">`)
		for _, one := range p.People {
			_, _ = fmt.Fprintf(w, `<option value="%s">%s</option>`, html.EscapeString(one.Account), html.EscapeString(one.Name))
		}
		_, _ = fmt.Fprint(w, `</select> <button>Let it in</button></form>`)
		return
	}
	for _, d := range p.devices {
		if d.code == r.FormValue("code") && d.account == "" && d.ended == "" {
			if account == "nobody" {
				d.ended = "access_denied"
			}
			d.account = account
			_, _ = fmt.Fprintln(w, "Done. Go back to the program.")
			return
		}
	}
	http.Error(w, "no program waits with this code", http.StatusNotFound)
}

// deviceToken gives the identity of who agreed to a device, once.
func (p *Provider) deviceToken(w http.ResponseWriter, r *http.Request) {
	id, secret := credentials(r)
	p.mu.Lock()
	d := p.devices[r.FormValue("device_code")]
	why := "authorization_pending"
	switch {
	case d == nil || id != p.client || secret != p.secret:
		why = "invalid_grant"
	case d.ended != "":
		why = d.ended
	case d.account != "":
		why = ""
		delete(p.devices, r.FormValue("device_code"))
	}
	p.mu.Unlock()
	if why != "" {
		denied(w, why)
		return
	}
	p.give(w, grant{account: d.account})
}

// token gives a code's identity to who can show what the code was asked for with, once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("grant_type") == "urn:ietf:params:oauth:grant-type:device_code" {
		p.deviceToken(w, r)
		return
	}
	id, secret := credentials(r)
	p.mu.Lock()
	g, known := p.codes[r.FormValue("code")]
	delete(p.codes, r.FormValue("code"))
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	if !known || id != p.client || secret != p.secret || r.FormValue("redirect_uri") != g.redirect ||
		base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge {
		denied(w, "invalid_grant")
		return
	}
	p.give(w, g)
}

// denied is a no of the token's endpoint (RFC 6749, 5.2).
func denied(w http.ResponseWriter, why string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusBadRequest)
	_, _ = fmt.Fprintf(w, `{"error": %q}`, why)
}

// give tells whom a grant names.
func (p *Provider) give(w http.ResponseWriter, g grant) {
	signed, err := p.sign(g)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answer(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": signed})
}

// credentials are what a client shows of itself: in the header, where both are written as in a form, or among the rest
// (RFC 6749, 2.3.1).
func credentials(r *http.Request) (id, secret string) {
	id, secret, basic := r.BasicAuth()
	if !basic {
		return r.FormValue("client_id"), r.FormValue("client_secret")
	}
	id, errID := url.QueryUnescape(id)
	secret, errSecret := url.QueryUnescape(secret)
	if errID != nil || errSecret != nil {
		return "", ""
	}
	return id, secret
}

func (p *Provider) sign(g grant) (string, error) {
	one, now := p.People[g.account], time.Now()
	claims := map[string]any{
		"iss": p.Issuer, "sub": one.Subject, "aud": p.client, "iat": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(),
		"name": one.Name, "preferred_username": one.Account, "groups": one.Groups,
	}
	if g.nonce != "" {
		claims["nonce"] = g.nonce
	}
	key := p.key
	switch p.Wrong {
	case "nonce":
		claims["nonce"] = "another"
	case "audience":
		claims["aud"] = "somebody-else"
	case "expired":
		claims["exp"] = now.Add(-time.Hour).Unix()
	case "key":
		var err error
		if key, err = rsa.GenerateKey(rand.Reader, 2048); err != nil {
			return "", err
		}
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: key},
		(&jose.SignerOptions{}).WithHeader("kid", "1"))
	if err != nil {
		return "", err
	}
	raw, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(raw)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // who asked has gone
}
