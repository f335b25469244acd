package media

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// gpg runs GnuPG in a home of its own, which is made when it is first needed.
func gpg(t *testing.T, home string, args ...string) []byte {
	t.Helper()
	cmd := exec.Command("gpg", append([]string{
		"--batch", "--quiet", "--homedir", home, "--passphrase", "", "--pinentry-mode", "loopback",
	}, args...)...)
	var problems bytes.Buffer
	cmd.Stderr = &problems
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("gpg %s: %v\n%s", strings.Join(args, " "), err, &problems)
	}
	return out
}

// Signatures and keyrings are GnuPG's; what it calls good is good here, and
// nothing else is.
func TestSignaturesAreJudgedAsTheyWereMade(t *testing.T) {
	home, err := os.MkdirTemp("", "gpg") // its socket allows only a short path
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run()
		_ = os.RemoveAll(home)
	})
	const (
		vendor = "Skerrow Media <media@skerrow.example>"
		other  = "Somebody <else@skerrow.example>"
		old    = "Old Key <old@skerrow.example>"
	)
	gpg(t, home, "--quick-generate-key", vendor, "ed25519", "sign", "never")
	gpg(t, home, "--quick-generate-key", other, "rsa3072", "sign", "never")
	gpg(t, home, "--faked-system-time", "20200101T000000", "--quick-generate-key", old, "ed25519", "sign", "30d")
	sums := filepath.Join(t.TempDir(), "SHA256SUMS")
	body := []byte("0123  skerrow-install.iso\n")
	if err := os.WriteFile(sums, body, 0o600); err != nil {
		t.Fatal(err)
	}
	sign := func(by string, extra ...string) []byte {
		return gpg(t, home, append(extra, "--local-user", by, "--output", "-", "--detach-sign", sums)...)
	}
	plain, armoured := gpg(t, home, "--export", vendor, old), gpg(t, home, "--armor", "--export", vendor)
	now := time.Now().Add(time.Minute) // when all have been made
	good := sign(vendor)
	for name, c := range map[string]struct {
		signed, signature, keys []byte
		now                     time.Time
		good                    bool
		says                    string
	}{
		"as signed":               {body, good, plain, now, true, "good, by " + vendor},
		"all of it in armour":     {body, sign(vendor, "--armor"), armoured, now, true, "good, by " + vendor},
		"a byte is another":       {[]byte("1123  skerrow-install.iso\n"), good, plain, now, false, "bad: "},
		"cut off":                 {body[:len(body)-1], good, plain, now, false, "bad: "},
		"by somebody else":        {body, sign(other), plain, now, false, "not in the keyring"},
		"the clock is far behind": {body, good, plain, now.AddDate(-3, 0, 0), false, "by this machine's clock"},
		"by a key that has gone":  {body, sign(old, "--faked-system-time", "20200110T000000"), plain, now, false, "expired"},
		"of a day that is to come": {
			body, sign(vendor, "--default-sig-expire", "2d"), plain, now.AddDate(0, 0, 9), false, "expired",
		},
	} {
		s, err := CheckSignature(bytes.NewReader(c.signed), bytes.NewReader(c.signature), bytes.NewReader(c.keys), c.now)
		if err != nil || s.Good != c.good || !strings.Contains(s.Text, c.says) {
			t.Errorf("%s: %+v, %v", name, s, err)
		}
		if c.good && (len(s.Fingerprint) != 40 || s.Made.IsZero() || s.Signer != vendor) {
			t.Errorf("%s: %+v", name, s)
		}
	}
	for name, c := range map[string][2][]byte{
		"no signature": {[]byte("no signature"), plain},
		"no keys":      {good, []byte("no keys")},
		"empty":        {nil, nil},
	} {
		if s, err := CheckSignature(bytes.NewReader(body), bytes.NewReader(c[0]), bytes.NewReader(c[1]), now); err == nil {
			t.Errorf("%s: %+v", name, s)
		}
	}
}
