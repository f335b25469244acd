package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"diorthos/core/plain"
)

// A Client speaks to one service as one person. It is safe for concurrent use.
type Client struct {
	url   string
	token string
	http  *http.Client
}

// New returns a client of the service at url, such as http://127.0.0.1:7420.
func New(url, token string) *Client {
	return NewOver(url, token, (&net.Dialer{Timeout: 10 * time.Second}).DialContext)
}

// A Dial makes a connection.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// NewOver is New over connections of one's own.
func NewOver(url, token string, dial Dial) *Client {
	return &Client{url: strings.TrimRight(url, "/"), token: token, http: &http.Client{Transport: &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           dial,
		ExpectContinueTimeout: 5 * time.Second,
		IdleConnTimeout:       30 * time.Second,
	}}}
}

// URL is where the service is.
func (c *Client) URL() string { return c.url }

// A Problem is a refusal by the service, as RFC 9457 has it.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += "; " + e.Location + ": " + e.Message
	}
	return text
}

// ErrUnreachable means that no service answers at the address.
var ErrUnreachable = errors.New("no service answers")

func (c *Client) request(ctx context.Context, method, path string, body io.Reader) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.url+path, body)
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	return req, nil
}

func (c *Client) get(ctx context.Context, path string, into any) error {
	req, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	return c.do(req, into)
}

// download copies what a path answers.
func (c *Client) download(ctx context.Context, path, what string, to io.Writer) error {
	req, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	resp, err := c.answer(req)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	if _, err := io.Copy(to, resp.Body); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

func (c *Client) send(ctx context.Context, method, path string, body, into any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := c.request(ctx, method, path, bytes.NewReader(plain.WithoutNUL(raw)))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	return c.do(req, into)
}

func (c *Client) do(req *http.Request, into any) error {
	resp, err := c.answer(req)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	if err := json.NewDecoder(resp.Body).Decode(into); err != nil {
		return fmt.Errorf("%s %s: the answer cannot be read: %w", req.Method, req.URL.Path, err)
	}
	return nil
}

// answer returns a response of the 200s; the caller closes its body.
func (c *Client) answer(req *http.Request) (*http.Response, error) {
	resp, err := c.http.Do(req)
	if err != nil {
		var dial *net.OpError
		if errors.As(err, &dial) && dial.Op == "dial" {
			return nil, fmt.Errorf("%w at %s: %w", ErrUnreachable, c.url, dial.Err)
		}
		return nil, err
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer func() { _ = resp.Body.Close() }()
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	p := &Problem{Status: resp.StatusCode}
	if json.Unmarshal(raw, p) != nil || p.Title == "" && p.Detail == "" {
		p.Title = fmt.Sprintf("%s answered %s", c.url, resp.Status)
	}
	return nil, p
}

// Watch calls see with the case now and after each change, until see returns
// false. It connects anew when the connection breaks.
func (c *Client) Watch(ctx context.Context, number int64, see func(Case) bool) error {
	for {
		err := c.watchOnce(ctx, number, see)
		var p *Problem
		if err == nil || ctx.Err() != nil || errors.As(err, &p) || errors.Is(err, ErrUnreachable) {
			return err
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

var errBroken = errors.New("the live connection broke")

func (c *Client) watchOnce(ctx context.Context, number int64, see func(Case) bool) error {
	req, err := c.request(ctx, http.MethodGet, fmt.Sprintf("/api/v1/cases/%d/live", number), nil)
	if err != nil {
		return err
	}
	req.Header.Set("Accept", "text/event-stream")
	resp, err := c.answer(req)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		var cs Case
		if err := json.Unmarshal([]byte(data), &cs); err != nil {
			return err
		}
		if !see(cs) {
			return nil
		}
	}
	return errBroken
}
