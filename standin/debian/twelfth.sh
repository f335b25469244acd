#!/bin/bash
# Provokes failures of a twelfth draw: surroundings that somebody changed, other front ends, programs that scripts lean on.
# Each is scored once, as it comes.
# usage: twelfth.sh --list | twelfth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

tried_package=skerrow-beacon tried_version=2.4 # what script_says makes

twelfth-no-proc() {
  label 'mount-not-there|maintainer-script-failed|new-system-does-not-run' 'proc'
  quiet_day; inside apt-get update -qq >/dev/null; umount -l "$root/proc"; mkdir -p "$root/usr/share/man/man1"
  console "apt-get -y install --no-install-recommends openjdk-17-jre-headless"
}
twelfth-resolver-nowhere() {
  label name-not-resolved 'resolv'
  quiet_day; rm -f "$root/etc/apt/apt.conf.d/"*prox* "$root/etc/resolv.conf"; ln -s /run/nowhere/resolv.conf "$root/etc/resolv.conf"
  echo 'deb http://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update && apt-get -y install tree"
}
twelfth-name-service() {
  label name-not-resolved 'resolv|Unable to locate'
  quiet_day; rm -f "$root/etc/apt/apt.conf.d/"*prox*; sed -i 's/^hosts:.*/hosts: files/' "$root/etc/nsswitch.conf"
  echo 'deb http://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get -y install tree || apt-get update -o APT::Update::Error-Mode=any"
}
twelfth-hosts-elsewhere() {
  label 'repository-unreachable' 'Could not connect|onnection refused'
  quiet_day; rm -f "$root/etc/apt/apt.conf.d/"*prox*; echo '127.0.0.1 packages.skerrow.example' >>"$root/etc/hosts"
  echo 'deb http://packages.skerrow.example:8071/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update -o APT::Update::Error-Mode=any"
}
twelfth-signed-by-twice() {
  label sources-contradict 'Conflicting values|Signed-By'
  quiet_day; deb skerrow-beacon 2.4; repo; printf 'deb [trusted=yes signed-by=/usr/share/keyrings/a.gpg] file:/repo ./\ndeb [trusted=yes signed-by=/usr/share/keyrings/b.gpg] file:/repo ./\n' >"$root/etc/apt/sources.list"
  touch "$root/usr/share/keyrings/a.gpg" "$root/usr/share/keyrings/b.gpg"; console "apt-get update"
}
twelfth-account-busy() {
  label 'maintainer-script-failed|path-busy|account-in-the-way' 'currently used by process'
  quiet_day; printf 'useradd -r beacon\n' | script_of skerrow-beacon postinst; printf '[ "$1" != purge ] || userdel beacon\n' | script_of skerrow-beacon postrm
  deb skerrow-beacon 2.4; have skerrow-beacon_2.4_all.deb; inside setpriv --reuid beacon --clear-groups sleep 30 & sleep 1
  console "apt-get -y purge skerrow-beacon"
}
twelfth-mount-in-script() {
  label 'maintainer-script-failed|mount-not-there' 'mount'
  script_says 'mkdir -p /srv/beacon' 'mount -t ext4 /srv/beacon.img /srv/beacon'
}
twelfth-linker-cache() {
  label 'directory-in-the-way|path-is-no-folder|trigger-failed' 'ld.so.cache|ldconfig'
  quiet_day; rm -f "$root/etc/ld.so.cache"; mkdir -p "$root/etc/ld.so.cache/x"; inside apt-get update -qq >/dev/null; console "apt-get -y install --reinstall libc-bin"
}
twelfth-other-front-end() {
  label 'unmet-dependencies|resolver-gave-up|package-not-known' 'Depends|depends|resolve'
  quiet_day; with_packages aptitude; deb skerrow-beacon 2.4 'Depends: skerrow-lamp (>= 9)'; repo; inside apt-get update -qq >/dev/null; console "aptitude -y install skerrow-beacon && dpkg -s skerrow-beacon"
}
twelfth-front-end-unknown() {
  label 'package-not-known|nothing-matches' "find|matching|match"
  quiet_day; with_packages aptitude; console "aptitude -y install skerrow-beacon=3 ; dpkg -s skerrow-beacon"
}
twelfth-debootstrap-components() {
  label 'repository-component-missing' 'component'
  with_packages debootstrap; console "debootstrap --variant=minbase --components=harbour bookworm /srv/new $(mirror_of bookworm)"
}
twelfth-mail-configuration() {
  label 'own-configuration-refused|maintainer-script-failed' 'configuration error|unknown'
  quiet_day; with_packages exim4-daemon-light; echo 'to be done by Joren = next week' >>"$root/etc/exim4/exim4.conf.template"; console "apt-get -y install --reinstall exim4-daemon-light exim4-config"
}
twelfth-lock-folder() {
  label 'maintainer-script-failed|log-folder-missing|link-to-nowhere|mount-not-there' 'lock'
  quiet_day; rm -rf "$root/run/lock"; printf 'mkdir /var/lock/beacon\n' | script_of skerrow-beacon postinst; deb skerrow-beacon 2.4; console "apt-get -y install /repo/skerrow-beacon_2.4_all.deb"
}
twelfth-account-defaults() {
  label 'maintainer-script-failed|own-configuration-refused|setting-not-understood' 'No UID'
  quiet_day; with_packages adduser; echo 'FIRST_SYSTEM_UID="soon"' >>"$root/etc/adduser.conf"; echo 'LAST_SYSTEM_UID=3' >>"$root/etc/adduser.conf"; inside apt-get update -qq >/dev/null; console "apt-get -y install --no-install-recommends openssh-server"
}
twelfth-source-unpack() {
  label 'package-tool-missing|script-needs-a-program' 'dpkg-source'
  quiet_day; sed -n 's/^deb /deb-src /p' "$root/etc/apt/sources.list" >>"$root/etc/apt/sources.list"; inside apt-get update -qq >/dev/null; cd /; console "cd /srv && apt-get source tree"
}
twelfth-root-home-gone() {
  label 'maintainer-script-failed|path-is-no-folder' 'cannot create'
  quiet_day; rm -rf "$root/root"; script_says 'cp /etc/hostname /root/beacon-name'
}
twelfth-cron-table() {
  label 'maintainer-script-failed|own-configuration-refused' 'bad minute'
  with_packages cron; script_says 'echo "61 25 * * * root beacon" | crontab -'
}
twelfth-json-setting() {
  label 'maintainer-script-failed' 'JSONDecodeError|Expecting|beacon.json'
  with_packages python3-minimal python3; mkdir -p "$root/etc/beacon"; echo '{"lamp": 2,' >"$root/etc/beacon/beacon.json"; script_says 'python3 -c "import json; json.load(open(\"/etc/beacon/beacon.json\"))"'
}
twelfth-git-owner() {
  label 'maintainer-script-failed|no-permission' 'dubious|safe.directory|ownership'
  with_packages git; mkdir -p "$root/srv/charts"; inside git init -q /srv/charts; chown -R 1000:1000 "$root/srv/charts"; script_says 'git -C /srv/charts log -1'
}
twelfth-swap-of-words() {
  label 'volume-full' 'No space left'
  quiet_day; mkdir -p "$root/var/spool"; mount -t tmpfs -o size=64k tmpfs "$root/var/spool"; script_says 'mkdir -p /var/spool/beacon' 'head -c 200000 /dev/zero >/var/spool/beacon/first || { echo "beacon: the spool could not be laid out" >&2; exit 12; }'
}
twelfth-database-user() {
  label 'maintainer-script-failed|account-missing' 'beacon-db|user'
  script_says 'su beacon-db -s /bin/sh -c "id" '
}
run "$@"
