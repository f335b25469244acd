package debian

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"diorthos/core/system"
	"diorthos/core/units"
)

// TryAgain makes the command of an attempt that failed again, as a person would, on the draft. Only commands of apt
// and dpkg are, with the options that are known here: a command is evidence, and may say anything.
func (n *inner) TryAgain(ctx context.Context, command string, o system.ToolOptions) (t system.Trial, err error) {
	t = system.Trial{Command: command, Outcome: system.NotMade}
	args, err := commandAgain(command)
	if err != nil {
		t.Why = err.Error()
		return t, nil
	}
	err = n.within(ctx, func(in system.Inside) error {
		w := &worker{n: n, in: in, network: o.Network, say: o.Say}
		if w.say == nil {
			w.say = func(string) {}
		}
		return w.tryAgain(ctx, args, &t)
	})
	return t, err
}

func (w *worker) tryAgain(ctx context.Context, args []string, t *system.Trial) error {
	remote := w.remoteSources()
	fetches := args[0] == "apt-get" && remote
	switch {
	case fetches && !w.network && args[1] == "update":
		t.Why = "its sources are reached over a network, which was not allowed (--network)"
		return nil
	case fetches && !w.network:
		args = slices.Insert(slices.Clone(args), 1, "--no-download")
	case args[0] == "dpkg":
		for _, a := range args[1:] {
			if strings.HasPrefix(a, "/") && !w.isThere(a) {
				t.Why = a + " is not on the machine any more"
				return nil
			}
		}
	}
	out, err := w.run(ctx, args...)
	if err != nil {
		return err
	}
	if out.Status != 0 && w.packagesLack(out.Text) {
		t.Why = "package files that it takes are not at hand: let it use the network (--network), or put them in " +
			"/" + cacheFolder
		return nil
	}
	short, err := w.shortOfRoom()
	if err != nil {
		return err
	}
	switch {
	case out.Status == -1:
		t.Why = fmt.Sprintf("it was not done after %s", longestTool)
		return nil
	case short != "":
		t.Outcome, t.Why = system.StillFails, short
		return nil
	case out.Status != 0 && strings.Contains(out.Text, "No space left on device") && w.n.tree != nil:
		t.Why = "there is not enough memory on this computer for a copy on which it could be made"
		return nil
	case out.Status != 0 || args[1] == "update" && listsNotFetched.MatchString(out.Text):
		t.Outcome, t.Why = system.StillFails, reason(out.Text)
		return nil
	}
	t.Outcome = system.GoesThrough
	return nil
}

// goesOn are lines that say how far dpkg has come, and nothing of what failed.
var goesOn = regexp.MustCompile(
	`^(?:Setting up|Unpacking|Preparing to unpack|Selecting|Processing triggers|\(Reading|Removing|Purging) `,
)

// reason is why dpkg gave up, in the words of the program that it ran; or else what was said last.
func reason(text string) string {
	lines := strings.Split(text, "\n")
	at := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "dpkg: error processing ") })
	if at < 0 || at+1 == len(lines) {
		return lastWords(text)
	}
	declared := strings.TrimSpace(lines[at+1])
	if at == 0 || strings.TrimSpace(lines[at-1]) == "" || goesOn.MatchString(lines[at-1]) {
		return declared
	}
	return strings.TrimSpace(lines[at-1]) + " (" + declared + ")"
}

// shortOfRoom says which volume of a folder would be too full: the copy has room of its own.
func (w *worker) shortOfRoom() (string, error) {
	if w.n.tree == nil {
		return "", nil
	}
	for _, folder := range []string{".", "usr", "var", "boot", "etc", "opt", "tmp"} {
		free, err := w.in.Free(folder)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", err
		}
		if free < 0 {
			return fmt.Sprintf(
				"the volume of /%s is %s short of room for it",
				strings.TrimPrefix(folder, "."),
				units.FormatBytes(-free),
			), nil
		}
	}
	return "", nil
}

func (w *worker) isThere(name string) bool {
	_, err := fs.Stat(w.files(), strings.TrimPrefix(path.Clean(name), "/"))
	return err == nil
}

// packagesLack reports whether apt gave up because it had to fetch something and was not let.
func (w *worker) packagesLack(text string) bool {
	return !w.network && cannotFetch.MatchString(text)
}

var cannotFetch = regexp.MustCompile(`(?m)^E: (?:Unable to fetch some archives|Failed to fetch |Couldn't download)`)

// Words that commands of apt may hold.
var (
	packageWord = regexp.MustCompile(`^[a-z0-9][a-z0-9.+-]+(?::[a-z0-9-]+)?(?:[=/][A-Za-z0-9.+~:-]+)?[+-]?$`)
	fileWord    = regexp.MustCompile(`^/[A-Za-z0-9._+~%:/-]+\.deb$`)
	// aptSetting is one that changes what is asked and shown, or what is chosen; none that runs something, or that has apt
	// trust what is not signed.
	aptSetting = regexp.MustCompile(
		`^(?:APT::Get::(?:Assume-Yes|Fix-Broken|Fix-Missing|Reinstall|Upgrade|Only-Upgrade|Purge|AutomaticRemove|` +
			`Show-[A-Za-z-]+)|` +
			`APT::Install-(?:Recommends|Suggests)|APT::Color|Acquire::Retries|` +
			`D[Pp][Kk][Gg]::(?:Use-Pty|Progress-Fancy|Progress))=[A-Za-z0-9_.-]*$|^Dpkg::Options::=--force-conf[a-z]+$`,
	)
	releaseWord = regexp.MustCompile(`^[A-Za-z0-9./_=*-]+$`)
)

// aptFlags are options without a value that are passed on.
var aptFlags = []string{
	"-f", "--fix-broken", "--no-install-recommends", "--install-recommends", "--install-suggests", "--no-install-suggests",
	"--reinstall", "--only-upgrade", "--allow-downgrades", "--allow-change-held-packages", "--with-new-pkgs",
	"--without-new-pkgs", "--purge", "--auto-remove", "--autoremove", "--no-remove", "--ignore-hold", "--no-upgrade",
	"--allow-releaseinfo-change", "-m", "--fix-missing", "--ignore-missing", "--no-auto-remove",
}

// aptQuiet are options that say how much is asked and shown: it is never asked here.
var aptQuiet = []string{
	"-y", "--yes", "--assume-yes", "-q", "-qq", "-q=1", "-q=2", "--quiet", "-V", "-u",
	"--verbose-versions", "-yq", "-qy",
	"-yqq", "-qqy", "--show-progress", "-fy", "-yf",
}

// aptValued are options whose value is the next word.
var aptValued = []string{"-o", "--option", "-t", "--target-release", "--default-release"}

// aptVerbs are the words of apt for what apt-get does.
var aptVerbs = map[string][]string{
	"install": {"install"}, "reinstall": {"install", "--reinstall"}, "remove": {"remove"}, "purge": {"purge"},
	"upgrade": {"upgrade"}, "safe-upgrade": {"upgrade"}, "dist-upgrade": {"dist-upgrade"},
	"full-upgrade": {"dist-upgrade"},
	"autoremove":   {"autoremove"}, "auto-remove": {"autoremove"}, "autopurge": {"autoremove", "--purge"},
	"update": {"update"}, "build-dep": {"build-dep"},
}

var errOtherCommand = errors.New("only commands of apt and dpkg are made again")

// commandAgain reads a command as evidence has it, and returns the one to be run; its errors say why there is none.
func commandAgain(command string) ([]string, error) {
	words := strings.Fields(command)
	if len(words) == 0 {
		return nil, errors.New("the evidence does not say what was run")
	}
	if path.Base(words[0]) == "sudo" && len(words) > 1 {
		words = words[1:]
	}
	switch path.Base(words[0]) {
	case "apt", "apt-get":
		return aptAgain(path.Base(words[0]), words[1:])
	case "dpkg":
		return dpkgAgain(words[1:])
	}
	return nil, errOtherCommand
}

func aptAgain(program string, words []string) ([]string, error) {
	var verb, rest []string
	flags := []string{
		"-y", "-q", "-o", "Dpkg::Options::=--force-confdef", "-o", "Dpkg::Options::=--force-confold",
		"-o", "Dpkg::Use-Pty=0",
	}
	for i := 0; i < len(words); i++ {
		word := words[i]
		value := ""
		if slices.Contains(aptValued, word) && i+1 < len(words) {
			i++
			value = words[i]
		}
		option, joined := strings.CutPrefix(word, "-o")
		release, named := strings.CutPrefix(word, "--target-release=")
		switch {
		case (word == "-o" || word == "--option") && aptSetting.MatchString(value):
			flags = append(flags, "-o", value)
		case joined && aptSetting.MatchString(option):
			flags = append(flags, "-o", option)
		case (word == "-t" || strings.HasSuffix(word, "-release")) && releaseWord.MatchString(value):
			flags = append(flags, "-t", value)
		case named && releaseWord.MatchString(release):
			flags = append(flags, "-t", release)
		case slices.Contains(aptQuiet, word):
			if strings.Contains(word, "f") {
				flags = append(flags, "-f")
			}
		case slices.Contains(aptFlags, word):
			flags = append(flags, word)
		case strings.HasPrefix(word, "-"):
			return nil, fmt.Errorf("it is not made again with %q", strings.TrimSpace(word+" "+value))
		case verb == nil:
			known, ok := aptVerbs[word]
			if !ok {
				return nil, fmt.Errorf("%s %s is not made again", program, word)
			}
			if verb = known; program == "apt" && word == "upgrade" {
				flags = append(flags, "--with-new-pkgs")
			}
		case packageWord.MatchString(word) && path.Ext(word) != ".deb",
			fileWord.MatchString(word) && path.Clean(word) == word:
			rest = append(rest, word)
		default:
			return nil, fmt.Errorf("it is not told where %q is, or what it means", word)
		}
	}
	if verb == nil {
		return nil, errors.New("the evidence does not say what apt was to do")
	}
	return slices.Concat([]string{"apt-get"}, verb, flags, rest), nil
}

// dpkgAgain are the commands of dpkg that install, configure and take away.
func dpkgAgain(words []string) ([]string, error) {
	var verb string
	args := append([]string{"dpkg"}, confAnswers...)
	for _, word := range words {
		switch word {
		case "-i", "--install", "--unpack", "--configure", "-r", "--remove", "-P", "--purge":
			verb = word
			args = append(args, word)
			continue
		case "-a", "--pending", "-E", "-G", "--force-confold", "--force-confdef", "--force-confnew", "--force-depends",
			"--force-overwrite", "--force-downgrade":
			args = append(args, word)
			continue
		}
		if strings.HasPrefix(word, "-") ||
			!fileWord.MatchString(word) && (!packageWord.MatchString(word) || path.Ext(word) == ".deb") ||
			path.Clean(word) != word {
			return nil, fmt.Errorf("it is not told where %q is, or what it means", word)
		}
		args = append(args, word)
	}
	if verb == "" {
		return nil, errOtherCommand
	}
	return args, nil
}
