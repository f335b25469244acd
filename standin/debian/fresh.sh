#!/bin/bash
# Provokes failures that were described before any rule for them was made, to measure with.
# usage: fresh.sh --list | fresh.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

pre-invoke-hook() {
  label apt-hook-failed 'snapshot volume is missing|Problem executing'
  quiet_day
  refuses skerrow-snapshot "skerrow-snapshot: the snapshot volume is missing" 4
  echo 'DPkg::Pre-Invoke {"/usr/local/bin/skerrow-snapshot";};' >"$root/etc/apt/apt.conf.d/90skerrow"
  deb skerrow-tides 1.0
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
post-invoke-hook() {
  label apt-hook-failed 'ledger is locked|Problem executing'
  quiet_day
  refuses skerrow-report "skerrow-report: the ledger is locked by another user" 1
  echo 'DPkg::Post-Invoke {"/usr/local/bin/skerrow-report";};' >"$root/etc/apt/apt.conf.d/90skerrow"
  deb skerrow-tides 1.0
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
update-hook() {
  label apt-hook-failed 'catalogue cannot be sorted|Problem executing'
  quiet_day; repo
  refuses skerrow-sort "the catalogue cannot be sorted" 9
  echo 'APT::Update::Post-Invoke {"/usr/local/bin/skerrow-sort";};' >"$root/etc/apt/apt.conf.d/90skerrow"
  console "apt-get update"
}
pre-install-packages-hook() {
  label apt-hook-failed 'not on the list of the bridge|Sub-process|Problem executing'
  quiet_day
  refuses skerrow-gatekeeper "package is not on the list of the bridge" 1
  echo 'DPkg::Pre-Install-Pkgs {"/usr/local/bin/skerrow-gatekeeper";};' >"$root/etc/apt/apt.conf.d/90skerrow"
  deb skerrow-tides 1.0
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
quota-reached() {
  label file-too-large 'File (too large|size limit)|failed to write'
  quiet_day
  filled "$work/skerrow-video/opt/video/quay.bin" 9000
  deb skerrow-video 1.0
  console "ulimit -f 6000; apt-get -y install /repo/skerrow-video_1.0_all.deb"
}
too-many-files() {
  label too-many-open-files 'Too many open files'
  quiet_day
  deb skerrow-tides 1.0
  console "ulimit -n 5; dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
status-empty() {
  label package-database-damaged 'but is neither|error|E: '
  quiet_day
  deb skerrow-tides 1.0
  : >"$root/var/lib/dpkg/status"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb; apt-get -y install skerrow-timetable"
}
status-zeros() {
  label package-database-damaged 'parsing file|E: '
  quiet_day
  deb skerrow-tides 1.0
  dd if=/dev/zero of="$root/var/lib/dpkg/status" bs=1k count=4 status=none
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
status-field-bad() {
  label package-database-damaged 'parsing file'
  quiet_day
  deb skerrow-tides 1.0
  sed -i '0,/^Version:.*/s//Version: /' "$root/var/lib/dpkg/status"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
info-list-missing() {
  label package-database-damaged 'files list file|error'
  quiet_day
  have skerrow-timetable_3.1_all.deb
  printf 'no newline at the end' >"$root/var/lib/dpkg/info/skerrow-timetable.list"
  deb skerrow-tides 1.0
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
available-folder() {
  label 'package-database-damaged|path-is-no-folder' 'dpkg: (unrecoverable fatal )?error|E: '
  quiet_day
  deb skerrow-tides 1.0
  rm -rf "$root/var/lib/dpkg/updates"; echo x >"$root/var/lib/dpkg/updates"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
lists-unwritable() {
  label no-permission 'Permission denied|Read-only|Operation not permitted|E: '
  quiet_day; repo
  chattr +i "$root/var/lib/apt/lists" 2>/dev/null || true
  console "su -s /bin/sh nobody -c 'apt-get update'"
  chattr -i "$root/var/lib/apt/lists" 2>/dev/null || true
}
postinst-time-out() {
  label maintainer-script-failed 'Waiting for the lock gate'
  quiet_day
  printf 'echo "Waiting for the lock gate"\ntimeout 1 sleep 20\n' | script_of skerrow-lockgate postinst
  deb skerrow-lockgate 1.0
  console "apt-get -y install /repo/skerrow-lockgate_1.0_all.deb"
}
postinst-silent() {
  label maintainer-script-failed 'error processing package skerrow-mute'
  quiet_day
  echo 'exit 7' | script_of skerrow-mute postinst
  deb skerrow-mute 1.0
  console "apt-get -y install /repo/skerrow-mute_1.0_all.deb"
}
postinst-chatty() {
  label maintainer-script-failed 'Give the berth a number first'
  quiet_day
  printf 'echo "Step 1 of 3: reading the plan"\necho "Step 2 of 3: asking the harbour"\necho "Give the berth a number first."\nexit 1\n' | script_of skerrow-plan postinst
  deb skerrow-plan 1.0
  console "apt-get -y install /repo/skerrow-plan_1.0_all.deb"
}
postinst-python() {
  label maintainer-script-failed 'python3: not found|python3'
  quiet_day
  echo 'python3 -c "import skerrow"' | script_of skerrow-snake postinst
  deb skerrow-snake 1.0
  console "apt-get -y install /repo/skerrow-snake_1.0_all.deb"
}
postinst-segfault() {
  label maintainer-script-failed 'Segmentation fault|signal'
  quiet_day
  printf 'sh -c "kill -SEGV \\$\\$"\n' | script_of skerrow-crash postinst
  deb skerrow-crash 1.0
  console "apt-get -y install /repo/skerrow-crash_1.0_all.deb"
}
preinst-upgrade() {
  label maintainer-script-failed 'data of version 1 have to be moved'
  deb skerrow-store 1.0; have skerrow-store_1.0_all.deb
  echo '[ "$1" != upgrade ] || { echo "skerrow-store: data of version 1 have to be moved by hand" >&2; exit 1; }' | script_of skerrow-store preinst
  deb skerrow-store 2.0
  console "apt-get -y install /repo/skerrow-store_2.0_all.deb"
}
prerm-upgrade() {
  label maintainer-script-failed 'a voyage is under way'
  echo '[ "$1" != upgrade ] && [ "$1" != failed-upgrade ] || { echo "skerrow-log: a voyage is under way" >&2; exit 2; }' | script_of skerrow-log prerm
  deb skerrow-log 1.0; have skerrow-log_1.0_all.deb
  cp "$work/skerrow-log/DEBIAN/prerm" "$work/prerm.txt.keep"
  deb skerrow-log 2.0
  console "dpkg -i /repo/skerrow-log_2.0_all.deb"
}
dependency-chain() {
  label maintainer-script-failed 'no compass found'
  quiet_day
  printf 'echo "skerrow-base: no compass found"\nexit 1\n' | script_of skerrow-base postinst
  deb skerrow-base 1.0
  deb skerrow-top 1.0 'Depends: skerrow-base'
  console "apt-get -y install /repo/skerrow-base_1.0_all.deb /repo/skerrow-top_1.0_all.deb"
}
purge-folder-busy() {
  label maintainer-script-failed 'cannot remove|Directory not empty'
  quiet_day
  printf '[ "$1" != purge ] || rmdir /srv/voyages\n' | script_of skerrow-voyages postrm
  deb skerrow-voyages 1.0; have skerrow-voyages_1.0_all.deb
  mkdir -p "$root/srv/voyages/2026"
  console "apt-get -y purge skerrow-voyages"
}
redirect-loop() {
  label repository-wrong 'edirect|E: '
  quiet_day
  answers '302 Found' "Location: /debian/again"
  console "apt-get update"
}
gone-410() {
  label repository-wrong 'Err:.*|410  Gone'
  quiet_day
  answers '410 Gone' '' 'moved to the archive'
  console "apt-get update"
}
gateway-504() {
  label repository-server-error 'Err:|504  Gateway'
  quiet_day
  answers '504 Gateway Timeout' '' 'upstream'
  console "apt-get update"
}
legal-451() {
  label repository-forbidden 'Err:|451  Unav'
  quiet_day
  answers '451 Unavailable For Legal Reasons' '' 'no'
  console "apt-get update"
}
not-http() {
  label connection-lost 'Err:'
  quiet_day
  listens 'print $c "220 harbour mail ready\r\n"; close $c'
  console "apt-get update"
}
proxy-unreachable() {
  label proxy-unreachable 'Err:'
  quiet_day
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo 'Acquire::http::Proxy "http://127.0.0.1:9";' >"$root/etc/apt/apt.conf.d/90proxy"
  echo "deb http://packages.skerrow.example/debian bookworm main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
proxy-name-wrong() {
  label proxy-unreachable 'Err:'
  quiet_day
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo 'Acquire::http::Proxy "http://proxy.skerrow.invalid:3128";' >"$root/etc/apt/apt.conf.d/90proxy"
  echo "deb http://packages.skerrow.example/debian bookworm main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
server-silent() {
  label connection-lost 'Err:1|Connection failed|timed out'
  quiet_day
  listens 'push @kept, $c'
  echo 'Acquire::http::Timeout "2"; Acquire::Retries "0";' >"$root/etc/apt/apt.conf.d/90time"
  console "apt-get update"
}
suite-unknown() {
  label repository-wrong 'Err:'
  quiet_day
  sed -i "s/ $suite / harbourworm /" "$root/etc/apt/sources.list"
  console "apt-get update"
}
repo-file-gone() {
  label download-not-found 'Err:'
  quiet_day
  deb skerrow-tides 1.0; repo
  inside apt-get update -qq >/dev/null
  rm "$root/repo/skerrow-tides_1.0_all.deb"
  console "apt-get -y install skerrow-tides"
}
pin-forbids() {
  label 'package-not-known|version-not-available' 'has no installation candidate'
  quiet_day
  deb skerrow-tides 1.0; repo
  printf 'Package: skerrow-tides\nPin: version *\nPin-Priority: -1\n' >"$root/etc/apt/preferences.d/90skerrow"
  console "apt-get update -qq; apt-get -y install skerrow-tides"
}
remove-needed-refused() {
  label 'needed-by-another|unmet-dependencies' 'dependency problems prevent removal'
  quiet_day
  deb skerrow-base 1.0; deb skerrow-top 1.0 'Depends: skerrow-base'
  have skerrow-base_1.0_all.deb skerrow-top_1.0_all.deb
  console "dpkg -r skerrow-base"
}
hold-forbids-upgrade() {
  label package-held '^E: .*[Hh]eld'
  deb skerrow-tides 1.0; have skerrow-tides_1.0_all.deb
  inside apt-mark hold skerrow-tides >/dev/null
  deb skerrow-tides 2.0
  console "apt-get -y install /repo/skerrow-tides_2.0_all.deb"
}
downgrade-unasked() {
  label older-than-installed '^E: .*downgrade'
  deb skerrow-tides 2.0; have skerrow-tides_2.0_all.deb
  deb skerrow-tides 1.0
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
}
archive-empty() {
  label package-file-damaged 'skerrow-void|unexpected end|E: '
  quiet_day
  deb skerrow-void 1.0; : >"$root/repo/skerrow-void_1.0_all.deb"
  console "dpkg -i /repo/skerrow-void_1.0_all.deb"
}
archive-is-text() {
  label package-file-damaged 'not a Debian|E: |error'
  quiet_day
  deb skerrow-void 1.0; echo "404 not found" >"$root/repo/skerrow-void_1.0_all.deb"
  console "apt-get -y install /repo/skerrow-void_1.0_all.deb"
}
file-not-there() {
  label package-not-known 'No such file|Unsupported file|Unable to locate|cannot access'
  quiet_day
  console "dpkg -i /repo/skerrow-nowhere_1.0_all.deb"
}
initramfs-hook() {
  label early-boot-hook-failed 'the compass driver is not built|failed with return'
  quiet_day
  printf '#!/bin/sh\n[ "$1" = prereqs ] && exit 0\necho "skerrow: the compass driver is not built" >&2\nexit 5\n' >"$root/etc/initramfs-tools/hooks/skerrow"
  chmod 755 "$root/etc/initramfs-tools/hooks/skerrow"
  console "dpkg-reconfigure -f noninteractive initramfs-tools; update-initramfs -u -k all"
}
killed-by-user() {
  label run-cut-off 'Setting up skerrow-slow|^Killed'
  quiet_day
  printf 'sleep 30\n' | script_of skerrow-slow postinst
  deb skerrow-slow 1.0
  console "timeout -s KILL 4 apt-get -y install /repo/skerrow-slow_1.0_all.deb"
}
interrupted-by-key() {
  label 'run-interrupted-by-signal|maintainer-script-failed|run-cut-off' 'error processing package skerrow-slow'
  quiet_day
  printf 'kill -INT 0 || true; sleep 1; exit 130\n' | script_of skerrow-slow postinst
  deb skerrow-slow 1.0
  console "apt-get -y install /repo/skerrow-slow_1.0_all.deb"
}
memory-short() {
  label memory-exhausted 'annot allocate|out of memory|Out of memory|Memory'
  quiet_day; repo
  console "ulimit -v 30000; apt-get update; apt-get -y install /repo/skerrow-timetable_3.1_all.deb"
}
debootstrap-no-release() {
  label base-system-not-fetched 'E: |Failed|Invalid'
  with_packages debootstrap
  answers '404 Not Found' '' 'no such thing'
  console "debootstrap --variant=minbase --no-check-gpg bookworm /srv/new http://127.0.0.1:$port/debian"
  cp "$root/srv/new/debootstrap/debootstrap.log" "$work/debootstrap.txt" 2>/dev/null || true
}
debootstrap-no-script() {
  label base-system-not-fetched 'No such script'
  with_packages debootstrap
  console "debootstrap harbourworm /srv/new http://packages.skerrow.example/debian"
}
user-configuration() {
  label package-configuration-malformed 'E: |error'
  quiet_day
  echo 'no-such-option yes' >"$root/etc/dpkg/dpkg.cfg.d/skerrow"
  deb skerrow-tides 1.0
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
log-folder-gone() {
  label log-folder-missing 'Directory .*/var/log/apt|E: |No such file'
  quiet_day
  deb skerrow-tides 1.0
  rm -rf "$root/var/log/apt"; echo x >"$root/var/log/apt"
  console "apt-get -y install /repo/skerrow-tides_1.0_all.deb"
  rm -f "$root/var/log/apt"; mkdir "$root/var/log/apt"; : >"$root/var/log/apt/history.log"; : >"$root/var/log/apt/term.log"
}
tmp-gone() {
  label 'temporary-folder-unusable|path-is-no-folder' 'temporary|/tmp|E: '
  quiet_day; repo
  rm -rf "$root/tmp"; echo x >"$root/tmp"
  console "apt-get update; apt-get -y install /repo/skerrow-timetable_3.1_all.deb"
}

run "$@"
