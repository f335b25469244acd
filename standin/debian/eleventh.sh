#!/bin/bash
# Provokes failures of an eleventh draw: programs of the archive in scripts, records written by hand, requests for sources,
# and two things wrong at once. Each is scored once, as it comes.
# usage: eleventh.sh --list | eleventh.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

tried_package=skerrow-anchor tried_version=6.2 # what script_says makes

eleventh-source-lines() {
  label source-lines-missing 'deb-src|source'
  quiet_day; console "apt-get source bash"
}
eleventh-link-exists() {
  label 'maintainer-script-failed|path-is-no-folder' 'File exists'
  script_says 'mkdir -p /etc/anchor' 'touch /etc/anchor/current' 'ln -s /etc/anchor/berth-3 /etc/anchor/current'
}
eleventh-tar-in-script() {
  label maintainer-script-failed 'nexpected EOF|not in gzip|Child returned'
  script_says 'head -c 900 /dev/urandom >/tmp/charts.tar.gz' 'tar -xzf /tmp/charts.tar.gz -C /srv'
}
eleventh-override-exists() {
  label 'maintainer-script-failed|override-exists' 'already exists'
  script_says 'dpkg-statoverride --add root root 0755 /usr/bin/anchor' 'dpkg-statoverride --add root root 0700 /usr/bin/anchor'
}
eleventh-version-by-hand() {
  label 'package-database-damaged' 'version'
  quiet_day; sed -i '0,/^Version: /s/^Version: .*/Version: of my own/' "$root/var/lib/dpkg/status"; deb skerrow-anchor 6.2; console "dpkg -i /repo/skerrow-anchor_6.2_all.deb"
}
eleventh-debconf-exit() {
  label 'maintainer-script-failed|question-not-answered|configuration-prompt' 'exit status|wants|berth'
  quiet_day; mkdir -p "$work/skerrow-anchor/DEBIAN"; printf 'Template: anchor/berth\nType: string\nDescription: Berth\n' >"$work/skerrow-anchor/DEBIAN/templates"
  printf '. /usr/share/debconf/confmodule\ndb_input critical anchor/berth || true\ndb_go\ndb_get anchor/berth\n[ -n "$RET" ] || { echo "anchor: a berth is wanted and none was named" >&2; exit 30; }\n' | script_of skerrow-anchor postinst
  deb skerrow-anchor 6.2; console "DEBIAN_FRONTEND=noninteractive apt-get -y install /repo/skerrow-anchor_6.2_all.deb"
}
eleventh-ucf() {
  label maintainer-script-failed 'does not exist'
  with_packages ucf; script_says 'ucf /usr/share/anchor/anchor.conf /etc/anchor.conf'
}
eleventh-policy-then-fail() {
  label maintainer-script-failed 'winch 2'
  script_says 'echo "invoke-rc.d: policy-rc.d denied execution of start." >&2' 'echo "anchor: winch 2 does not answer" >&2' 'exit 1'
}
eleventh-two-wrong() {
  label 'volume-full|download-volume-full|inodes-used-up' 'No space left|enough free space|space'
  quiet_day; mkdir -p "$work/skerrow-anchor/usr/share/anchor"; filled "$work/skerrow-anchor/usr/share/anchor/chart" 6000; printf 'echo "anchor: no chart" >&2; exit 1\n' | script_of skerrow-anchor postinst
  deb skerrow-anchor 6.2; mkdir -p "$root/usr/share/anchor"; mount -t tmpfs -o size=2m tmpfs "$root/usr/share/anchor"; console "apt-get -y install /repo/skerrow-anchor_6.2_all.deb"
}
eleventh-cache-file() {
  label 'package-lists-damaged|path-is-no-folder|directory-in-the-way' 'E: '
  quiet_day; rm -f "$root/var/cache/apt/"*.bin; mkdir -p "$root/var/cache/apt/pkgcache.bin/x" "$root/var/cache/apt/srcpkgcache.bin/x"; console "apt-get -y install tree"
}
eleventh-build-dep() {
  label source-lines-missing 'deb-src|source|E: '
  quiet_day; console "apt-get -y build-dep bash"
}
eleventh-conflict-versions() {
  label 'unmet-dependencies|packages-conflict' 'Depends|Conflicts'
  deb skerrow-winch 1.0; deb skerrow-anchor 6.2 'Depends: skerrow-winch (= 1.1)'; deb skerrow-chain 2.0 'Depends: skerrow-winch (= 1.0)'; repo
  console "apt-get update -qq; apt-get -y install skerrow-anchor skerrow-chain"
}
eleventh-release-file-gone() {
  label 'release-missing|repository-wrong' 'File not found|does not have a Release'
  deb skerrow-anchor 6.2; repo; inside apt-get update -qq; rm -f "$root/repo/Release" "$root/repo/InRelease" "$root/repo/Packages"; sed -i 's/\[[^]]*\] //' "$root/etc/apt/sources.list"; console "apt-get update"
}
eleventh-chown-nobody() {
  label 'maintainer-script-failed|account-missing' 'invalid user'
  script_says 'mkdir -p /var/lib/anchor' 'chown -R bosun:bosun /var/lib/anchor'
}
eleventh-grep-q() {
  label maintainer-script-failed 'No such file'
  script_says 'grep -q "^anchor" /etc/services'
}
eleventh-path-too-deep() {
  label 'maintainer-script-failed|path-too-long' 'File name too long'
  script_says 'n=$(head -c 300 /dev/zero | tr "\0" a)' 'mkdir /srv/$n'
}
eleventh-essential-hold() {
  label package-held 'E: Held'
  quiet_day; deb skerrow-winch 1.0; have skerrow-winch_1.0_all.deb; inside apt-mark hold skerrow-winch >/dev/null; console "apt-get -y remove skerrow-winch"
}
eleventh-cpio-preinst() {
  label maintainer-script-failed 'premature|magic|cpio'
  with_packages cpio; script_says 'echo none | cpio -i -d'
}

run "$@"
