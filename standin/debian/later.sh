#!/bin/bash
# Provokes failures that were drawn after all rules had been made; each is scored once, as it comes.
# usage: later.sh --list | later.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

later-teapot() {
  label 'repository-forbidden|repository-wrong|download-failed' 'Err:'
  quiet_day
  answers '418 Unusual' '' 'x'
  console "apt-get update"
}
later-bad-gateway() {
  label repository-server-error 'Err:'
  quiet_day
  answers '599 Harbour Closed' '' 'x'
  console "apt-get update"
}
later-postinst-grep() {
  label maintainer-script-failed 'no such berth in the register'
  quiet_day
  printf 'echo "checking the register"\necho "no such berth in the register"\ngrep -q berth9 /etc/hostname\n' | script_of skerrow-register postinst
  deb skerrow-register 1.0
  console "apt-get -y install /repo/skerrow-register_1.0_all.deb"
}
later-preinst-silent() {
  label maintainer-script-failed 'error processing archive .*skerrow-shy'
  quiet_day
  echo 'exit 4' | script_of skerrow-shy preinst
  deb skerrow-shy 1.0
  console "apt-get -y install /repo/skerrow-shy_1.0_all.deb"
}
later-postinst-enomem() {
  label 'memory-exhausted|maintainer-script-failed' 'annot allocate memory|ut of memory|Memory'
  quiet_day
  printf 'echo "sorting"\n(ulimit -v 20000; perl -e "my @a = (1) x 9000000")\n' | script_of skerrow-sorter postinst
  deb skerrow-sorter 1.0
  console "apt-get -y install /repo/skerrow-sorter_1.0_all.deb"
}
later-update-success-hook() {
  label apt-hook-failed 'the mirror of the bridge is stale'
  quiet_day; repo
  refuses skerrow-mirror "the mirror of the bridge is stale" 3
  echo 'APT::Update::Post-Invoke-Success {"/usr/local/bin/skerrow-mirror";};' >"$root/etc/apt/apt.conf.d/90skerrow"
  console "apt-get update"
}
later-status-folder() {
  label package-database-damaged 'dpkg: error|E: '
  quiet_day
  deb skerrow-tides 1.0
  rm "$root/var/lib/dpkg/status"; mkdir "$root/var/lib/dpkg/status"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
later-info-folder-gone() {
  label package-database-damaged 'dpkg: (unrecoverable fatal )?error|E: '
  quiet_day
  deb skerrow-tides 1.0
  rm -rf "$root/var/lib/dpkg/info"; echo x >"$root/var/lib/dpkg/info"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
later-disk-full-log() {
  label volume-full 'No space left on device'
  quiet_day
  deb skerrow-tides 1.0
  mount -t tmpfs -o size=64k tmpfs "$root/var/log/apt"; filled "$root/var/log/apt/fill" 64 2>/dev/null || true
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
later-cycle-depends() {
  label unmet-dependencies 'unmet dependencies'
  quiet_day
  deb skerrow-a 1.0 'Depends: skerrow-b (>= 2)'; deb skerrow-b 1.0
  repo
  console "apt-get update -qq; apt-get -y install skerrow-a"
}
later-conflict-self() {
  label 'packages-conflict|unmet-dependencies' 'unmet dependencies|onflict'
  quiet_day
  deb skerrow-a 1.0; deb skerrow-b 1.0 'Conflicts: skerrow-a'
  repo
  console "apt-get update -qq; apt-get -y install skerrow-a skerrow-b"
}
later-option-unknown() {
  label 'request-not-understood|package-configuration-malformed|package-system-stopped' 'E: |error'
  quiet_day
  console "apt-get -y --harbour install less"
}
later-sources-folder() {
  label 'sources-malformed|package-not-known|package-system-stopped' 'E: '
  quiet_day
  rm "$root/etc/apt/sources.list"; mkdir "$root/etc/apt/sources.list"
  console "apt-get update; apt-get -y install less"
}
later-remove-running() {
  label maintainer-script-failed 'engine is still turning'
  printf 'if [ "$1" = remove ]; then echo "the engine is still turning"; exit 1; fi\n' | script_of skerrow-engine prerm
  deb skerrow-engine 1.0; have skerrow-engine_1.0_all.deb
  console "apt-get -y remove skerrow-engine"
}

run "$@"
