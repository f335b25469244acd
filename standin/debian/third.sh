#!/bin/bash
# Provokes failures of a third draw, after the rules that the second had led to; each is scored once, as it comes.
# usage: third.sh --list | third.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

third-interpreter-absent() {
  label maintainer-script-failed 'unable to execute'
  quiet_day
  mkdir -p "$work/skerrow-log/DEBIAN"; printf '#!/usr/bin/ruby\nputs 1\n' >"$work/skerrow-log/DEBIAN/postinst"; chmod 755 "$work/skerrow-log/DEBIAN/postinst"
  deb skerrow-log 1.0
  console "apt-get -y install /repo/skerrow-log_1.0_all.deb"
}
third-purge-script() {
  label maintainer-script-failed 'the archive of the lights is open'
  printf 'if [ "$1" = purge ]; then echo "the archive of the lights is open" >&2; exit 5; fi\n' | script_of skerrow-lights postrm
  deb skerrow-lights 1.0; have skerrow-lights_1.0_all.deb
  console "apt-get -y purge skerrow-lights"
}
third-tar-gone() {
  label 'package-tool-missing|path-lacks-system-tools' 'tar'
  quiet_day
  deb skerrow-tides 1.0
  rm "$root/bin/tar"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
third-shell-gone() {
  label 'maintainer-script-failed|package-tool-missing' 'not found in PATH'
  quiet_day
  echo 'true' | script_of skerrow-tides postinst
  deb skerrow-tides 1.0
  rm "$root/bin/sh"
  script -qec "unshare --uts chroot $root env -i HOME=/root TERM=linux PATH=/usr/sbin:/usr/bin:/sbin:/bin dpkg -i /repo/skerrow-tides_1.0_all.deb" "$work/console.txt" </dev/null >/dev/null || true
  sed -i -e '/^Script \(started\|done\) on /d' "$work/console.txt"
}
third-dpkg-not-executable() {
  label 'package-tool-missing|no-permission' 'dpkg'
  quiet_day
  deb skerrow-tides 1.0; repo
  chmod 644 "$root/usr/bin/dpkg"
  console "apt-get update -qq; apt-get -y install skerrow-tides"
}
third-lists-read-only() {
  label volume-read-only 'Read-only file system'
  quiet_day; repo
  mount --bind "$root/var/lib/apt/lists" "$root/var/lib/apt/lists"; mount -o remount,ro,bind "$root/var/lib/apt/lists"
  console "apt-get update"
}
third-usr-read-only() {
  label volume-read-only 'Read-only file system'
  quiet_day
  mkdir -p "$work/skerrow-chart/usr/share/chart"; echo 1 >"$work/skerrow-chart/usr/share/chart/a"
  deb skerrow-chart 1.0
  mount --bind "$root/usr" "$root/usr"; mount -o remount,ro,bind "$root/usr"
  console "dpkg -i /repo/skerrow-chart_1.0_all.deb"
}
third-tmp-full() {
  label 'volume-full|temporary-folder-unusable' 'No space left on device|write'
  quiet_day
  deb skerrow-tides 1.0; repo
  mount -t tmpfs -o size=4k tmpfs "$root/tmp"; dd if=/dev/zero of="$root/tmp/fill" bs=1K count=8 2>/dev/null || true
  echo 'mktemp -d >/dev/null; head -c 20000 /dev/zero >$(mktemp)' | script_of skerrow-chart postinst
  deb skerrow-chart 1.0
  console "dpkg -i /repo/skerrow-chart_1.0_all.deb"
}
third-own-kill() {
  label 'script-killed|maintainer-script-failed' 'Killed|killed by signal'
  quiet_day
  echo 'kill -9 $$' | script_of skerrow-tides postinst
  deb skerrow-tides 1.0
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
third-alternatives-file() {
  label 'alternatives-damaged|path-is-no-folder|maintainer-script-failed' 'update-alternatives: error'
  quiet_day
  mkdir -p "$work/skerrow-view/usr/bin"; echo 1 >"$work/skerrow-view/usr/bin/skview1"
  echo 'update-alternatives --install /usr/bin/skview skview /usr/bin/skview1 10' | script_of skerrow-view postinst
  deb skerrow-view 1.0
  mv "$root/etc/alternatives" "$root/etc/alternatives.aside"; echo x >"$root/etc/alternatives"
  console "apt-get -y install /repo/skerrow-view_1.0_all.deb"
}
third-diversions-cut() {
  label 'package-database-damaged|diversion-clash' 'dpkg: '
  quiet_day
  deb skerrow-tides 1.0
  printf '/usr/bin/one\n' >"$root/var/lib/dpkg/diversions"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
third-triggers-folder() {
  label 'trigger-database-damaged|package-database-damaged' 'dpkg: '
  quiet_day
  deb skerrow-tides 1.0
  rm -f "$root/var/lib/dpkg/triggers/File"; mkdir "$root/var/lib/dpkg/triggers/File"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
third-index-altered() {
  label 'download-altered|repository-wrong' 'Hash Sum mismatch|size mismatch|unexpected size|E: Failed'
  quiet_day
  deb skerrow-tides 1.0; repo
  (cd "$root/repo" && { printf 'Origin: Skerrow\nDate: %s\nSHA256:\n' "$(date -Ru)"; printf ' %s %s Packages\n' "$(sha256sum Packages | cut -d' ' -f1)" "$(stat -c %s Packages)"; } >Release)
  echo x >>"$root/repo/Packages"
  console "apt-get update"
}
third-processes-limited() {
  label 'memory-exhausted|process-limit-reached|too-many-open-files' 'Resource temporarily unavailable|fork'
  quiet_day
  printf 'echo "counting the berths"\nperl -e '"'"'fork // die "cannot fork: Resource temporarily unavailable\\n"'"'"' ; echo "cannot fork: Resource temporarily unavailable" >&2; exit 2\n' | script_of skerrow-count postinst
  deb skerrow-count 1.0
  console "apt-get -y install /repo/skerrow-count_1.0_all.deb"
}
third-extended-states() {
  label 'extended-states-unreadable|package-database-damaged|package-system-stopped' 'E: '
  quiet_day
  deb skerrow-tides 1.0; repo
  printf 'Package skerrow\nnonsense' >"$root/var/lib/apt/extended_states"; chmod 000 "$root/var/lib/apt/extended_states"; rm -f "$root/var/lib/apt/extended_states"; mkdir "$root/var/lib/apt/extended_states"
  console "apt-get update -qq; apt-get -y install skerrow-tides"
}
third-needs-newer() {
  label 'unmet-dependencies|package-held' 'unmet dependencies'
  deb skerrow-base 1.0; have skerrow-base_1.0_all.deb
  deb skerrow-top 2.0 'Depends: skerrow-base (>= 3.0)'; repo
  console "apt-get update -qq; apt-get -y install skerrow-top"
}
third-service-account() {
  label 'account-missing|maintainer-script-failed' 'invalid user|unknown user|no such user|does not exist'
  quiet_day
  echo 'install -o skcrew -d /var/lib/skcrew' | script_of skerrow-mess postinst
  deb skerrow-mess 1.0
  console "apt-get -y install /repo/skerrow-mess_1.0_all.deb"
}
third-proxy-in-config() {
  label 'proxy-unreachable|repository-unreachable|name-not-resolved' 'Err:|Could not'
  quiet_day
  printf 'deb [trusted=yes] http://packages.skerrow.example/ bookworm main\n' >"$root/etc/apt/sources.list"
  echo 'Acquire::http::Proxy "http://127.0.0.1:9/";' >"$root/etc/apt/apt.conf.d/95skerrow"
  console "apt-get update"
}

run "$@"
