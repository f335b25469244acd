package service

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"sync"
	"time"
)

// A Certificate is a pair of files of which the newest is used: they may be changed
// while the service runs.
type Certificate struct {
	File, Key string

	mu     sync.Mutex
	pair   *tls.Certificate
	read   time.Time // of the files that pair was read from
	looked time.Time
	log    *slog.Logger
}

// lookEvery is how often the files are looked at, at most.
const lookEvery = 10 * time.Second

// get gives the certificate for a new connection. New files that cannot be read are
// logged, and the earlier ones stay.
func (c *Certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.pair != nil && time.Since(c.looked) < lookEvery {
		return c.pair, nil
	}
	c.looked = time.Now()
	changed, err := c.changed()
	if err == nil && (c.pair == nil || changed.After(c.read)) {
		var pair tls.Certificate
		if pair, err = tls.LoadX509KeyPair(c.File, c.Key); err == nil {
			c.pair, c.read = &pair, changed
		}
	}
	if err != nil && c.pair == nil {
		return nil, fmt.Errorf("certificate: %w", err)
	}
	if err != nil {
		c.log.Error("the certificate was not loaded anew; the earlier one stays", "error", err)
	}
	return c.pair, nil
}

// changed is when the later of both files was changed.
func (c *Certificate) changed() (last time.Time, err error) {
	for _, name := range []string{c.File, c.Key} {
		info, err := os.Stat(name)
		if err != nil {
			return last, err
		}
		if info.ModTime().After(last) {
			last = info.ModTime()
		}
	}
	return last, nil
}

// over wraps a listener in TLS 1.2 or newer. A certificate that cannot be read is an error.
func (c *Certificate) over(l net.Listener, log *slog.Logger) (net.Listener, error) {
	c.log = log
	if _, err := c.get(nil); err != nil {
		return nil, err
	}
	return tls.NewListener(l, &tls.Config{
		GetCertificate: c.get, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
	}), nil
}

// ErrPlain means that tokens and evidence would cross a network in the clear.
var ErrPlain = errors.New(
	"without TLS it listens on this computer alone: give --tls-cert and --tls-key, put a proxy with TLS before it " +
		"on this computer, or say --plain-http if the network is to be trusted",
)

// mayBePlain reports whether an address is of this computer alone.
func mayBePlain(a net.Addr) bool {
	t, ok := a.(*net.TCPAddr)
	return ok && t.IP.IsLoopback()
}
