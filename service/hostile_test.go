package service_test

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diorthos/client"
)

// A described call is one of the API, as its document describes it.
type described struct {
	Parameters []struct {
		Name   string
		In     string
		Schema schema
	}
	RequestBody struct {
		Content map[string]struct{ Schema schema }
	}
}

type schema struct {
	Ref        string `json:"$ref"`
	Type       any
	Format     string
	Enum       []any
	Properties map[string]schema
	Items      *schema
}

// A forger makes what is sent, by the document.
type forger struct{ schemas map[string]schema }

// hostile are values of which no field can make much.
var hostile = []any{
	nil, true, -1, 0, 9_007_199_254_740_993, 1e308, json.Number("1e400"), "", "a\x00b", "\xff\xfe", "\u202e' or 1=1 --",
	strings.Repeat("x", 20_000), "%s%n", "../../etc/passwd", []any{}, []any{nil},
	map[string]any{}, map[string]any{"a": []any{-1}},
	"2026-13-45T99:99:99Z", "0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z",
}

// sane is a value that a field may have.
func (f forger) sane(of schema, depth int) any {
	if name, ok := strings.CutPrefix(of.Ref, "#/components/schemas/"); ok {
		of = f.schemas[name]
	}
	kind := fmt.Sprint(of.Type)
	switch {
	case depth > 4:
		return nil
	case len(of.Enum) > 0:
		return of.Enum[0]
	case strings.Contains(kind, "object"):
		made := map[string]any{}
		for name, p := range of.Properties {
			if name != "$schema" {
				made[name] = f.sane(p, depth+1)
			}
		}
		return made
	case strings.Contains(kind, "array") && of.Items != nil:
		return []any{f.sane(*of.Items, depth+1)}
	case strings.Contains(kind, "integer"), strings.Contains(kind, "number"):
		return 1
	case strings.Contains(kind, "boolean"):
		return false
	case of.Format == "date-time":
		return "2026-11-24T08:00:00Z"
	}
	return "tern-1"
}

// bodies are what is sent in place of a body: what is none, and a sane one with one field spoilt.
func (f forger) bodies(d described) (list []string) {
	content, ok := d.RequestBody.Content["application/json"]
	if !ok {
		return []string{"", "\x00\x00", strings.Repeat("[", 5000)}
	}
	list = []string{"", "null", "[]", "7", `"x"`, "{", "{}", strings.Repeat(`{"a":`, 2000), `{"\u0000":1}`, "\xff"}
	whole, _ := f.sane(content.Schema, 0).(map[string]any)
	for _, name := range slices.Sorted(maps.Keys(whole)) {
		for _, bad := range hostile {
			spoilt := maps.Clone(whole)
			spoilt[name] = bad
			raw, err := json.Marshal(spoilt)
			if err != nil { // a number that Go cannot hold either
				raw = []byte(`{"` + name + `":1e400}`)
			}
			list = append(list, strings.ReplaceAll(string(raw), `\ufffd\ufffd`, "\xff\xfe"))
		}
	}
	raw, _ := json.Marshal(whole)
	return append(list, string(raw))
}

// Whatever is sent to whatever route is answered: done, or refused with a problem that says why. Nothing that can be
// sent is the service's own failure, and afterwards it works as before.
func TestNoRouteFallsOverWhatItIsSent(t *testing.T) {
	s := serve(t, false)
	s.sendsAll(s.mustSubmit("tern-1", "Lerrick"), s.signedIn())
	if page, err := s.client().Cases(t.Context(), client.CaseQuery{}); err != nil || page.Total == 0 {
		t.Errorf("afterwards: %+v, %v", page, err)
	}
	s.state(s.mustSubmit("tern-2", "Lerrick"), 30*time.Second, client.Open, client.Healthy)
}

// What an agent can do, and so whoever has taken the key off a stick, ends at its machine: whatever it sends to any
// route, nothing of another machine, of people or of the fleet is another afterwards.
func TestAnAgentReachesItsOwnMachineAlone(t *testing.T) {
	s := serve(t, false)
	number, other := s.mustSubmit("tern-1", "Lerrick"), s.mustSubmit("tern-2", "Lerrick")
	s.state(number, 20*time.Second, client.Open)
	s.state(other, 20*time.Second, client.Open)
	stick, now := newKnocker(t), time.Now()
	shown, err := client.New(s.url, "").Knock(t.Context(), client.Knock{Public: stick.public})
	if err != nil {
		t.Fatal(err)
	}
	agent, err := s.client().Admit(t.Context(), client.Admission{Code: shown.Code, Machine: "tern-1"})
	if err != nil {
		t.Fatal(err)
	}
	on, err := client.New(s.url, "").SignOn(t.Context(), client.SignOn{
		Agent: agent.ID, Time: now, Signature: ed25519.Sign(stick.private, client.SignOnText(agent.ID, now)),
	})
	if err != nil {
		t.Fatal(err)
	}
	const others = `select string_agg(t::text, E'\n') from (
		select to_jsonb(x) - 'updated_at' t from cases x where machine_id = (select id from machines where name = 'tern-2')
		union all select to_jsonb(x) from machines x where name <> 'tern-1'
		union all select to_jsonb(x) from people x
		union all select to_jsonb(x) from tokens x where name <> 'agent' and used_at is null
		union all select to_jsonb(x) - 'seen_at' - 'held' from agents x
		union all select to_jsonb(x) from agent_codes x
		union all select to_jsonb(x) from approvals x
		union all select to_jsonb(x) from orders x
		union all select to_jsonb(x) from rollouts x
		union all select to_jsonb(x) from site_rules x
		union all select to_jsonb(x) from site_knowledge x
		union all select jsonb_build_object('outbreak', id, 'held', held, 'lifted', lifted_at) from outbreaks
		union all select jsonb_build_object('cohort', id, 'name', name, 'muted', muted) from cohorts order by 1) t`
	before := s.value(others)
	s.sendsAll(other, []string{"Authorization", "Bearer " + on.Token})
	if after := s.value(others); after != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, after)
	}
}

// value is the one text that a query gives.
func (s *served) value(query string) (text string) {
	s.t.Helper()
	conn, err := pgx.Connect(s.t.Context(), s.dsn)
	if err != nil {
		s.t.Fatal(err)
	}
	defer func() { _ = conn.Close(context.Background()) }()
	if err := conn.QueryRow(s.t.Context(), query).Scan(&text); err != nil {
		s.t.Fatal(err)
	}
	return text
}

// sendsAll sends what is hostile to every parameter and field of every route, about a case of the machine tern-1.
func (s *served) sendsAll(number int64, who []string) {
	t := s.t
	t.Helper()
	_, text := s.call("GET", "/api/v1/openapi.json", nil)
	var doc struct {
		Paths      map[string]map[string]described
		Components struct{ Schemas map[string]schema }
	}
	if err := json.Unmarshal([]byte(text), &doc); err != nil {
		t.Fatal(err)
	}
	f := forger{doc.Components.Schemas}
	sent, by := 0, map[int]int{}
	send := func(method, at, body string) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		request, err := http.NewRequestWithContext(ctx, method, s.url+at, strings.NewReader(body))
		if err != nil {
			return // no client can send it
		}
		of := append(append(slices.Clone(who), from()...), "Content-Type", "application/json")
		for i := 0; i < len(of); i += 2 {
			request.Header.Set(of[i], of[i+1])
		}
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Errorf("%s %.200s %.200q: %v", method, at, body, err)
			return
		}
		defer func() { _ = answer.Body.Close() }()
		sent++
		by[answer.StatusCode]++
		if answer.StatusCode < 400 {
			return // a stream may not end
		}
		said, err := io.ReadAll(answer.Body)
		var problem struct {
			Title  string
			Status int
		}
		if answer.StatusCode >= 500 || err != nil || json.Unmarshal(said, &problem) != nil ||
			problem.Status != answer.StatusCode {
			t.Errorf("%s %.200s %.300q: %d %.300s %v", method, at, body, answer.StatusCode, said, err)
		}
	}
	for _, path := range slices.Sorted(maps.Keys(doc.Paths)) {
		for method, d := range doc.Paths[path] {
			method = strings.ToUpper(method)
			at := strings.NewReplacer("{number}", fmt.Sprint(number), "{name}", "tern-1", "{id}", "1").Replace(path)
			if method == "DELETE" || strings.HasPrefix(path, "/api/v1/people") && method != "GET" {
				at = strings.NewReplacer("{name}", "somebody", "{id}", "999").Replace(path) // not who asks, nor the token
			}
			for _, body := range f.bodies(d) {
				if method != "GET" {
					send(method, at, body)
				}
			}
			for _, p := range d.Parameters {
				for _, bad := range hostile {
					value := url.QueryEscape(fmt.Sprint(bad))
					switch p.In {
					case "query":
						send(method, at+"?"+p.Name+"="+value, "")
					case "path":
						there := strings.Replace(path, "{"+p.Name+"}", url.PathEscape(fmt.Sprint(bad)), 1)
						send(method, strings.ReplaceAll(there, "{id}", "1"), "")
					}
				}
			}
		}
	}
	send("TRACE", "/api/v1/cases", "")
	send("GET", "/api/v1/nothing/here", "")
	t.Logf("%d requests: %v", sent, by)
	if sent < 1000 {
		t.Errorf("only %d were sent", sent)
	}
}
