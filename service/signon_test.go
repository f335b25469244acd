package service_test

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"diorthos/client"
	"diorthos/service"
	"diorthos/service/signon"
	"diorthos/standin/identity"
)

// A browser that keeps cookies and follows where it is sent.
type browser struct {
	*http.Client
	t *testing.T
}

func newBrowser(t *testing.T) browser {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return browser{&http.Client{Jar: jar}, t}
}

func (b browser) get(address string) (status int, text string) {
	b.t.Helper()
	r, err := b.Get(address)
	if err != nil {
		b.t.Fatal(err)
	}
	defer func() { _ = r.Body.Close() }()
	raw, err := io.ReadAll(r.Body)
	if err != nil {
		b.t.Fatal(err)
	}
	return r.StatusCode, string(raw)
}

// signsOn goes to the provider and says who it is.
func (b browser) signsOn(s *served, account string) (status int, text string) {
	b.t.Helper()
	b.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	r, err := b.Get(s.url + "/api/v1/oidc/begin")
	if err != nil {
		b.t.Fatal(err)
	}
	_ = r.Body.Close()
	b.CheckRedirect = nil
	if r.StatusCode != http.StatusFound {
		return r.StatusCode, ""
	}
	return b.get(r.Header.Get("Location") + "&as=" + url.QueryEscape(account))
}

// People of a provider sign in with what their groups may do, anew each time; nobody comes in by what is not
// theirs, and nobody is taken for somebody else of the same name.
func TestPeopleSignOnAtTheirProvider(t *testing.T) {
	provider, err := identity.New("diorthos", "between us",
		identity.Person{Subject: "7", Name: "Anna Reff", Account: "anna", Groups: []string{"staff", "it-desk"}},
		identity.Person{Subject: "8", Name: "Ragna Holm", Account: "rholm", Groups: []string{"it-lead", "it-desk"}},
		identity.Person{Subject: "9", Name: "Joren Vik", Account: "joren", Groups: []string{"staff"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	at := httptest.NewServer(provider)
	defer at.Close()
	provider.Issuer = at.URL
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("between us\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var rules []signon.Rule
	for _, text := range []string{"it-desk=work@Lerrick+Skarvoy", "it-lead=approve"} {
		r, err := signon.ParseRule(text)
		if err != nil {
			t.Fatal(err)
		}
		rules = append(rules, r)
	}
	s := serve(t, false, func(c *service.Config) {
		c.SignOn = &signon.Config{Issuer: at.URL, Client: "diorthos", SecretFile: secret, Groups: rules}
	})
	admin := s.client()

	anna := newBrowser(t)
	if status, text := anna.signsOn(s, "anna"); status != http.StatusOK || !strings.Contains(text, "You are signed in") {
		t.Fatalf("%d %s", status, text)
	}
	if status, text := anna.get(s.url + "/api/v1/session"); status != http.StatusOK ||
		!strings.Contains(
			text,
			`"name":"Anna Reff"`,
		) || !strings.Contains(text, `"role":"work"`) || !strings.Contains(text, "Skarvoy") {
		t.Errorf("%d %s", status, text)
	}
	if status, _ := anna.get(s.url + "/api/v1/people"); status != http.StatusForbidden {
		t.Errorf("one who works sees the people: %d", status)
	}

	ragna := newBrowser(t) // a person of that name administers here, by token
	if status, text := ragna.signsOn(s, "rholm"); status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	if _, text := ragna.get(s.url + "/api/v1/session"); !strings.Contains(text, `"name":"Ragna Holm (rholm)"`) ||
		!strings.Contains(text, `"role":"approve"`) || !strings.Contains(text, `"sites":[]`) {
		t.Errorf("taken for another of the same name, or with less than both groups may do: %s", text)
	}

	if status, text := newBrowser(t).signsOn(s, "joren"); status != http.StatusForbidden ||
		!strings.Contains(text, "no group") {
		t.Errorf("in no group: %d %s", status, text)
	}
	for _, wrong := range []string{"nonce", "audience", "expired", "key"} {
		provider.Wrong = wrong
		b := newBrowser(t)
		if status, _ := b.signsOn(s, "anna"); status != http.StatusUnauthorized {
			t.Errorf("with a wrong %s: %d", wrong, status)
		}
		if status, _ := b.get(s.url + "/api/v1/session"); status != http.StatusUnauthorized {
			t.Errorf("with a wrong %s somebody is signed in: %d", wrong, status)
		}
	}
	provider.Wrong = ""
	if status, _ := newBrowser(t).get(s.url + signon.Callback + "?state=x&code=y"); status != http.StatusUnauthorized {
		t.Errorf("without having begun: %d", status)
	}
	other := newBrowser(t)
	other.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	if r, err := other.Get(s.url + "/api/v1/oidc/begin"); err == nil {
		_ = r.Body.Close()
	}
	if status, _ := other.get(s.url + signon.Callback + "?state=guessed&code=y"); status != http.StatusUnauthorized {
		t.Errorf("with another state: %d", status)
	}

	provider.People["anna"] = identity.Person{
		Subject: "7",
		Name:    "Anna Reff",
		Account: "anna",
		Groups:  []string{"it-lead"},
	}
	if status, _ := anna.signsOn(s, "anna"); status != http.StatusOK {
		t.Fatal(status)
	}
	people, err := admin.People(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(people, func(p client.Person) bool { return p.Name == "Anna Reff" })
	if i < 0 || people[i].Role != client.Approve || len(people[i].Sites) != 0 || len(people) != 3 {
		t.Errorf("after her groups changed: %+v", people)
	}
	yes := true
	if _, err := admin.SetPerson(t.Context(), "Anna Reff", client.PersonChange{Ended: &yes}); err != nil {
		t.Fatal(err)
	}
	if status, _ := anna.get(s.url + "/api/v1/session"); status != http.StatusUnauthorized {
		t.Errorf("ended, and signed in still: %d", status)
	}
	if status, text := anna.signsOn(s, "anna"); status != http.StatusForbidden || !strings.Contains(text, "ended here") {
		t.Errorf("ended, and let in: %d %s", status, text)
	}
	at.Close()
	if status, _ := newBrowser(t).get(s.url + "/api/v1/sign-in-ways"); status != http.StatusOK {
		t.Errorf("while the provider is away: %d", status)
	}
	audit, err := admin.Audit(t.Context(), 0, 100)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[client.AuditOutcome]int{}
	for _, e := range audit.Entries {
		if e.Action == "sign-on" {
			seen[e.Outcome]++
		}
	}
	if seen[client.AuditDone] != 3 || seen[client.AuditRefused] < 2 {
		t.Errorf("the audit tells of %v", seen)
	}
}

// A rule of a group that cannot be one is refused, and what groups may do is the most that any of them may.
func TestRulesOfGroups(t *testing.T) {
	for _, wrong := range []string{"it", "it=", "=work", "it=everything", "it=work@"} {
		if _, err := signon.ParseRule(wrong); err == nil {
			t.Errorf("%q is a rule", wrong)
		}
	}
	nobody := signon.Config{Issuer: "https://id.skerrow.example", Client: "d", Public: "https://d"}
	if _, err := signon.New(nobody); err == nil {
		t.Error("a sign-on by which nobody may do anything")
	}
}
