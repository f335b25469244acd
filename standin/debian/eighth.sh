#!/bin/bash
# Provokes failures of an eighth draw, after the rules that the seventh had led to; each is scored once, as it comes.
# usage: eighth.sh --list | eighth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

tried_package=skerrow-winch tried_version=1.4 # what script_says makes

eighth-script-unset() { label maintainer-script-failed 'parameter not set'; script_says 'set -u' 'echo "winch at $WINCH_PORT"'; }
eighth-script-syntax() { label 'maintainer-script-failed|script-not-valid|script-unrunnable' 'yntax error'; script_says 'if true; then' 'echo rope' 'fi' 'fi'; }
eighth-script-python() {
  label maintainer-script-failed "KeyError"; with_packages python3-minimal
  script_says "python3 -c 'ropes = {}; print(ropes[\"aft\"])'"
}
eighth-script-awk() { label maintainer-script-failed 'division by zero'; script_says "echo 4 0 | awk '{ print \$1 / \$2 }'"; }
eighth-script-systemctl() { label 'script-needs-a-program|maintainer-script-failed' 'systemctl'; script_says 'systemctl enable winch.service'; }
eighth-script-mount() { label maintainer-script-failed "can't find|mount:"; script_says 'mount UUID=0d1f-77aa /srv'; }
eighth-script-copy() { label 'maintainer-script-failed' 'cannot stat'; script_says 'cp /usr/share/winch/settings.ini /etc/winch.ini'; }
eighth-script-owner() { label 'account-missing|maintainer-script-failed' 'invalid user'; script_says 'install -d -o winch /var/lib/winch'; }
eighth-script-read-only() {
  label volume-read-only 'Read-only file system'; mkdir -p "$root/srv/w"; mount --bind "$root/srv/w" "$root/srv/w"; mount -o remount,ro,bind "$root/srv/w"
  script_says 'echo rope >/srv/w/log'
}
eighth-script-link() { label maintainer-script-failed 'File exists'; mkdir -p "$root/opt/winch"; script_says 'ln -s /usr/share/winch /opt/winch' 'ln -s /usr/share/winch /opt/winch'; }
eighth-script-wget() { label 'maintainer-script-failed' 'onnection refused'; with_packages wget; script_says 'unset http_proxy; wget -nv --no-proxy -t 1 http://127.0.0.1:9/rope.dat'; }
eighth-script-time-out() { label maintainer-script-failed 'no answer from the winch'; script_says 'timeout 1 sleep 9 || { echo "no answer from the winch in 1 second"; exit 124; }'; }
eighth-broken-before() {
  label 'unmet-dependencies|resolver-gave-up' 'have unmet dependencies'
  deb skerrow-rope 1.0 'Depends: skerrow-hemp'; inside dpkg --force-depends -i /repo/skerrow-rope_1.0_all.deb >/dev/null 2>&1
  : >"$root/var/log/dpkg.log"; deb skerrow-knot 1.0; repo
  console "apt-get update -qq; apt-get -y install skerrow-knot"
}
eighth-index-empty() {
  label 'package-lists-damaged|repository-wrong|download-failed|download-altered|package-not-known' 'Err:|E: |Failed'
  deb skerrow-tide 1.0; repo; rm "$root/repo/Packages"; : >"$root/repo/Packages.gz"
  console "apt-get update; apt-get -y install skerrow-tide"
}
eighth-sources-garbage() { label sources-malformed 'Malformed|not known|E: '; quiet_day; head -c 300 /dev/urandom >"$root/etc/apt/sources.list"; console "apt-get update"; }
eighth-auth-malformed() {
  label 'setting-not-understood|package-configuration-malformed|repository-wants-sign-in|package-system-stopped' 'auth|E: |Err'
  quiet_day; mkdir -p "$root/etc/apt/auth.conf.d"; printf 'machin packages.skerrow.example login deck\n' >"$root/etc/apt/auth.conf.d/skerrow.conf"
  answers '401 Unauthorized' 'WWW-Authenticate: Basic realm="skerrow"'; console "apt-get update"
}
eighth-preferences-folder() {
  label 'package-configuration-malformed|setting-not-understood|package-system-stopped|preferences-malformed' 'preferences|E: '
  deb skerrow-tide 1.0; repo; inside apt-get update -qq; printf 'Package skerrow-tide\nPin: version 1.0\n\n' >"$root/etc/apt/preferences.d/tide"
  console "apt-get -y install skerrow-tide"
}
eighth-partial-is-file() {
  label 'path-is-no-folder|tool-folder-missing|download-volume-full' 'partial|Not a directory'
  quiet_day; rm -rf "$root/var/cache/apt/archives/partial"; echo x >"$root/var/cache/apt/archives/partial"; inside apt-get update -qq
  console "apt-get -y install less"
}
eighth-dpkg-read-only() {
  label volume-read-only 'Read-only file system'
  quiet_day; deb skerrow-tide 1.0; mount --bind "$root/var/lib/dpkg" "$root/var/lib/dpkg"; mount -o remount,ro,bind "$root/var/lib/dpkg"
  console "apt-get -y install /repo/skerrow-tide_1.0_all.deb"
}
eighth-dpkg-deb-gone() {
  label package-tool-missing 'dpkg-deb'
  quiet_day; deb skerrow-tide 1.0; mv "$root/usr/bin/dpkg-deb" "$root/usr/bin/dpkg-deb.aside"; console "dpkg -i /repo/skerrow-tide_1.0_all.deb"
}
eighth-library-gone() {
  label 'package-tool-missing|library-missing' 'error while loading shared libraries'
  quiet_day; mv "$root"/usr/lib/x86_64-linux-gnu/libapt-private.so.0.0* "$root/var/tmp/"; console "apt-get update"
}
eighth-perl-gone() {
  label 'package-tool-missing|maintainer-script-failed|script-unrunnable|script-needs-a-program' 'frontend: not found'
  quiet_day; mkdir -p "$work/skerrow-winch/DEBIAN"; printf 'Template: skerrow/berth\nType: string\nDescription: Berth\n' >"$work/skerrow-winch/DEBIAN/templates"
  mv "$root/usr/bin/perl" "$root/usr/bin/perl.aside"; script_says '. /usr/share/debconf/confmodule' 'db_get skerrow/berth'
}
eighth-passwd-cut() {
  label 'account-missing|user-database-damaged|maintainer-script-failed' 'invalid user|unknown|user'
  : >"$root/etc/passwd"; quiet_day; mkdir -p "$work/skerrow-winch/usr/share/w"; echo 1 >"$work/skerrow-winch/usr/share/w/a"; script_says 'chown root:root /usr/share/w/a'
}
eighth-prerm-command() {
  label 'maintainer-script-failed|script-needs-a-program' 'not found'
  echo 'winchctl stop' | script_of skerrow-winch prerm; deb skerrow-winch 1.4; have skerrow-winch_1.4_all.deb
  console "apt-get -y remove skerrow-winch"
}
eighth-signed-by-other() {
  label 'repository-key-missing|signature-wrong' 'NO_PUBKEY|not signed|NODATA|sign'
  quiet_day; local mirror; mirror=$(mirror_of "$suite"); rm -rf "$root"/var/lib/apt/lists/*
  printf 'Types: deb\nURIs: %s\nSuites: %s\nComponents: main\nSigned-By: 0123456789ABCDEF0123456789ABCDEF01234567\n' "$mirror" "$suite" >"$root/etc/apt/sources.list.d/one.sources"; : >"$root/etc/apt/sources.list"
  console "apt-get update"
}
eighth-debootstrap-variant() {
  label 'request-not-understood|base-system-not-fetched|package-tool-missing' 'ariant|E: '
  quiet_day; with_packages debootstrap; local mirror; mirror=$(mirror_of "$suite"); console "debootstrap --variant=harbour bookworm /srv/new $mirror"
}
eighth-debootstrap-mirror() {
  label 'base-system-not-fetched|repository-wrong' 'E: Failed getting release'
  quiet_day; with_packages debootstrap; local mirror; mirror=$(mirror_of "$suite"); console "debootstrap --variant=minbase bookworm /srv/new ${mirror%/}/nowhere"
}
eighth-fstab-swap() { label maintainer-script-failed 'swapon'; script_says 'swapon /var/swapfile'; }
eighth-alternatives-link() {
  label 'alternatives-damaged|maintainer-script-failed|link-loop' 'update-alternatives: error'
  mkdir -p "$root/etc/alternatives/winch"; touch "$root/etc/alternatives/winch/x"
  script_says 'update-alternatives --install /usr/bin/winch winch /bin/cat 50'
}

run "$@"
