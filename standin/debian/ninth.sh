#!/bin/bash
# Provokes failures of a ninth draw, after the rules that the eighth had led to: packages of the archive, records and
# surroundings that no draw had touched. Two halves are told apart by a seed; each is scored once, as it comes.
# usage: ninth.sh --list | ninth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

tried_package=skerrow-capstan tried_version=2.2 # what script_says makes
# plain_capstan makes skerrow-capstan with one file in it.
plain_capstan() {
  quiet_day; mkdir -p "$work/skerrow-capstan/usr/share/capstan"; echo rope >"$work/skerrow-capstan/usr/share/capstan/rope"
  deb skerrow-capstan 2.2
}
try_capstan() { console "apt-get -y install /repo/skerrow-capstan_2.2_all.deb"; }

ninth-dpkg-hook() {
  label 'apt-hook-failed' 'hook|berth list'
  quiet_day; printf "pre-invoke=echo 'berth list is locked' >&2; exit 4\n" >"$root/etc/dpkg/dpkg.cfg.d/berths"; deb skerrow-capstan 2.2
  console "dpkg -i /repo/skerrow-capstan_2.2_all.deb"
}
ninth-python-gone() {
  label 'package-tool-missing|maintainer-script-failed|script-needs-a-program|script-unrunnable' 'py3compile: not found'
  quiet_day; with_packages python3 ; ln -sfn python3.9 "$root/usr/bin/python3"; console "apt-get -y install --no-install-recommends python3-yaml"
}
ninth-python-syntax() {
  label 'maintainer-script-failed' 'SyntaxError'
  quiet_day; with_packages python3; mkdir -p "$work/skerrow-capstan/usr/share/capstan"; printf 'def turn(\n' >"$work/skerrow-capstan/usr/share/capstan/turn.py"
  script_says 'python3 -m py_compile /usr/share/capstan/turn.py'
}
ninth-grub-probe() {
  label 'kernel-hook-failed|loader-device-not-found|maintainer-script-failed|trigger-failed' 'grub-probe|grub-mkconfig'
  quiet_day; with_packages grub-pc-bin grub-common grub2-common
  mkdir -p "$root/boot/grub"; script_says 'grub-mkconfig -o /boot/grub/grub.cfg'
}
ninth-clearsigned-portal() {
  label 'sign-in-page-instead-of-list|download-altered' 'NOSPLIT|Clearsigned'
  quiet_day; answers '200 OK' 'Content-Type: text/html' '<html><body>Welcome aboard. Please accept the terms of the ferry network.</body></html>'
  console "apt-get update"
}
ninth-dpkg-folder-gone() {
  label 'package-database-damaged|tool-folder-missing|package-system-stopped|package-files-lost' 'packaging system|var/lib/dpkg'
  quiet_day; mv "$root/var/lib/dpkg" "$root/var/lib/dpkg.moved"; console "apt-get -y install less"
}
ninth-info-format() {
  label 'package-info-record-damaged|package-database-damaged' 'info database format'
  plain_capstan; echo 7 >"$root/var/lib/dpkg/info/format"; try_capstan
}
ninth-list-garbage() {
  label 'package-info-record-damaged|package-database-damaged' 'files list file'
  plain_capstan; head -c 900 /dev/zero >"$root/var/lib/dpkg/info/sed.list"; try_capstan
}
ninth-statoverride-cut() {
  label 'override-record-damaged|statoverride-names-unknown-account' 'statoverride|stat override'
  plain_capstan; printf 'root mail' >"$root/var/lib/dpkg/statoverride"; try_capstan
}
ninth-no-chown() {
  label 'no-permission' 'Operation not permitted'
  quiet_day; mkdir -p "$work/skerrow-capstan/usr/share/capstan"; echo rope >"$work/skerrow-capstan/usr/share/capstan/rope"; chown 0:0 "$work/skerrow-capstan/usr/share/capstan/rope"
  script_says 'chown games:games /usr/share/capstan/rope' >/dev/null; inside dpkg --purge skerrow-capstan >/dev/null 2>&1; with_packages libcap2-bin
  : >"$root/var/log/dpkg.log"; : >"$root/var/log/apt/history.log"; : >"$root/var/log/apt/term.log"
  console "capsh --drop=cap_chown -- -c 'apt-get -y install /repo/skerrow-capstan_2.2_all.deb'"
}
ninth-setcap() {
  label 'maintainer-script-failed|no-permission' 'Operation not supported|setcap|not supported'
  with_packages libcap2-bin; mkdir -p "$root/opt/capstan"; mount -t ramfs ramfs "$root/opt/capstan"; cp "$root/bin/cat" "$root/opt/capstan/turn"
  script_says 'setcap cap_net_raw+ep /opt/capstan/turn'
}
ninth-sudo-in-script() {
  label 'maintainer-script-failed|configuration-prompt|script-needs-a-program|no-permission' 'password is required|sudo:'
  with_packages sudo; useradd -R "$root" -m deckhand 2>/dev/null || inside useradd -m deckhand
  script_says 'su deckhand -c "sudo -n true"'
}
ninth-cdrom-add() {
  label 'disc-wanted|medium-record-unreadable|file-system-damaged|package-not-there' 'Failed to mount'
  quiet_day; console "apt-cdrom add"
}
ninth-reconfigure() {
  label 'package-not-there|package-not-known|package-object-unknown|package-states-contradict|packages-not-at-rest' 'not installed|not fully installed|broken'
  quiet_day; console "dpkg-reconfigure skerrow-capstan"
}
ninth-debootstrap-user() {
  label 'not-run-as-root' 'root'
  quiet_day; with_packages debootstrap; inside useradd -m deckhand; local mirror; mirror=$(mirror_of "$suite")
  console "su deckhand -s /bin/sh -c 'PATH=/usr/sbin:/usr/bin:/sbin:/bin debootstrap bookworm /tmp/new $mirror'"
}
ninth-component-missing() {
  label 'package-not-known|repository-component-missing' 'Unable to locate|no installation candidate'
  quiet_day; inside apt-get update -qq; console "apt-get -y install firmware-linux-nonfree"
}
ninth-cert-not-yet() {
  label 'clock-behind|certificate-not-trusted|certificate-expired' 'not activated|not yet valid|NOT trusted|erification failed'
  quiet_day; tls_server packages.skerrow.example 30; kill "$server"
  ( cd "$work"; echo >index.txt; rm -rf issued; mkdir issued; : >index.txt
    openssl ca -batch -config ca.conf -in tls.csr -out tls.crt -extfile san -startdate "$(date -ud '20 days' +%y%m%d%H%M%SZ)" -enddate "$(date -ud '50 days' +%y%m%d%H%M%SZ)" 2>/dev/null )
  openssl s_server -quiet -accept "127.0.0.1:$port" -cert "$work/tls.crt" -key "$work/tls.key" -www >/dev/null 2>&1 & server=$!; sleep 1
  console "apt-get update"
}
ninth-preload() {
  label 'maintainer-script-failed' 'lanyard'
  echo /usr/lib/libharbour-audit.so >"$root/etc/ld.so.preload"; script_says 'echo "the lanyard is not tied" >&2' 'exit 5'
}
ninth-locale-noise() {
  label 'maintainer-script-failed' 'no such table'
  with_packages sqlite3 perl; language=nb_NO.UTF-8
  script_says 'perl -e 1' 'sqlite3 /var/tmp/berths.db "select * from berths"'
}
ninth-sysusers() {
  label 'maintainer-script-failed|account-in-the-way|user-database-locked|script-needs-a-program' 'cannot create|Failed to parse'
  with_packages systemd-standalone-sysusers
  script_says 'printf "u winchman 77777777777 \"x\"\n" >/usr/lib/sysusers.d/winch.conf || mkdir -p /usr/lib/sysusers.d && printf "u winchman bad:id:x\n" >/usr/lib/sysusers.d/winch.conf' 'systemd-sysusers /usr/lib/sysusers.d/winch.conf'
}
ninth-uids-used-up() {
  label 'maintainer-script-failed|tool-limit-exceeded|account-in-the-way' 'UID|available'
  with_packages adduser; printf 'FIRST_SYSTEM_UID=100\nLAST_SYSTEM_UID=100\n' >>"$root/etc/adduser.conf"; inside useradd -u 100 holds 2>/dev/null || true
  script_says 'adduser --system --group winchman'
}
ninth-shadow-immutable() {
  label 'user-database-locked|account-list-damaged|maintainer-script-failed|file-immutable|no-permission' 'shadow|passwd|gshadow'
  umount "$root/etc/shadow" 2>/dev/null || true; mount --bind "$root/etc/shadow" "$root/etc/shadow"
  script_says 'useradd --system winchman'
}
ninth-localtime-folder() {
  label 'maintainer-script-failed|directory-in-the-way|path-is-no-folder' 'localtime|timezone|directory'
  quiet_day; rm -f "$root/etc/localtime" "$root/etc/timezone"; mkdir -p "$root/etc/localtime/x"; mkdir "$root/etc/timezone"; console "apt-get -y install --reinstall tzdata"
}
ninth-download-full-cut() {
  label 'volume-full|download-volume-full' 'No space left|not enough|enough free space'
  quiet_day; inside apt-get update -qq; mount -t tmpfs -o size=300k tmpfs "$root/var/cache/apt/archives"; mkdir "$root/var/cache/apt/archives/partial"
  console "apt-get -y install git"
}
ninth-lists-full() {
  label 'volume-full|download-volume-full' 'No space left|write error|E: |Err'
  quiet_day; rm -rf "$root"/var/lib/apt/lists/*; mount -t tmpfs -o size=3m tmpfs "$root/var/lib/apt/lists"; mkdir "$root/var/lib/apt/lists/partial"; console "apt-get update"
}
ninth-unattended-broken() {
  label 'unmet-dependencies|resolver-gave-up|packages-not-at-rest|package-run-interrupted' 'broken|unmet|dependency'
  with_packages unattended-upgrades; deb skerrow-rope 1.0 'Depends: skerrow-hemp'; inside dpkg --force-depends -i /repo/skerrow-rope_1.0_all.deb >/dev/null 2>&1
  : >"$root/var/log/dpkg.log"; console "unattended-upgrade -v"
}
ninth-unattended-lock() {
  label 'package-system-locked' '[Ll]ock'
  with_packages unattended-upgrades; quiet_day
  perl -MFcntl=:DEFAULT -e 'open F, ">", $ARGV[0]; my $l = pack("s s l! l! i", 1, 0, 0, 0, 0); fcntl(F, F_SETLK, $l) or die; sleep 60' "$root/var/lib/dpkg/lock-frontend" & server=$!; sleep 1
  console "unattended-upgrade -v; apt-get -y install less"
}
ninth-recommends-held-chain() {
  label 'package-held|unmet-dependencies|resolver-gave-up' 'held|unmet'
  deb skerrow-hull 1.0; deb skerrow-mast 1.0 'Depends: skerrow-hull (= 1.0)'; have skerrow-hull_1.0_all.deb skerrow-mast_1.0_all.deb
  inside apt-mark hold skerrow-hull >/dev/null; deb skerrow-hull 2.0; deb skerrow-mast 2.0 'Depends: skerrow-hull (= 2.0)'; repo
  console "apt-get update -qq; apt-get -y install skerrow-mast; apt-mark showhold"
}
ninth-conflict-both-asked() {
  label 'packages-conflict|unmet-dependencies' 'Conflicts|conflict'
  deb skerrow-port 1.0 'Conflicts: skerrow-starboard'; deb skerrow-starboard 1.0; repo; console "apt-get update -qq; apt-get -y install skerrow-port skerrow-starboard"
}
ninth-old-release-404() {
  label 'repository-wrong' 'does not have a Release file|404'
  quiet_day; answers '404 Not Found'; sed -i 's/bookworm/jessie/' "$root/etc/apt/sources.list"; console "apt-get update"
}
ninth-two-mirrors-sync() {
  label 'download-not-found|package-lists-damaged|repository-unreachable|download-failed|repository-wrong' 'File not found|404|Failed to fetch'
  deb skerrow-capstan 2.2; repo; inside apt-get update -qq; mv "$root/repo/skerrow-capstan_2.2_all.deb" "$root/repo/skerrow-capstan_2.3_all.deb"
  console "apt-get -y install skerrow-capstan"
}
ninth-memory-script() {
  label 'memory-exhausted|maintainer-script-failed' 'memory|MemoryError|malloc'
  with_packages python3-minimal; script_says 'ulimit -v 300000; python3 -c "x = bytearray(900000000)"'
}
ninth-kernel-hook-space() {
  label 'boot-volume-full|volume-full' 'No space left'
  quiet_day; cp -a "$root/boot" "$work/boot"; mount -t tmpfs -o size=$(( $(du -sk "$work/boot" | cut -f1) + 600 ))k tmpfs "$root/boot"; cp -a "$work/boot/." "$root/boot/" || true
  with_packages zstd; console "apt-get -y install linux-image-cloud-amd64 linux-headers-cloud-amd64 --reinstall; update-initramfs -c -k all; df -h /boot"
}

run "$@"
