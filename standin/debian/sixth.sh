#!/bin/bash
# Provokes failures of a sixth draw, after the rules that the fifth had led to; each is scored once, as it comes.
# usage: sixth.sh --list | sixth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

sixth-symlink-target-gone() {
  label 'maintainer-script-failed' 'No such file or directory'
  quiet_day
  mkdir -p "$work/skerrow-crane/etc"; ln -s /opt/crane/settings "$work/skerrow-crane/etc/crane.conf"
  echo 'grep -q load /etc/crane.conf' | script_of skerrow-crane postinst
  deb skerrow-crane 1.0
  console "apt-get -y install /repo/skerrow-crane_1.0_all.deb"
}
sixth-sed-readonly-etc() {
  label 'volume-read-only|maintainer-script-failed' 'Read-only file system|No such file'
  quiet_day
  echo 'sed -i s/a/b/ /etc/hosts' | script_of skerrow-hosts postinst
  deb skerrow-hosts 1.0
  mount --bind "$root/etc" "$root/etc"; mount -o remount,ro,bind "$root/etc"
  console "dpkg -i /repo/skerrow-hosts_1.0_all.deb"
}
sixth-wrong-lists-suite() {
  label repository-wrong '404|does not have a Release file'
  quiet_day
  local mirror; mirror=$(mirror_of "$suite")
  echo "deb $mirror bookwrom main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
sixth-path-in-mirror-wrong() {
  label 'repository-wrong|download-failed' '404|does not have a Release file'
  quiet_day
  local mirror; mirror=$(mirror_of "$suite")
  echo "deb ${mirror%/}/nowhere $suite main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
sixth-gunzip-missing() {
  label 'maintainer-script-failed' 'gunzip|not found'
  quiet_day
  mv "$root/usr/bin/gunzip" "$root/usr/bin/gunzip.aside"
  echo 'echo | gzip | gunzip >/dev/null || exit 7' | script_of skerrow-pack postinst
  deb skerrow-pack 1.0
  console "apt-get -y install /repo/skerrow-pack_1.0_all.deb"
}
sixth-status-duplicate-field() {
  label package-database-damaged 'duplicate value|parsing'
  quiet_day; deb skerrow-tides 1.0
  sed -i '0,/^Status:/s//Status: install ok installed\nStatus:/' "$root/var/lib/dpkg/status"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
sixth-diversion-file-gone-dir() {
  label 'no-permission|path-is-no-folder|package-database-damaged' 'error'
  quiet_day; deb skerrow-tides 1.0
  rm -f "$root/var/lib/dpkg/lock"; mkdir -p "$root/var/lib/dpkg/lock"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
sixth-cpu-limit() {
  label 'script-killed|maintainer-script-failed|run-interrupted-by-signal' 'Killed|signal|CPU'
  quiet_day
  printf 'ulimit -t 1\nwhile :; do :; done\n' | script_of skerrow-turn postinst
  deb skerrow-turn 1.0
  console "apt-get -y install /repo/skerrow-turn_1.0_all.deb"
}
sixth-upgrade-two-providers() {
  label 'packages-conflict|unmet-dependencies|package-held' 'Conflicts|unmet dependencies'
  deb skerrow-mta-a 1.0 'Provides: skerrow-mta' 'Conflicts: skerrow-mta' 'Replaces: skerrow-mta'
  deb skerrow-mta-b 1.0 'Provides: skerrow-mta' 'Conflicts: skerrow-mta' 'Replaces: skerrow-mta'; repo
  console "apt-get update -qq; apt-get -y install skerrow-mta-a skerrow-mta-b"
}
sixth-pin-negative() {
  label 'package-not-known|version-not-available|unmet-dependencies|package-held' 'no installation candidate|Depends'
  deb skerrow-keel 1.0; deb skerrow-hull 1.0 'Depends: skerrow-keel'; repo
  printf 'Package: skerrow-keel\nPin: release *\nPin-Priority: -1\n' >"$root/etc/apt/preferences.d/no-keel"
  console "apt-get update -qq; apt-get -y install skerrow-hull"
}
sixth-postinst-https() {
  label maintainer-script-failed 'certificate|unable to get local issuer|SSL'
  quiet_day
  echo 'echo "fetching the chart"; echo "curl: (60) SSL certificate problem: unable to get local issuer certificate" >&2; exit 60' | script_of skerrow-chartsync postinst
  deb skerrow-chartsync 1.0
  console "apt-get -y install /repo/skerrow-chartsync_1.0_all.deb"
}
sixth-empty-deb-in-cache() {
  label 'package-file-damaged' 'unexpected end|E: |dpkg-deb: error'
  quiet_day
  : >"$root/repo/skerrow-none_1.0_all.deb"
  console "dpkg -i /repo/skerrow-none_1.0_all.deb"
}
sixth-retry-after-success() {
  label 'maintainer-script-failed' 'second berth is closed'
  quiet_day
  echo 'echo "the second berth is closed"; exit 4' | script_of skerrow-second postinst
  deb skerrow-first 1.0; deb skerrow-second 1.0
  console "apt-get -y install /repo/skerrow-first_1.0_all.deb && apt-get -y install /repo/skerrow-second_1.0_all.deb"
}
sixth-locale-broken-perl() {
  label 'maintainer-script-failed' 'lights: no such harbour'
  quiet_day
  mkdir -p "$work/skerrow-perl/DEBIAN"; printf '#!/usr/bin/perl\nwarn "perl: warning: Setting locale failed.\\n";\ndie "lights: no such harbour\\n";\n' >"$work/skerrow-perl/DEBIAN/postinst"; chmod 755 "$work/skerrow-perl/DEBIAN/postinst"
  deb skerrow-perl 1.0
  console "apt-get -y install /repo/skerrow-perl_1.0_all.deb"
}

run "$@"
