package e2e

import (
	"bufio"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/service"
	"diorthos/service/signon"
	"diorthos/standin/identity"
)

// Somebody without a browser at hand signs in once: the commands that follow are theirs, until they sign out. Who is
// refused at the provider, or is in no group, gets nothing; a token given by hand is kept the same way and stays valid.
func TestACommandLineSignsInWithoutABrowser(t *testing.T) {
	provider, err := identity.New("diorthos", "",
		identity.Person{Subject: "7", Name: "Anna Reff", Account: "anna", Groups: []string{"it-desk"}},
		identity.Person{Subject: "9", Name: "Joren Vik", Account: "joren", Groups: []string{"crew"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	at := httptest.NewServer(provider)
	defer at.Close()
	provider.Issuer = at.URL
	desk, err := signon.ParseRule("it-desk=work@Lerrick")
	if err != nil {
		t.Fatal(err)
	}
	s := newStage(t, bag.DefaultLimits, func(c *service.Config) {
		c.SignOn = &signon.Config{Issuer: at.URL, Client: "diorthos", Public: "http://127.0.0.1", Groups: []signon.Rule{desk}}
	})
	home := t.TempDir()
	here := func(args ...string) *exec.Cmd {
		cmd := exec.Command(binary, args...)
		cmd.Env = append(os.Environ(), "DIORTHOS_URL="+s.url, "HOME="+home, "XDG_CONFIG_HOME=", "DIORTHOS_TOKEN=")
		return cmd
	}
	if r := finish(t, here("cases")); r.status != 2 || !strings.Contains(r.errout, "sign in first") {
		t.Fatalf("status %d: %s", r.status, r.errout)
	}
	signIn := func(as string) result {
		cmd := here("sign-in")
		told, err := cmd.StderrPipe()
		if err != nil {
			t.Fatal(err)
		}
		var out strings.Builder
		cmd.Stdout = &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		text := ""
		for lines := bufio.NewScanner(told); lines.Scan(); {
			if text += lines.Text() + "\n"; !strings.HasPrefix(lines.Text(), "or open ") {
				continue
			}
			direct := strings.TrimPrefix(lines.Text(), "or open ")
			if code := regexp.MustCompile(`and type (\S+)`).FindStringSubmatch(text); code == nil ||
				!strings.HasSuffix(direct, code[1]) {
				t.Errorf("the code is not told twice:\n%s", text)
			}
			time.Sleep(1500 * time.Millisecond) // it has asked, and waits
			r, err := http.Get(direct + "&as=" + url.QueryEscape(as))
			if err != nil {
				t.Fatal(err)
			}
			_, _ = io.Copy(io.Discard, r.Body)
			_ = r.Body.Close()
		}
		_ = cmd.Wait()
		return result{cmd.ProcessState.ExitCode(), out.String(), text}
	}
	for as, why := range map[string]string{"nobody": "begin it again", "joren": "in no group"} {
		if r := signIn(as); r.status != 2 || !strings.Contains(r.errout, why) {
			t.Errorf("%s: status %d: %s%s", as, r.status, r.out, r.errout)
		}
	}
	if r := signIn("anna"); r.status != 0 || !strings.Contains(r.out, "as Anna Reff, work") ||
		!strings.Contains(r.out, "Until ") {
		t.Fatalf("status %d: %s%s", r.status, r.out, r.errout)
	}
	file := filepath.Join(home, ".config", "diorthos", "tokens.json")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v: who else reads the token? %v", info, err)
	}
	if r := finish(t, here("cases")); r.status != 0 || !strings.Contains(r.out, "No cases") {
		t.Errorf("status %d: %s%s", r.status, r.out, r.errout)
	}
	if r := finish(t, here("people")); r.status != 2 || !strings.Contains(r.errout, `yours is "work"`) {
		t.Errorf("status %d: %s%s", r.status, r.out, r.errout)
	}
	wants(t, s.must(0, "people"), "Anna Reff", "work, Lerrick", "single sign-on of a command line")
	kept, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if r := finish(t, here("sign-out")); r.status != 0 {
		t.Errorf("status %d: %s", r.status, r.errout)
	}
	if err := os.WriteFile(file, kept, 0o600); err != nil { // a copy that somebody kept
		t.Fatal(err)
	}
	if r := finish(t, here("cases")); r.status != 2 {
		t.Errorf("the token is good after signing out: %s", r.out)
	}

	given := filepath.Join(t.TempDir(), "token.txt")
	if err := os.WriteFile(given, []byte(s.token+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := finish(t, here("sign-in", "--token-file", given)); r.status != 0 ||
		!strings.Contains(r.out, "as Ragna Holm, administer") {
		t.Errorf("status %d: %s%s", r.status, r.out, r.errout)
	}
	if r := finish(t, here("sign-out")); r.status != 0 {
		t.Errorf("status %d: %s", r.status, r.errout)
	}
	s.must(0, "people") // its token was given by hand, and is used elsewhere too
	if r := finish(t, here("sign-out")); r.status != 2 || !strings.Contains(r.errout, "nobody is signed in") {
		t.Errorf("status %d: %s", r.status, r.errout)
	}
	wrong := here("sign-in", "--token-file", "-")
	wrong.Stdin = strings.NewReader("no-token-of-ours\n")
	if r := finish(t, wrong); r.status != 2 || !strings.Contains(r.errout, "sign in first") {
		t.Errorf("status %d: %s%s", r.status, r.out, r.errout)
	}
}
