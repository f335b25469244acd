package debian

import (
	"strings"
	"testing"
)

// What is made again is what was meant, with nothing asked and a person's files kept; whatever else a command may say,
// it is not run.
func TestOnlyCommandsOfPackagesAreMadeAgain(t *testing.T) {
	const flags = " -y -q -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold -o Dpkg::Use-Pty=0"
	for _, c := range []struct{ command, want string }{
		{
			"apt-get install -y /repo/skerrow-timetable_3.1_all.deb",
			"apt-get install" + flags + " /repo/skerrow-timetable_3.1_all.deb",
		},
		{"sudo apt upgrade", "apt-get upgrade" + flags + " --with-new-pkgs"},
		{
			"/usr/bin/apt-get -qy -t bookworm-backports install foo=1:2.0-3",
			"apt-get install" + flags + " -t bookworm-backports foo=1:2.0-3",
		},
		{"apt reinstall libc6:amd64", "apt-get install --reinstall" + flags + " libc6:amd64"},
		{
			"apt-get -y -o Dpkg::Progress-Fancy=0 dist-upgrade",
			"apt-get dist-upgrade" + flags + " -o Dpkg::Progress-Fancy=0",
		},
		{"apt-get -f -y install", "apt-get install" + flags + " -f"},
		{
			"dpkg -i /srv/skerrow-deck_1.0_all.deb",
			"dpkg --force-confdef --force-confold -i /srv/skerrow-deck_1.0_all.deb",
		},
		{"dpkg --configure -a", "dpkg --force-confdef --force-confold --configure -a"},

		{"", "!does not say what was run"},
		{"debootstrap bookworm /mnt", "!only commands of apt and dpkg"},
		{"apt-get", "!does not say what apt was to do"},
		{"apt-get source less", "!is not made again"},
		{"apt-get install ./skerrow-deck_1.0_all.deb", "!not told where"},
		{"apt-get install /repo/../etc/x.deb", "!not told where"},
		{"apt-get -o DPkg::Pre-Invoke::=/bin/sh install less", `!"-o DPkg::Pre-Invoke::=/bin/sh"`},
		{"apt-get -oApt::Update::Post-Invoke::=reboot update", "!is not made again"},
		{"apt-get -o Dpkg::Options::=--root=/ install less", "!is not made again"},
		{"apt-get install less;reboot", "!not told where"},
		{"apt-get install $(reboot)", "!not told where"},
		{"apt-get --allow-unauthenticated install less", "!is not made again"},
		{"dpkg --root=/mnt -i /repo/a.deb", "!not told"},
		{"dpkg -i a.deb", "!not told where"},
		{"dpkg --post-invoke=reboot -i /repo/a.deb", "!not told"},
		{"apt-get -o APT::Get::AllowUnauthenticated=true install less", "!is not made again"},
		{"apt-get -o Acquire::Check-Valid-Until=no update", "!is not made again"},
		{"dpkg-reconfigure tzdata", "!only commands of apt and dpkg"},
		{
			"apt-get -o Dpkg::Options::=--force-confnew -o Dpkg::Use-Pty=1 upgrade",
			"apt-get upgrade" + flags + " -o Dpkg::Options::=--force-confnew -o Dpkg::Use-Pty=1",
		},
	} {
		args, err := commandAgain(c.command)
		got := strings.Join(args, " ")
		if err != nil {
			got = "!" + err.Error()
		}
		if reason, refused := strings.CutPrefix(c.want, "!"); refused && (err == nil || !strings.Contains(got, reason)) ||
			!refused && got != c.want {
			t.Errorf("%q:\n got %s\nwant %s", c.command, got, c.want)
		}
	}
}
