#!/bin/bash
# Provokes failures of a fourth draw, after the rules that the third had led to; each is scored once, as it comes.
# usage: fourth.sh --list | fourth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

fourth-openfiles-script() {
  label 'too-many-open-files|maintainer-script-failed' 'Too many open files'
  quiet_day
  printf 'echo "opening the gates"\nulimit -n 20\nperl -e '"'"'for (1..40) { open(my $f, "<", "/etc/passwd") or die "gate $_: $!\\n"; push @x, $f }'"'"'\n' | script_of skerrow-gates postinst
  deb skerrow-gates 1.0
  console "apt-get -y install /repo/skerrow-gates_1.0_all.deb"
}
fourth-script-permission() {
  label 'maintainer-script-failed|no-permission|file-immutable' 'Operation not permitted|Permission denied'
  quiet_day
  echo 'echo 1 >/etc/skerrow/tide.conf' | script_of skerrow-tide postinst
  deb skerrow-tide 1.0
  mkdir -p "$root/etc/skerrow"; echo 0 >"$root/etc/skerrow/tide.conf"; chattr +i "$root/etc/skerrow/tide.conf" 2>/dev/null || mount --bind -o ro "$root/etc/skerrow" "$root/etc/skerrow"
  console "apt-get -y install /repo/skerrow-tide_1.0_all.deb"
  chattr -i "$root/etc/skerrow/tide.conf" 2>/dev/null || true
}
fourth-two-sources-one-down() {
  label repository-unreachable 'Could not connect|Connection refused|Unable to connect'
  quiet_day; deb skerrow-tides 1.0; repo
  echo 'deb [trusted=yes] http://127.0.0.1:11/debian bookworm main' >>"$root/etc/apt/sources.list"
  console "apt-get update"
}
fourth-release-upgrade-dep() {
  label 'unmet-dependencies|package-breaks-another|packages-conflict' 'unmet dependencies|Breaks|pkgProblemResolver'
  deb skerrow-core 1.0; have skerrow-core_1.0_all.deb
  deb skerrow-ui 2.0 'Breaks: skerrow-core (<< 2.0)' 'Depends: skerrow-core'; repo
  console "apt-get update -qq; apt-get -y install skerrow-ui"
}
fourth-essential-removed() {
  label 'essential-removal-refused|unmet-dependencies' 'ssential|unmet dependencies'
  quiet_day
  console "apt-get -y remove dpkg"
}
fourth-list-bad-option() {
  label sources-malformed 'Malformed|E: '
  quiet_day
  echo 'deb [arch=amd64 http://packages.skerrow.example/ bookworm main' >"$root/etc/apt/sources.list"
  console "apt-get update"
}
fourth-conffile-own() {
  label configuration-prompt 'Y/I/N/O/D/Z|end of file'
  mkdir -p "$work/skerrow-bell/etc/skerrow"; echo one >"$work/skerrow-bell/etc/skerrow/bell.conf"; mkdir -p "$work/skerrow-bell/DEBIAN"; echo /etc/skerrow/bell.conf >"$work/skerrow-bell/DEBIAN/conffiles"
  deb skerrow-bell 1.0; have skerrow-bell_1.0_all.deb
  echo mine >"$root/etc/skerrow/bell.conf"
  echo two >"$work/skerrow-bell/etc/skerrow/bell.conf"; deb skerrow-bell 2.0
  console "apt-get -y install /repo/skerrow-bell_2.0_all.deb </dev/null"
}
fourth-no-such-file-deb() {
  label 'package-not-known|package-file-damaged' 'No such file|nsupported file'
  quiet_day
  console "apt-get -y install ./skerrow-missing_1.0_all.deb"
}
fourth-deb-cut() {
  label package-file-damaged 'unexpected end|truncated|error|E: '
  quiet_day
  mkdir -p "$work/skerrow-tides/usr/share/t"; filled "$work/skerrow-tides/usr/share/t/a" 300
  deb skerrow-tides 1.0
  truncate -s 90000 "$root/repo/skerrow-tides_1.0_all.deb"
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
fourth-postinst-curl() {
  label maintainer-script-failed 'cannot reach the fare server'
  quiet_day
  printf 'echo "asking for fares"\necho "E123: cannot reach the fare server fares.skerrow.example: timed out"\nexit 28\n' | script_of skerrow-fares postinst
  deb skerrow-fares 1.0
  console "apt-get -y install /repo/skerrow-fares_1.0_all.deb"
}
fourth-diverted-away() {
  label 'maintainer-script-failed|diversion-clash' 'dpkg-divert'
  quiet_day
  echo 'dpkg-divert --package skerrow-b --rename --divert /usr/bin/x.b --add /usr/bin/x' | script_of skerrow-b preinst
  deb skerrow-b 1.0
  inside dpkg-divert --package skerrow-a --divert /usr/bin/x.a --add /usr/bin/x >/dev/null 2>&1
  console "apt-get -y install /repo/skerrow-b_1.0_all.deb"
}

run "$@"
