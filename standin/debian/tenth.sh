#!/bin/bash
# Provokes failures of a tenth draw, after the rules that the ninth had led to; each is scored once, as it comes.
# usage: tenth.sh --list | tenth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

tried_package=skerrow-fender tried_version=5.1 # what script_says makes

tenth-adduser-home() {
  label 'maintainer-script-failed|account-in-the-way|directory-in-the-way|path-is-no-folder' "create home"
  with_packages adduser; echo x >"$root/srv/fender"; script_says 'adduser --system --home /srv/fender/home fender'
}
tenth-two-lines-reason() {
  label maintainer-script-failed 'tide table for 2027'
  script_says 'echo "fender: reading tables" >&2' 'echo "fender: the tide table for 2027 has not been published" >&2' 'echo "fender: nothing was changed" >&2' 'exit 6'
}
tenth-sources-option() {
  label 'sources-malformed|setting-not-understood' 'Malformed|E: '
  quiet_day; echo 'deb [arch=amd64 signed-by] http://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update"
}
tenth-auth-wrong() {
  label 'repository-wants-sign-in|repository-forbidden' '401|403|Unauthorized'
  quiet_day; answers '401 Unauthorized' 'WWW-Authenticate: Basic realm="skerrow"'; mkdir -p "$root/etc/apt/auth.conf.d"
  printf 'machine 127.0.0.1:%s login deck password old\n' "$port" >"$root/etc/apt/auth.conf.d/skerrow.conf"; console "apt-get update"
}
tenth-index-html() {
  label 'sign-in-page-instead-of-list|download-altered|package-lists-damaged|repository-wrong|download-failed' 'Clearsigned|NOSPLIT|Hash|Err|Failed|E: '
  quiet_day; listens 'my $l = <$c>; while (<$c>) { last if /^\r?\n$/ } my $b = "<html><title>Log on</title></html>"; print $c "HTTP/1.1 200 OK\r\nContent-Length: ".length($b)."\r\nContent-Type: text/html\r\nConnection: close\r\n\r\n$b"; close $c'
  sed -i 's/^deb /deb [trusted=yes] /' "$root/etc/apt/sources.list"; console "apt-get update"
}
tenth-deb-half-fetched() {
  label 'package-file-damaged|download-altered|download-failed' 'unexpected end|Hash Sum|size|damaged|Failed|E: '
  mkdir -p "$work/skerrow-fender/usr/share/fender"; filled "$work/skerrow-fender/usr/share/fender/chart" 300; deb skerrow-fender 5.1; repo; truncate -s 100000 "$root/repo/skerrow-fender_5.1_all.deb"
  console "apt-get update -qq; apt-get -y install skerrow-fender"
}
tenth-depends-version() {
  label 'unmet-dependencies' 'Depends:'
  deb skerrow-rope 1.0; deb skerrow-fender 5.1 'Depends: skerrow-rope (>= 2.0)'; repo; console "apt-get update -qq; apt-get -y install skerrow-fender"
}
tenth-breaks-installed() {
  label 'package-breaks|unmet-dependencies|packages-conflict|package-breaks-another' 'Breaks|break'
  deb skerrow-rope 1.0; have skerrow-rope_1.0_all.deb; inside apt-mark hold skerrow-rope >/dev/null; deb skerrow-fender 5.1 'Breaks: skerrow-rope (<< 2.0)'; repo
  console "apt-get update -qq; apt-get -y install skerrow-fender"
}
tenth-purge-fails() {
  label maintainer-script-failed 'cannot forget'
  printf '[ "$1" != purge ] || { echo "fender: cannot forget 12 mooring lines" >&2; exit 4; }\n' | script_of skerrow-fender postrm; deb skerrow-fender 5.1; have skerrow-fender_5.1_all.deb
  console "apt-get -y purge skerrow-fender"
}
tenth-trigger-script() {
  label 'trigger-failed|maintainer-script-failed' 'gauge 3'
  mkdir -p "$work/skerrow-gauge/DEBIAN" "$work/skerrow-fender/usr/share/gauges"; echo 'interest-noawait /usr/share/gauges' >"$work/skerrow-gauge/DEBIAN/triggers"
  printf '[ "$1" != triggered ] || { echo "gauge 3 reads below its bottom" >&2; exit 2; }\n' | script_of skerrow-gauge postinst; deb skerrow-gauge 1.0; have skerrow-gauge_1.0_all.deb
  echo 1 >"$work/skerrow-fender/usr/share/gauges/a"; deb skerrow-fender 5.1; console "apt-get -y install /repo/skerrow-fender_5.1_all.deb"
}
tenth-etc-immutable() {
  label 'file-immutable|no-permission|volume-read-only' 'Operation not permitted|Read-only'
  quiet_day; mkdir -p "$work/skerrow-fender/etc/fender"; echo a >"$work/skerrow-fender/etc/fender/a"; deb skerrow-fender 5.1
  mkdir -p "$root/etc/fender"; mount -t tmpfs tmpfs "$root/etc/fender"; chattr +i "$root/etc/fender" 2>/dev/null || mount -o remount,ro "$root/etc/fender"
  console "dpkg -i /repo/skerrow-fender_5.1_all.deb"
}
tenth-perl-module() {
  label 'maintainer-script-failed|package-tool-missing|library-missing|script-needs-a-program' "Can't locate"
  quiet_day; mv "$root/usr/share/perl5/Debconf" "$root/var/tmp/"; mkdir -p "$work/skerrow-fender/DEBIAN"; printf 'Template: skerrow/berth\nType: string\nDescription: Berth\n' >"$work/skerrow-fender/DEBIAN/templates"
  printf '. /usr/share/debconf/confmodule\ndb_get skerrow/berth\n' | script_of skerrow-fender postinst; deb skerrow-fender 5.1; console "dpkg -i /repo/skerrow-fender_5.1_all.deb"
}
tenth-status-binary() {
  label 'package-database-damaged' 'status|database'
  quiet_day; deb skerrow-fender 5.1; head -c 2000 /dev/urandom >>"$root/var/lib/dpkg/status"; console "dpkg -i /repo/skerrow-fender_5.1_all.deb"
}
tenth-systemd-tmpfiles() {
  label 'maintainer-script-failed|account-missing' 'nknown user|Failed to resolve'
  with_packages systemd-standalone-tmpfiles; script_says 'mkdir -p /usr/lib/tmpfiles.d; echo "d /run/fender 0755 harbourmaster harbourmaster" >/usr/lib/tmpfiles.d/fender.conf' 'systemd-tmpfiles --create /usr/lib/tmpfiles.d/fender.conf'
}
tenth-git-clone() {
  label maintainer-script-failed 'fatal:'
  with_packages git; script_says 'git clone -q /srv/charts.git /srv/charts'
}
tenth-openssl-cert() {
  label maintainer-script-failed 'Could not|unable|error|No such'
  with_packages openssl; script_says 'openssl x509 -in /etc/fender/berth.pem -noout -enddate'
}
tenth-lists-owner() {
  label 'no-permission|tool-folder-missing|lists-unwritable' 'Permission denied|ermission'
  quiet_day; inside useradd -m deckhand; console "su deckhand -s /bin/sh -c 'PATH=/usr/sbin:/usr/bin:/sbin:/bin apt-get update'"
}
tenth-python-venv() {
  label maintainer-script-failed 'No module named|ensurepip|Error'
  with_packages python3-minimal; script_says 'python3 -m venv /opt/fender'
}

run "$@"
