package cli

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
)

// leaves are the commands that do something, by the words that name them.
func leaves(list []*cli.Command, path ...string) map[string]*cli.Command {
	found := map[string]*cli.Command{}
	for _, c := range list {
		at := append(append([]string{}, path...), c.Name)
		for name, leaf := range leaves(c.Commands, at...) {
			found[name] = leaf
		}
		if len(c.Commands) == 0 {
			found[strings.Join(at, " ")] = c
		}
	}
	return found
}

// waits are the commands that may wait for what comes, and streams those that read a log as long as it comes.
var (
	waits   = map[string]bool{"agent run": true, "agent many": true, "sign-in": true, "rehearse": true}
	streams = map[string]bool{"read": true, "knowledge infer": true, "knowledge try": true}
)

// No command waits for ever on what is no file, falls over what makes no sense, sends a terminal what was in it, or
// takes an argument of which it knows nothing.
func TestNoCommandFallsOverWhatItIsGiven(t *testing.T) {
	t.Setenv("DIORTHOS_URL", "http://127.0.0.1:1")
	t.Setenv("DIORTHOS_TOKEN", "none")
	t.Setenv("HOME", t.TempDir())
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	pipe, turning, noise := at("pipe"), at("loop"), at("noise.img")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("loop", turning); err != nil {
		t.Fatal(err)
	}
	bytesOf := bytes.Repeat([]byte("\x00\xff\x1b[31m: - {\n\x9b2J"), 1<<13)
	if err := os.WriteFile(noise, bytesOf, 0o600); err != nil {
		t.Fatal(err)
	}
	given := map[string]string{
		"a pipe": pipe, "no end": "/dev/zero", "a link to itself": turning, "noise": noise, "a folder": dir,
		"nothing": "", "no number": "-1", "colours": at("\x1b[31mred\u202e"),
		"a number out of bounds": "99999999999999999999",
	}
	commands := leaves(root(nil, io.Discard, io.Discard, nil).Commands)
	if len(commands) < 60 {
		t.Fatalf("%d commands were found", len(commands))
	}
	for name, c := range commands {
		if waits[name] {
			continue
		}
		for what, arg := range given {
			if streams[name] && (arg == pipe || arg == "/dev/zero") {
				continue
			}
			for n := 1; n <= 1 || n <= 3 && what == "noise"; n++ {
				line := append([]string{"diorthos"}, strings.Fields(name)...)
				line = append(append(line, "--"), strings.Split(strings.Repeat(arg+"\n", n), "\n")[:n]...)
				var out, problems bytes.Buffer
				status := make(chan int, 1)
				go func() { status <- Run(t.Context(), line, strings.NewReader(""), &out, &problems) }()
				select {
				case <-time.After(time.Minute):
					t.Fatalf("%s, %s: it waits for ever", name, what)
				case s := <-status:
					said := out.String() + problems.String()
					if strings.ContainsAny(said, "\x1b\u202e\u009b") || !utf8.ValidString(said) || strings.Contains(said, "%!") {
						t.Errorf("%s, %s: it says %q", name, what, said)
					}
					if s == 2 && strings.Count(problems.String(), "\n") != 1 {
						t.Errorf("%s, %s: no one line: %s", name, what, problems.String())
					}
					if s != 2 && c.ArgsUsage == "" {
						t.Errorf("%s, %s: status %d with an argument of which it knows nothing", name, what, s)
					}
				}
			}
		}
	}
}

// A list of commands names each of them once, and a command each of its flags.
func TestNothingIsListedTwice(t *testing.T) {
	var look func(list []*cli.Command, path string)
	look = func(list []*cli.Command, path string) {
		seen := map[string]bool{}
		for _, c := range list {
			at := path + " " + c.Name
			if seen[c.Name] {
				t.Errorf("%s is there twice", at)
			}
			seen[c.Name] = true
			flags := map[string]bool{}
			for _, f := range c.Flags {
				for _, name := range f.Names() {
					if flags[name] {
						t.Errorf("%s --%s is there twice", at, name)
					}
					flags[name] = true
				}
			}
			look(c.Commands, at)
		}
	}
	look(root(nil, io.Discard, io.Discard, nil).Commands, "diorthos")
}
