package debian

import (
	"io/fs"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
)

// What decides on who may sign in is followed as the system's own library follows it: what would refuse everybody is
// told, what people wrote or left out is not.
func TestWhatKeepsPeopleFromSigningInIsTold(t *testing.T) {
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text), Mode: 0o644} }
	run := func() *fstest.MapFile { return &fstest.MapFile{Data: []byte("\x7fELF"), Mode: 0o755} }
	sound := fstest.MapFS{
		"usr/bin/login": run(), "usr/bin/bash": run(), "usr/lib/x86_64-linux-gnu/security/pam_unix.so": run(),
		"usr/lib/x86_64-linux-gnu/security/pam_deny.so": run(), "usr/lib/x86_64-linux-gnu/security/pam_nologin.so": run(),
		"etc/pam.d/login": file("# who\nauth requisite pam_nologin.so\nauth optional pam_gone.so\n" +
			"session [success=ok module_unknown=ignore default=bad] pam_selinux.so close\n@include common-auth\n" +
			"@include common-account\n-auth required pam_of_another.so\n"),
		"etc/pam.d/common-auth":    file("auth [success=1 default=ignore] pam_unix.so nullok\nauth requisite pam_deny.so\n"),
		"etc/pam.d/common-account": file("account \\\n required pam_unix.so\n"),
		"etc/pam.d/other":          file("@include common-auth\n@include common-account\n"),
		"etc/passwd": file("root:x:0:0:root:/root:/usr/bin/bash\ndaemon:x:1:1::/:/usr/sbin/nologin\n" +
			"bosun:x:1000:1000::/home/bosun:\nsync:x:4:65534::/bin:/bin/sync\n"),
		"etc/shadow": file("root:$y$j9T$a$b:1:0:::::\ndaemon:*:1:::::\nbosun:$y$c:1:::::\nsync:!:1:::::\n"),
		"var/lib/dpkg/status": file("Package: login\nStatus: install ok installed\nVersion: 1\nArchitecture: amd64\n" +
			"Conffiles:\n /etc/login.defs 5afbc06eb5f71fef25170cf3c936a442\n /etc/empty d41d8cd98f00b204e9800998ecf8427e\n" +
			" /etc/cron.d/beacon 5afbc06eb5f71fef25170cf3c936a442\n /etc/gone 5afbc06eb5f71fef25170cf3c936a442\n" +
			" /etc/old 5afbc06eb5f71fef25170cf3c936a442 obsolete\n"),
		"var/lib/pam/seen": file("unix\n"),
		"etc/login.defs":   file("what a person wrote\n"), "etc/empty": file(""), "etc/cron.d/beacon": file(""),
		"etc/old": file(""),
	}
	const auth, account = "etc/pam.d/common-auth", "etc/pam.d/common-account"
	put := func(name, text string) func(fstest.MapFS) { return func(m fstest.MapFS) { m[name] = file(text) } }
	gone := func(names ...string) func(fstest.MapFS) {
		return func(m fstest.MapFS) {
			for _, name := range names {
				delete(m, name)
			}
		}
	}
	for name, c := range map[string]struct {
		change func(fstest.MapFS)
		file   string // of the flaw; none where nothing is one
		says   string
		tool   bool // it can be made anew
	}{
		"sound":               {gone(), "", "", false},
		"the service is gone": {gone("etc/pam.d/login"), "", "", false}, // other stands in
		"both are gone":       {gone("etc/pam.d/login", "etc/pam.d/other"), "etc/pam.d/other", "not there", false},
		"the list is empty":   {put(auth, ""), auth, "empty", true},
		"all is a remark":     {put(account, "# none\n"), account, "names no module", true},
		"the list is zeros":   {put(auth, "\x00\x00\x00"), auth, "zeros", true},
		"the list is gone":    {gone(account), account, "includes it", true},
		"never set up":        {gone(account, "var/lib/pam/seen"), "", "", false},
		"a module is gone":    {gone("usr/lib/x86_64-linux-gnu/security/pam_unix.so"), auth, "pam_unix.so, which", true},
		"the shell is gone":   {gone("usr/bin/bash"), "etc/passwd", "root cannot sign in", false},
		"nobody may run it":   {put("usr/bin/bash", "x"), "etc/passwd", "may not be run", false},
		"a file is zeros":     {put("etc/login.defs", "\x00\x00"), "etc/login.defs", "full of zeros", false},
		"a file is empty":     {put("etc/login.defs", ""), "etc/login.defs", "it is empty", false},
		"a folder is in its place": {func(m fstest.MapFS) {
			delete(m, "etc/login.defs")
			m["etc/login.defs/x"] = file("")
		}, "etc/login.defs", "it is a folder", false},
		"a link to nowhere": {func(m fstest.MapFS) {
			m["etc/login.defs"] = &fstest.MapFile{Data: []byte("nowhere/login.defs"), Mode: fs.ModeSymlink | 0o777}
		}, "etc/login.defs", "leads nowhere", false},
		"switched off": {func(m fstest.MapFS) {
			m["etc/login.defs"] = &fstest.MapFile{Data: []byte("/dev/null"), Mode: fs.ModeSymlink | 0o777}
		}, "", "", false},
		"mounts": {put("etc/fstab", "# <file system>\n\nUUID=1 / ext4\nUUID=2 /home ext4 defaults 0 2\n"), "", "", false},
		"mounts cut off": {
			put("etc/fstab", "UUID=1 / ext4 defaults 0 1\nUUID=9c2 /ho"), "etc/fstab", "line 2 is no entry", false,
		},
		"no sign-in at screen": {gone("usr/bin/login", auth, "usr/bin/bash"), "", "", false},
	} {
		root := maps.Clone(sound)
		c.change(root)
		n := &inner{fsys: root}
		var found []flaw
		for _, look := range []func(*inner, fs.FS) []flaw{lookAtSignIn, lookAtConffiles, lookAtShells, lookAtMountTable} {
			found = append(found, look(n, root)...)
		}
		if c.file == "" {
			if len(found) > 0 {
				t.Errorf("%s: %+v", name, found)
			}
			continue
		}
		i := slices.IndexFunc(found, func(f flaw) bool { return f.File == c.file && strings.Contains(f.Text, c.says) })
		if i < 0 || found[i].mendable() != c.tool {
			t.Errorf("%s: want %s: %s; got %+v", name, c.file, c.says, found)
		}
	}
}
