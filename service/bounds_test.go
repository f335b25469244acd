package service_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"diorthos/client"
	"diorthos/core/bag"
	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
	"diorthos/service"
)

// One change costs one read, however many watch, and everybody is told.
func TestManyWatchersAreToldOfOneChange(t *testing.T) {
	s := serve(t, true)
	number := s.mustSubmit("tern-1", "Lerrick")
	const watchers = 200
	told := make(chan string, 10*watchers)
	ctx, cancel := context.WithCancel(t.Context())
	var group sync.WaitGroup
	for range watchers {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url+"/api/v1/live", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+s.token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		group.Go(func() {
			defer func() { _ = resp.Body.Close() }()
			lines := bufio.NewScanner(resp.Body)
			for lines.Scan() {
				if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
					told <- data
				}
			}
		})
	}
	s.sql(s.dsn, fmt.Sprintf("update cases set headline = 'the tide' where number = %d", number))
	for left := watchers; left > 0; {
		select {
		case data := <-told:
			if strings.Contains(data, "the tide") { // and not that it was handed in, which some may hear of late
				left--
			}
		case <-time.After(20 * time.Second):
			t.Fatalf("%d were not told", left)
		}
	}
	cancel()
	group.Wait()
}

// What cannot be true of a rung is not taken down.
func TestReportsOfRungsAreChecked(t *testing.T) {
	s := serve(t, false)
	number := s.mustSubmit("tern-1", "Lerrick")
	s.state(number, time.Minute, client.Open)
	c, err := s.client().StartClimb(t.Context(), number, client.ClimbStart{Host: "a desk"})
	if err != nil {
		t.Fatal(err)
	}
	run := func(change string) string {
		return `{"state":"running","run":{"rung":1,"outcome":"proven","guard":[],"planned":[],"proof":[],` +
			`"began":"2026-11-25T10:00:00Z","took":5` + change + `}}`
	}
	for what, body := range map[string]string{
		"a rung below none":  strings.Replace(run(""), `"rung":1`, `"rung":-99`, 1),
		"a negative time":    strings.Replace(run(""), `"took":5`, `"took":-5`, 1),
		"no such outcome":    strings.Replace(run(""), "proven", "splendid", 1),
		"a text without end": run(`,"journal":"` + strings.Repeat("x", 5000) + `"`),
		"many entries":       run(`,"did":[` + strings.Repeat(`"a",`, 3000) + `"a"]`),
		"NUL":                run(`,"did":["a\u0000b"]`),
	} {
		status, text := s.call("PATCH", fmt.Sprintf("/api/v1/climbs/%d", c.ID), strings.NewReader(body),
			append(s.signedIn(), "Content-Type", "application/json")...)
		if status != http.StatusUnprocessableEntity {
			t.Errorf("%s: %d %s", what, status, text)
		}
	}
	status, text := s.call("PATCH", fmt.Sprintf("/api/v1/climbs/%d", c.ID), strings.NewReader(run("")),
		append(s.signedIn(), "Content-Type", "application/json")...)
	if status != http.StatusOK {
		t.Errorf("a run that can be: %d %s", status, text)
	}
}

// A case is read again when somebody asks for it.
func TestACaseIsReadAgain(t *testing.T) {
	s := serve(t, false)
	number := s.mustSubmit("tern-1", "Lerrick")
	first := s.state(number, time.Minute, client.Open)
	s.sql(
		s.dsn,
		fmt.Sprintf("update cases set headline = '', docket = null, state = 'unreadable' where number = %d", number),
	)
	if _, err := s.client().ReadAgain(t.Context(), number); err != nil {
		t.Fatal(err)
	}
	if again := s.state(number, time.Minute, client.Open); again.Headline != first.Headline {
		t.Errorf("read again: %q, want %q", again.Headline, first.Headline)
	}
	if _, err := s.client().ReadAgain(t.Context(), 99); err == nil {
		t.Error("a case that is not there was read again")
	}
}

// The service speaks TLS with a certificate that may change, and not in the clear beyond
// this computer unless it is told to.
func TestTLSWithACertificateThatChanges(t *testing.T) {
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "tls.crt"), filepath.Join(dir, "tls.key")
	writeCertificate(t, cert, key, 1)
	s := serve(t, true)
	conf := service.Config{
		Database: s.dsn, Bags: s.bags, Limits: bag.DefaultLimits, TakeOnly: true,
		Knowledge: func() (*knowledge.Knowledge, error) { return knowledge.Load(shipped.Files) },
		Log:       slog.New(slog.DiscardHandler),
	}
	listener, err := service.Listen("0.0.0.0:0")
	if err != nil {
		t.Fatal(err)
	}
	if err := service.Run(t.Context(), listener, conf); !errors.Is(err, service.ErrPlain) {
		t.Errorf("in the clear beyond this computer: %v", err)
	}
	listener, err = service.Listen("0.0.0.0:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	ready, ended := make(chan string, 1), make(chan error, 1)
	conf.TLS, conf.Ready = &service.Certificate{File: cert, Key: key}, func(a string) { ready <- a }
	go func() { ended <- service.Run(ctx, listener, conf) }()
	defer func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}()
	address := "127.0.0.1" + (<-ready)[strings.LastIndex(listener.Addr().String(), ":"):]
	serial := func() int64 {
		conn, err := tls.Dial(
			"tcp",
			address,
			&tls.Config{InsecureSkipVerify: true},
		) //nolint:gosec // its own certificate is what is looked at
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = conn.Close() }()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	if got := serial(); got != 1 {
		t.Fatalf("certificate %d", got)
	}
	browser := &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}},
	} //nolint:gosec // as above
	resp, err := browser.Post(
		"https://"+address+"/api/v1/session",
		"application/json",
		strings.NewReader(`{"token":"`+s.token+`"}`),
	)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = resp.Body.Close() }()
	c := resp.Cookies()[0]
	if c.Name != "__Host-diorthos_session" || !c.Secure || !c.HttpOnly ||
		resp.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("the cookie is %+v, headers %v", c, resp.Header)
	}
	writeCertificate(t, cert, key, 2)
	later := time.Now().Add(time.Minute)
	if err := errors.Join(os.Chtimes(cert, later, later), os.Chtimes(key, later, later)); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); serial() != 2; time.Sleep(500 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the new certificate was not taken")
		}
	}
}

func writeCertificate(t *testing.T, cert, key string, serial int64) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "diorthos.skerrow.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
	}
	raw, err := x509.CreateCertificate(rand.Reader, of, of, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{
		cert: {Type: "CERTIFICATE", Bytes: raw}, key: {Type: "PRIVATE KEY", Bytes: der},
	} {
		if err := os.WriteFile(name, bytes.Clone(pem.EncodeToMemory(block)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}
