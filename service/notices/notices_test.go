package notices

import (
	"bufio"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"diorthos/service/records"
)

// A receiver that gets a notice can tell from whom it is, and one that is down does not keep
// mail from going out.
func TestAWebhookIsSignedAndMailGoesOut(t *testing.T) {
	key := []byte("a key of sixteen bytes")
	var got Event
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if r.Header.Get(SignatureHeader) != Sign(key, body) || json.Unmarshal(body, &got) != nil {
			w.WriteHeader(http.StatusForbidden)
		}
	}))
	defer receiver.Close()
	mail, letters := mailbox(t)
	s := &Sender{
		Webhook: receiver.URL, Key: key, Mail: mail, From: "diorthos@skerrow.example", To: []string{"it@skerrow.example"},
		Source: "diorthos://test", Log: slog.New(slog.DiscardHandler),
	}
	n := records.Notice{
		ID: 7, Kind: "outbreak.raised", CreatedAt: time.Now(),
		Body: []byte(`{"title": "The loader\r\nBcc: someone is missing", "machines": 6, "cohort": 4}`),
	}
	if err := s.send(t.Context(), n); err != nil {
		t.Fatal(err)
	}
	if got.SpecVersion != "1.0" || got.ID != "7" || got.Type != "diorthos.outbreak.raised" {
		t.Errorf("the event: %+v", got)
	}
	letter := <-letters
	if !strings.Contains(letter, "Subject: Outbreak: The loaderBcc: someone is missing, 6 machines\r\n") ||
		strings.Contains(letter, "\r\nBcc:") {
		t.Errorf("the letter:\n%s", letter)
	}
	s.Webhook = ""
	for kind, want := range map[string]string{ // each says what it is about, and where to look
		"rollout.begun": "Begun in waves by Ragna: Put it back", "rollout.halted": "Halted: Put it back: two failed",
		"agent.copied": "A copy of the disk of kiosk-1 runs", "outbreak.lifted": "No longer held back",
	} {
		n := n
		n.Kind = kind
		n.Body = []byte(`{"title": "Put it back", "by": "Ragna", "why": "two failed", "machine": "kiosk-1", "rollout": 3}`)
		if err := s.send(t.Context(), n); err != nil {
			t.Fatal(err)
		}
		if letter := <-letters; !strings.Contains(letter, "Subject: "+want) || !strings.Contains(letter, "\r\ndiorthos ") {
			t.Errorf("%s:\n%s", kind, letter)
		}
	}
	s.Webhook = receiver.URL
	s.Key = []byte("another key of so many")
	if err := s.send(t.Context(), n); err == nil || !strings.Contains(err.Error(), "403") {
		t.Errorf("with a key that the receiver does not know: %v", err)
	}
}

// mailbox is a small SMTP server that takes letters.
func mailbox(t *testing.T) (address string, letters <-chan string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	taken := make(chan string, 4)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			taken <- takeLetter(c)
		}
	}()
	return l.Addr().String(), taken
}

func takeLetter(c net.Conn) string {
	defer func() { _ = c.Close() }()
	say := func(line string) { _, _ = io.WriteString(c, line+"\r\n") }
	say("220 skerrow.example")
	var letter strings.Builder
	lines, data := bufio.NewScanner(c), false
	for lines.Scan() {
		switch text := lines.Text(); {
		case data && text == ".":
			data = false
			say("250 taken")
		case data:
			letter.WriteString(text + "\r\n")
		case strings.HasPrefix(text, "DATA"):
			data = true
			say("354 go on")
		case strings.HasPrefix(text, "QUIT"):
			say("221 bye")
			return letter.String()
		default:
			say("250 ok")
		}
	}
	return letter.String()
}
