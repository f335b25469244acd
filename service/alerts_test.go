package service_test

import (
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
)

// Every alert and every panel that docs/monitoring tells of is about a metric that the service has, by labels that it
// has, and an alert says what to do.
func TestAlertsAreAboutMetricsThatThereAre(t *testing.T) {
	raw, err := os.ReadFile("../docs/monitoring/alerts.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var file struct {
		Groups []struct {
			Rules []struct {
				Alert, Expr, For string
				Annotations      map[string]string
			}
		}
	}
	if err := yaml.Unmarshal(raw, &file); err != nil || len(file.Groups) == 0 {
		t.Fatal(err)
	}
	s := serve(t, false)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	if s.metrics = free.Addr().String(); free.Close() != nil {
		t.Fatal("the port is not given back")
	}
	s.run(false) // another process of the same service, which tells its metrics
	s.handIn(packed(t, "tern-1", map[string]string{"logs/apt/term.log": brokenUpdate}, nil), false, 0)
	s.call("GET", "/api/v1/cases", nil, "Authorization", "Bearer wrong")
	var text []byte
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		answer, err := http.Get("http://" + s.metrics + "/metrics") //nolint:noctx // it is here
		if err != nil {
			t.Fatal(err)
		}
		text, err = io.ReadAll(answer.Body)
		if err = errors.Join(err, answer.Body.Close()); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(text), "diorthos_bags_gone ") { // the last that is begun
			break
		}
	}
	raw, err = os.ReadFile("../docs/monitoring/dashboard.json")
	if err != nil {
		t.Fatal(err)
	}
	var board struct {
		Panels []struct {
			Title, Description string
			Targets            []struct{ Expr string }
		}
	}
	if err := json.Unmarshal(raw, &board); err != nil || len(board.Panels) < 8 {
		t.Fatalf("%d panels: %v", len(board.Panels), err)
	}
	name, labels := regexp.MustCompile(`(?:diorthos|process)_[a-z_]+`), regexp.MustCompile(`by \(([a-z, ]+)\)`)
	has := func(who, expr string) {
		for _, metric := range name.FindAllString(expr, -1) {
			metric = strings.TrimSuffix(strings.TrimSuffix(metric, "_bucket"), "_count")
			if !strings.Contains("\n"+string(text), "\n# HELP "+metric+" ") {
				t.Errorf("%s is about %s, which the service does not have", who, metric)
			}
			for _, list := range labels.FindAllStringSubmatch(expr, -1) {
				for _, label := range strings.Split(list[1], ", ") {
					if !regexp.MustCompile(`(?m)^` + metric + `\w*\{[^}]*\b` + label + `="`).Match(text) {
						t.Errorf("%s is about the label %s, which %s does not have", who, label, metric)
					}
				}
			}
		}
	}
	for _, p := range board.Panels {
		if p.Description == "" || len(p.Targets) == 0 {
			t.Errorf("%q says not what it is", p.Title)
		}
		for _, target := range p.Targets {
			has(p.Title, target.Expr)
		}
	}
	for _, r := range file.Groups[0].Rules {
		if r.Annotations["summary"] == "" || r.Annotations["do"] == "" {
			t.Errorf("%s says not what it is or what to do", r.Alert)
		}
		has(r.Alert, r.Expr)
	}
}
