// Package notices tells others of what the fleet does: outbreaks that are raised, releases that
// are held. What is to be told lies in the database until somebody took it, so that no notice is
// lost with a process, and each is sent by one process at a time.
//
//	n := notices.Sender{Store: store, Webhook: "https://…", Key: key, Log: log}
//	n.Run(ctx)
//
// A webhook gets CloudEvents 1.0 in JSON, with the header Diorthos-Signature: the HMAC-SHA256 of
// the body, in hexadecimal. Mail goes by SMTP.
package notices

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/smtp"
	"strings"
	"time"

	"diorthos/service/records"
)

// A Sender sends notices. A way that is empty is not used.
type Sender struct {
	Store   *records.Store
	Webhook string   // address
	Key     []byte   // of the signature
	Mail    string   // SMTP server, host and port
	From    string   // address of the sender
	To      []string // and of who gets it
	Source  string   // of CloudEvents: who this service is
	Log     *slog.Logger
	Client  *http.Client // nil for one with a time limit
}

// SignatureHeader names the header with the body's signature.
const SignatureHeader = "Diorthos-Signature"

const (
	every    = 2 * time.Second // how often is looked for notices
	longest  = 10 * time.Second
	mostBody = 64 << 10 // of an answer that is read
)

// Run sends until ctx ends.
func (s *Sender) Run(ctx context.Context) {
	if s.Webhook == "" && s.Mail == "" {
		return
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		for more := true; more && ctx.Err() == nil; {
			var err error
			more, err = s.Store.SendNotice(ctx, func(n records.Notice) error { return s.send(ctx, n) })
			if err != nil {
				s.Log.Warn("a notice waits", "error", err)
				break
			}
		}
	}
}

func (s *Sender) send(ctx context.Context, n records.Notice) error {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	var failed []error
	if s.Webhook != "" {
		failed = append(failed, s.post(ctx, n))
	}
	if s.Mail != "" {
		failed = append(failed, s.mail(n))
	}
	return errors.Join(failed...)
}

// An Event is a notice as CloudEvents 1.0 has it.
type Event struct {
	SpecVersion     string          `json:"specversion"`
	ID              string          `json:"id"`
	Source          string          `json:"source"`
	Type            string          `json:"type"`
	Time            time.Time       `json:"time"`
	DataContentType string          `json:"datacontenttype"`
	Data            json.RawMessage `json:"data"`
}

// Sign is the signature of a body.
func Sign(key, body []byte) string {
	m := hmac.New(sha256.New, key)
	_, _ = m.Write(body) // a hash takes everything
	return hex.EncodeToString(m.Sum(nil))
}

func (s *Sender) post(ctx context.Context, n records.Notice) error {
	body, err := json.Marshal(Event{
		SpecVersion: "1.0", ID: fmt.Sprint(n.ID), Source: s.Source, Type: "diorthos." + n.Kind, Time: n.CreatedAt.UTC(),
		DataContentType: "application/json", Data: n.Body,
	})
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Webhook, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json")
	req.Header.Set(SignatureHeader, Sign(s.Key, body))
	client := s.Client
	if client == nil {
		client = &http.Client{Timeout: longest}
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	_, _ = io.CopyN(io.Discard, resp.Body, mostBody) // so that the connection can be used again
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("webhook: it answered %s", resp.Status)
	}
	return nil
}

func (s *Sender) mail(n records.Notice) error {
	var data struct {
		Title    string `json:"title"`
		Held     string `json:"held"`
		Machines int    `json:"machines"`
		Cohort   int64  `json:"cohort"`
		Rollout  int64  `json:"rollout"`
		Machine  string `json:"machine"`
		Why      string `json:"why"`
		By       string `json:"by"`
	}
	if err := json.Unmarshal(n.Body, &data); err != nil {
		return err
	}
	wave, fleet := fmt.Sprintf("diorthos waves %d", data.Rollout), fmt.Sprintf("diorthos cohorts %d", data.Cohort)
	said, ok := map[string][2]string{ // in short, and the command that tells more
		"outbreak.raised": {fmt.Sprintf("Outbreak: %s, %d machines", data.Title, data.Machines), fleet},
		"outbreak.held":   {"Held back: " + data.Held, "diorthos outbreaks"},
		"outbreak.lifted": {"No longer held back", "diorthos outbreaks"},
		"rollout.begun":   {fmt.Sprintf("Begun in waves by %s: %s", data.By, data.Title), wave},
		"rollout.halted":  {fmt.Sprintf("Halted: %s: %s", data.Title, data.Why), wave},
		"agent.copied":    {"A copy of the disk of " + data.Machine + " runs on other hardware", "diorthos agent list"},
	}[n.Kind]
	if !ok {
		said = [2]string{n.Kind, "diorthos outbreaks"}
	}
	subject, more := said[0], said[1]
	plain := func(text string) string { return strings.Map(noControls, text) }
	text := fmt.Sprintf(
		"From: %s\r\nTo: %s\r\nSubject: %s\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n"+
			"%s\r\n\r\n%s\r\n",
		s.From,
		strings.Join(s.To, ", "),
		plain(subject),
		plain(subject),
		plain(more),
	)
	if _, _, err := net.SplitHostPort(s.Mail); err != nil {
		return err
	}
	return smtp.SendMail(s.Mail, nil, s.From, s.To, []byte(text))
}

func noControls(r rune) rune {
	if r < ' ' || r == 0x7f {
		return -1
	}
	return r
}
