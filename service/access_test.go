package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
	"diorthos/core/bag"
)

// tableOfRoutes reads from docs/api.md which role each call is for.
func tableOfRoutes(t *testing.T) map[string]client.Role {
	t.Helper()
	raw, err := os.ReadFile("../docs/api.md")
	if err != nil {
		t.Fatal(err)
	}
	table := map[string]client.Role{}
	row := regexp.MustCompile("(?m)^\\| `([A-Z]+) (/[^`]*)`[^|]*\\| (see|work|approve|administer) \\|")
	for _, m := range row.FindAllStringSubmatch(string(raw), -1) {
		table[m[1]+" /api/v1"+m[2]] = client.Role(m[3])
	}
	return table
}

var address = 0

// from is a header by which a request comes from a place that none came from before.
func from() []string {
	address++
	return []string{"X-Forwarded-For", fmt.Sprintf("10.7.%d.%d", address/250, 1+address%250)}
}

// Every route, every role, every kind of credential: as the table in docs/api.md says.
func TestWhoMayDoWhat(t *testing.T) {
	s := serve(t, false)
	admin := s.client()
	number := s.mustSubmit("tern-1", "Lerrick")
	tokens := map[client.Role]string{}
	token := func(name string, change client.PersonChange) string {
		t.Helper()
		if _, err := admin.SetPerson(t.Context(), name, change); err != nil {
			t.Fatal(err)
		}
		made, err := admin.AddToken(t.Context(), name, client.TokenWish{Name: "a test"})
		if err != nil {
			t.Fatal(err)
		}
		return made.Secret
	}
	for _, r := range client.Roles() {
		tokens[r] = token("a person to "+string(r), client.PersonChange{Role: r})
	}
	elsewhere := token("at another site", client.PersonChange{Role: client.Approve, Sites: &[]string{"Skarvoy"}})
	revoked, expired := token("revoked", client.PersonChange{}), token("expired", client.PersonChange{})
	ended := token("ended", client.PersonChange{})
	yes := true
	if _, err := admin.SetPerson(t.Context(), "ended", client.PersonChange{Ended: &yes}); err != nil {
		t.Fatal(err)
	}
	s.sql(
		s.dsn,
		"update tokens set expires_at = now() - interval '1 second' from people "+
			"where people.id = person_id and people.name = 'expired'",
	)
	people, err := admin.People(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range people {
		if p.Name == "revoked" {
			if err := admin.EndToken(t.Context(), p.Tokens[0].ID); err != nil {
				t.Fatal(err)
			}
		}
	}
	signedOut := s.browser()
	if status, text := s.call("DELETE", "/api/v1/session", nil, signedOut...); status != http.StatusNoContent {
		t.Fatalf("sign-out: %d %s", status, text)
	}

	_, text := s.call("GET", "/api/v1/openapi.json", nil)
	var doc struct {
		Paths map[string]map[string]any `json:"paths"`
	}
	if err := json.Unmarshal([]byte(text), &doc); err != nil {
		t.Fatal(err)
	}
	table := tableOfRoutes(t)
	asked := 0
	for path, methods := range doc.Paths {
		for method := range methods {
			method = strings.ToUpper(method)
			role, listed := table[method+" "+path]
			switch {
			case path == "/api/v1/session", path == "/api/v1/enrol", path == "/api/v1/sign-on",
				strings.HasSuffix(path, "/knocks"), strings.HasSuffix(path, "/knocks/answer"),
				path == "/api/v1/sign-in-ways", strings.HasPrefix(path, "/api/v1/oidc/"): // before anybody is known
				continue
			case !listed:
				t.Errorf("%s %s has no row in docs/api.md", method, path)
				continue
			}
			// What is asked for is not there, so that nothing is done by those who may.
			at := strings.NewReplacer("{number}", "999", "{name}", "nobody", "{id}", "999", "{code}", "AAAA").Replace(path)
			ask := func(header ...string) int {
				asked++
				if strings.HasSuffix(at, "/live") {
					header = append(header, "Connection", "close")
				}
				return s.status(method, at, append(header, from()...)...)
			}
			for what, header := range map[string][]string{
				"nothing":            nil,
				"a wrong token":      {"Authorization", "Bearer not-the-token"},
				"a guessed cookie":   {"Cookie", "diorthos_session=guessed"},
				"a signed-out one":   signedOut,
				"a revoked token":    {"Authorization", "Bearer " + revoked},
				"an expired token":   {"Authorization", "Bearer " + expired},
				"an ended person's":  {"Authorization", "Bearer " + ended},
				"a scheme not known": {"Authorization", "Basic " + tokens[client.Administer]},
			} {
				if got := ask(header...); got != http.StatusUnauthorized {
					t.Errorf("%s %s with %s: %d", method, path, what, got)
				}
			}
			for r, secret := range tokens {
				got := ask("Authorization", "Bearer "+secret)
				if may := r.May(role); may == (got == http.StatusForbidden) || got == http.StatusUnauthorized {
					t.Errorf("%s %s, for %s, by one to %s: %d", method, path, role, r, got)
				}
			}
			if strings.Contains(path, "/cases/{number}") {
				at = strings.Replace(path, "{number}", fmt.Sprint(number), 1) + "?file=a&around=1"
				got := ask("Authorization", "Bearer "+elsewhere)
				notTheirs := got == http.StatusForbidden && !client.Approve.May(role)
				if got != http.StatusNotFound && got != http.StatusUnprocessableEntity && !notTheirs {
					t.Errorf("%s %s of another site: %d", method, path, got)
				}
			}
		}
	}
	for row := range table {
		method, path, _ := strings.Cut(row, " ")
		if _, there := doc.Paths[path][strings.ToLower(method)]; !there {
			t.Errorf("docs/api.md tells of %s, which is not there", row)
		}
	}
	if asked < 200 {
		t.Errorf("asked %d times: the document has lost its routes", asked)
	}
	other := client.New(s.url, elsewhere)
	if page, err := other.Cases(t.Context(), client.CaseQuery{}); err != nil || page.Total != 0 {
		t.Errorf("cases of another site: %+v, %v", page, err)
	}
	if _, err := other.Machine(t.Context(), "tern-1"); err == nil {
		t.Error("a machine of another site is shown")
	}
}

// Who did what is kept in order, refusals too, and cannot be changed unseen.
func TestTheAuditIsAddedToAndNeverChanged(t *testing.T) {
	s := serve(t, true)
	s.mustSubmit("tern-1", "Lerrick")
	if _, err := s.client().SetPerson(t.Context(), "Joren Vik", client.PersonChange{Role: client.See}); err != nil {
		t.Fatal(err)
	}
	made, err := s.client().AddToken(t.Context(), "Joren Vik", client.TokenWish{Name: "laptop", Days: 30})
	if err != nil {
		t.Fatal(err)
	}
	looks := client.New(s.url, made.Secret)
	if _, err := looks.SetPerson(t.Context(), "Joren Vik", client.PersonChange{Role: client.Administer}); err == nil {
		t.Fatal("one who may look has made himself one who administers")
	}
	no := true
	if _, err := s.client().SetPerson(t.Context(), "Ragna Holm", client.PersonChange{Ended: &no}); err == nil {
		t.Fatal("the last who administers was ended")
	}
	page, err := s.client().Audit(t.Context(), 0, 100)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, e := range page.Entries {
		got = append(got, fmt.Sprintf("%s %s by %s: %s", e.Action, e.Outcome, e.Who, e.Object))
	}
	want := "set-person refused by Ragna Holm: Ragna Holm\n" +
		"set-person refused by Joren Vik: PUT /api/v1/people/Joren Vik\n" +
		"add-token done by Ragna Holm: Joren Vik\nset-person done by Ragna Holm: Joren Vik\n" +
		"submit-bag done by Ragna Holm: case 1, tern-1"
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
	if c, err := s.client().VerifyAudit(t.Context()); err != nil || c.Problem != "" || c.Entries != 5 {
		t.Errorf("%+v, %v", c, err)
	}
	for _, change := range []string{
		"update audit set who = 'somebody' where number = 2", "delete from audit where number = 2", "truncate audit",
	} {
		if err := s.trySQL(change); err == nil || !strings.Contains(err.Error(), "never changed") {
			t.Errorf("%s: %v", change, err)
		}
	}
	s.sql(s.dsn, "alter table audit disable trigger audit_stays; update audit set who = 'somebody' where number = 2")
	if c, err := s.client().VerifyAudit(t.Context()); err != nil || !strings.Contains(c.Problem, "entry 2") {
		t.Errorf("an altered entry: %+v, %v", c, err)
	}
}

// Who tries too often has to wait; who has a token that counts does not.
func TestTriesToSignInAreThrottledByAddress(t *testing.T) {
	s := serve(t, true)
	here := from()
	sign := func(header []string, token string) int {
		status, _ := s.call("POST", "/api/v1/session", strings.NewReader(`{"token":"`+token+`"}`),
			append(header, "Content-Type", "application/json")...)
		return status
	}
	seen := map[int]int{}
	for range 15 {
		seen[sign(here, "a-wrong-token")]++
	}
	if seen[401] != 10 || seen[429] != 5 {
		t.Errorf("15 tries: %v", seen)
	}
	if got := sign(here, s.token); got != 429 {
		t.Errorf("the right token from there: %d", got)
	}
	if got := sign(from(), s.token); got != 200 {
		t.Errorf("the right token from elsewhere: %d", got)
	}
	if got := s.status("GET", "/api/v1/cases", append(here, "Authorization", "Bearer "+s.token)...); got != 200 {
		t.Errorf("a command with its token from there: %d", got)
	}
	page, err := s.client().Audit(t.Context(), 0, 10)
	if err != nil || len(page.Entries) != 2 || page.Entries[1].Object != here[1] {
		t.Errorf("%+v, %v", page, err)
	}
}

// A body that does not come is not waited for.
func TestASlowBodyIsCutOff(t *testing.T) {
	s := serve(t, true)
	began := time.Now()
	if got := s.slowly("/api/v1/bags", time.Second); got != http.StatusUnauthorized && got != 0 {
		t.Errorf("without a token: %d", got)
	}
	if took := time.Since(began); took > 12*time.Second {
		t.Errorf("it was open for %s", took)
	}
}

// browser signs in as the console does, and gives the cookie.
func (s *served) browser() []string {
	s.t.Helper()
	resp, err := http.Post(s.url+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+s.token+`"}`))
	if err != nil {
		s.t.Fatal(err)
	}
	defer func() { _ = resp.Body.Close() }()
	if len(resp.Cookies()) != 1 {
		s.t.Fatalf("sign-in: %s", resp.Status)
	}
	return []string{"Cookie", resp.Cookies()[0].Name + "=" + resp.Cookies()[0].Value}
}

// status sends a request without a body and returns the status alone: a stream has no end.
func (s *served) status(method, path string, header ...string) int {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), 20*time.Second)
	defer cancel()
	var body io.Reader
	if method == http.MethodPost || method == http.MethodPut || method == http.MethodPatch {
		body = strings.NewReader("{}")
		header = append(header, "Content-Type", "application/json")
	}
	resp := s.send(ctx, method, strings.ReplaceAll(path, " ", "%20"), body, header...)
	_ = resp.Body.Close()
	return resp.StatusCode
}

// mustSubmit hands in a bag of a machine at a site.
func (s *served) mustSubmit(machine, site string) int64 {
	s.t.Helper()
	facts := &bag.Facts{}
	facts.Machine.Site = site
	status, a := s.handIn(packed(s.t, machine, map[string]string{"logs/apt/term.log": brokenUpdate}, facts), false, 0)
	if status != http.StatusCreated {
		s.t.Fatalf("hand in: %d", status)
	}
	return a.Number
}

func (s *served) trySQL(statement string) error {
	conn, err := pgx.Connect(s.t.Context(), s.dsn)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.Background()) }()
	_, err = conn.Exec(s.t.Context(), statement)
	return err
}

// slowly sends a body byte by byte until it is cut off, and returns the status that came,
// or 0 for none.
func (s *served) slowly(path string, every time.Duration) int {
	s.t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	if err != nil {
		s.t.Fatal(err)
	}
	defer func() { _ = conn.Close() }()
	_, _ = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: diorthos\r\nContent-Length: 100000\r\n\r\n", path)
	ended := make(chan int, 1)
	go func() {
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			ended <- 0
			return
		}
		_, _ = io.Copy(io.Discard, conn) // until the service closes
		ended <- resp.StatusCode
	}()
	for {
		select {
		case status := <-ended:
			return status
		case <-time.After(every):
			_, _ = conn.Write([]byte("x"))
		}
	}
}
