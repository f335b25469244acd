package agent

import (
	"crypto/ed25519"
	"strings"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/core/climb"
	"diorthos/core/docket"
	"diorthos/core/knowledge"
	"diorthos/core/ladder"
)

// Only an order that the service signed, for this machine, that has not expired and is of the
// case as it was approved, is carried out.
func TestOnlyWhatWasApprovedIsCarriedOut(t *testing.T) {
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	order := climb.Order{
		ID: 3, Machine: "kiosk-1", Case: 9, Evidence: "abc", Rung: 1, Remedy: "put-loader-back", Level: knowledge.Undoable,
		Approved: "Ragna Holm", Expires: now.Add(time.Hour),
	}
	d := &client.CaseDetail{Docket: &docket.Docket{ToDo: []ladder.Rung{
		{Number: 1, Remedy: "put-loader-back", Invasive: knowledge.Undoable},
	}}}
	d.Machine, d.Bag = "kiosk-1", "abc"
	for name, c := range map[string]struct {
		change  func(*climb.Order, *client.CaseDetail)
		payload func([]byte) []byte
		why     string
	}{
		"as approved": {},
		"changed on the way": {payload: func(b []byte) []byte {
			return []byte(strings.Replace(string(b), "kiosk-1",
				"kiosk-2", 1))
		}, why: "signature"},
		"of another machine": {change: func(o *climb.Order, _ *client.CaseDetail) { o.Machine = "kiosk-2" },
			why: "it is for kiosk-2"},
		"too late": {change: func(o *climb.Order, _ *client.CaseDetail) { o.Expires = now.Add(-time.Minute) },
			why: "expired"},
		"one that destroys": {change: func(o *climb.Order, _ *client.CaseDetail) { o.Level = knowledge.Destroys },
			why: "never ordered"},
		"of other evidence": {change: func(_ *climb.Order, d *client.CaseDetail) { d.Bag = "def" }, why: "other evidence"},
		"of another remedy": {change: func(o *climb.Order, _ *client.CaseDetail) { o.Remedy = "reinstall" },
			why: "not the one"},
		"more than was asked": {change: func(_ *climb.Order,
			d *client.CaseDetail) {
			d.Docket.ToDo[0].Invasive = knowledge.Disrupts
		}, why: "not the one"},
	} {
		o, detail := order, *d
		read := *d.Docket
		read.ToDo = append([]ladder.Rung{}, read.ToDo...)
		detail.Docket = &read
		if c.change != nil {
			c.change(&o, &detail)
		}
		payload, signature, err := o.Sign(private)
		if err != nil {
			t.Fatal(err)
		}
		if c.payload != nil {
			payload = c.payload(payload)
		}
		opened, err := climb.OpenOrder(payload, signature, public, "kiosk-1", now)
		if err == nil {
			_, err = ordered(opened, &detail)
		}
		if c.why == "" && err != nil || c.why != "" && (err == nil || !strings.Contains(err.Error(), c.why)) {
			t.Errorf("%s: %v, want %q", name, err, c.why)
		}
	}
}
