#!/bin/bash
# Provokes failures of a thirteenth draw: hooks that packages of the archive bring, runs that nobody watches, other tools
# that set systems up, and what machines of an office have between them and the archive. Each is scored once, as it comes.
# usage: thirteenth.sh --list | thirteenth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

tried_package=skerrow-buoy tried_version=1.7 # what script_says makes

thirteenth-checksums-hook() {
  label 'apt-hook-failed|order-not-found' 'debsums-gen|not found|No such file'
  quiet_day; printf 'DPkg::Post-Invoke { "if [ -x /usr/bin/apt ]; then /opt/office/bin/report-inventory --quiet; fi"; };\n' >"$root/etc/apt/apt.conf.d/90office"
  deb skerrow-buoy 1.7; console "apt-get -y install /repo/skerrow-buoy_1.7_all.deb"
}
thirteenth-unattended-conffile() {
  label configuration-prompt 'conffile prompt|configuration prompt|conffile'
  with_packages unattended-upgrades; mkdir -p "$work/skerrow-buoy/etc"; echo 'light = 3' >"$work/skerrow-buoy/etc/buoy.conf"; printf '/etc/buoy.conf\n' >/dev/null
  mkdir -p "$work/skerrow-buoy/DEBIAN"; echo /etc/buoy.conf >"$work/skerrow-buoy/DEBIAN/conffiles"; deb skerrow-buoy 1.6; have skerrow-buoy_1.6_all.deb
  echo 'light = 9 # Joren' >"$root/etc/buoy.conf"; echo 'light = 4' >"$work/skerrow-buoy/etc/buoy.conf"; rm "$root"/repo/*; deb skerrow-buoy 1.7; repo
  echo 'Unattended-Upgrade::Origins-Pattern { "site=*"; "origin=*"; "o=*"; };' >"$root/etc/apt/apt.conf.d/52office"; inside apt-get update -qq >/dev/null
  console "unattended-upgrade -v; dpkg --compare-versions \$(dpkg-query -W -f '\${Version}' skerrow-buoy) ge 1.7"
}
thirteenth-unattended-script() {
  label 'maintainer-script-failed' 'buoy: calibration data missing'
  with_packages unattended-upgrades; deb skerrow-buoy 1.6; have skerrow-buoy_1.6_all.deb; printf 'echo "buoy: calibration data missing" >&2\nexit 4\n' | script_of skerrow-buoy postinst
  rm "$root"/repo/*; deb skerrow-buoy 1.7; repo; echo 'Unattended-Upgrade::Origins-Pattern { "site=*"; "o=*"; };' >"$root/etc/apt/apt.conf.d/52office"; inside apt-get update -qq >/dev/null
  console "unattended-upgrade; dpkg -s skerrow-buoy | grep -q 'install ok installed'"; cp "$root"/var/log/unattended-upgrades/*.log "$work/"
}
thirteenth-multistrap() {
  label 'new-system-does-not-run|unmet-dependencies|package-not-known' 'Unable to locate|Couldn|unable'
  with_packages mmdebstrap; console "mmdebstrap --variant=apt --include=skerrow-buoy bookworm /srv/new $(mirror_of bookworm)"
}
thirteenth-bootstrap-target-noexec() {
  label 'volume-noexec|new-system-does-not-run' 'noexec|nodev|Permission denied|not executable'
  with_packages mmdebstrap; mkdir -p "$root/srv/new"; mount -t tmpfs -o noexec,nodev tmpfs "$root/srv/new"
  console "mmdebstrap --variant=minbase bookworm /srv/new/root $(mirror_of bookworm)"
}
thirteenth-bootstrap-hook() {
  label 'apt-hook-failed|maintainer-script-failed|script-needs-a-program|order-not-found' 'chroot: failed to run'
  with_packages mmdebstrap; console "mmdebstrap --variant=essential --customize-hook='chroot \"\$1\" office-setup --site Lerrick' bookworm /srv/new $(mirror_of bookworm)"
}
thirteenth-bootstrap-user-space() {
  label 'volume-full' 'No space left|not enough free space|enough'
  with_packages debootstrap; mkdir -p "$root/srv/new"; mount -t tmpfs -o size=90m tmpfs "$root/srv/new"; console "debootstrap --variant=minbase bookworm /srv/new $(mirror_of bookworm)"
  cp "$root/srv/new/debootstrap/debootstrap.log" "$work/debootstrap.log" 2>/dev/null || true
}
thirteenth-driver-does-not-build() {
  label 'maintainer-script-failed|trigger-failed|early-boot-hook-failed|kernel-module-build-failed' 'error: implicit declaration'
  with_packages dkms linux-headers-cloud-amd64 gcc make; local t="$work/skerrow-tide-dkms/usr/src/skerrow-tide-3.0"; mkdir -p "$t"
  printf 'PACKAGE_NAME="skerrow-tide"\nPACKAGE_VERSION="3.0"\nBUILT_MODULE_NAME[0]="tide"\nDEST_MODULE_LOCATION[0]="/updates"\nAUTOINSTALL="yes"\n' >"$t/dkms.conf"
  printf 'obj-m := tide.o\nall:\n\t$(MAKE) -C /lib/modules/$(KERNELRELEASE)/build M=$(CURDIR) modules\nclean:\n\ttrue\n' >"$t/Makefile"
  printf '#include <linux/module.h>\nstatic int __init tide(void) { return harbour_depth(4); }\nmodule_init(tide);\nMODULE_LICENSE("GPL");\n' >"$t/tide.c"
  printf 'k=$(ls /lib/modules | tail -1)\ndkms add -m skerrow-tide -v 3.0\ndkms build -m skerrow-tide -v 3.0 -k "$k" || { cat /var/lib/dkms/skerrow-tide/3.0/build/make.log; exit 10; }\n' | script_of skerrow-tide-dkms postinst
  deb skerrow-tide-dkms 3.0; console "apt-get -y install /repo/skerrow-tide-dkms_3.0_all.deb"
}
thirteenth-pip-refuses() {
  label 'maintainer-script-failed' 'externally-managed'
  with_packages python3-pip; script_says 'pip install skerrow-buoy-tools'
}
thirteenth-web-modules() {
  label 'maintainer-script-failed|own-configuration-refused' 'does not exist|ERROR: Module'
  with_packages apache2; script_says 'a2enmod proxy_harbour'
}
thirteenth-web-setting() {
  label 'own-configuration-refused|maintainer-script-failed' 'Invalid command|Syntax error'
  with_packages apache2; echo 'HarbourMode on' >"$root/etc/apache2/conf-enabled/office.conf"; script_says 'apache2ctl configtest'
}
thirteenth-database-not-there() {
  label 'maintainer-script-failed|share-gone-stale|service-not-started' 'could not connect|connection to server|No such file'
  with_packages postgresql-client; script_says 'psql -h /run/postgresql -U buoy -c "create table buoys (id int)" buoys'
}
thirteenth-group-file-locked() {
  label 'user-database-locked' 'cannot lock|lock'
  quiet_day; : >"$root/etc/group.lock"; echo $$ >"$root/etc/gshadow.lock"; echo $$ >"$root/etc/group.lock"; script_says 'groupadd --system buoys'
}
thirteenth-home-on-share() {
  label 'maintainer-script-failed|no-permission|volume-read-only' 'cannot create directory'
  quiet_day; mkdir -p "$root/srv/share"; mount -t tmpfs -o size=1m tmpfs "$root/srv/share"; mount -o remount,ro "$root/srv/share"; script_says 'useradd --system --create-home --home-dir /srv/share/buoy buoy'
}
thirteenth-cache-server() {
  label 'repository-server-error|download-failed' '503|502|Service'
  quiet_day; answers '503 Cache backend fetch failed' 'Server: office-cache' 'try later'; console "apt-get update -o APT::Update::Error-Mode=any -o Acquire::Retries=1"
}
thirteenth-filter-page() {
  label 'sign-in-page-instead-of-list|server-answers-nonsense|repository-lost-its-signature' 'Clearsigned file|not signed|NOSPLIT|does not have a Release'
  quiet_day; answers '200 OK' 'Content-Type: text/html' '<html><body>The category of this page is not allowed at Skerrow Ferries</body></html>'; console "apt-get update"
}
thirteenth-http2-answer() {
  label 'server-answers-nonsense|connection-lost' 'Connection failed|header|reply'
  quiet_day; listens 'print $c "\0\0\x12\x04\0\0\0\0\0\0\3\0\0\0d\0\4\0\0\xff\xff" x 20; close $c'; console "apt-get update -o APT::Update::Error-Mode=any"
}
thirteenth-tor-address() {
  label 'name-not-resolved|method-switched-off|transport-missing|address-malformed' 'onion|resolve|tor'
  quiet_day; rm -f "$root/etc/apt/apt.conf.d/"*prox*; echo 'deb http://skerrowxyz234.onion/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update -o APT::Update::Error-Mode=any"
}
thirteenth-mirror-list() {
  label 'download-not-found|sources-malformed|repository-wrong|package-not-there|address-malformed' 'Err:1 file'
  quiet_day; echo 'deb mirror+file:/etc/apt/mirrors.txt bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update -o APT::Update::Error-Mode=any"
}
thirteenth-usb-source() {
  label 'path-is-no-folder|repository-wrong|download-not-found|repository-unreachable' 'Err:3 file'
  quiet_day; echo 'deb [trusted=yes] file:/media/stick/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update"
}
thirteenth-simulated-then-real() {
  label 'unmet-dependencies' 'Depends:|but it is not'
  quiet_day; deb skerrow-buoy 1.7 'Depends: skerrow-chain (= 2)'; deb skerrow-chain 3; repo; inside apt-get update -qq >/dev/null; console "apt-get -s install skerrow-timetable; apt-get -y install skerrow-buoy"
}
thirteenth-provides-version() {
  label 'unmet-dependencies' 'Depends:|depends on'
  quiet_day; deb skerrow-light 2 'Provides: buoy-light'; deb skerrow-buoy 1.7 'Depends: buoy-light (>= 2)'; repo; inside apt-get update -qq >/dev/null; console "apt-get -y install skerrow-light skerrow-buoy"
}
thirteenth-two-files-in-one() {
  label 'file-in-two-packages' 'trying to overwrite'
  mkdir -p "$work/skerrow-buoy/usr/lib/skerrow" "$work/skerrow-light/usr/lib/skerrow"; echo 1 >"$work/skerrow-light/usr/lib/skerrow/lamp"; deb skerrow-light 2; have skerrow-light_2_all.deb
  echo 2 >"$work/skerrow-buoy/usr/lib/skerrow/lamp"; deb skerrow-buoy 1.7; deb skerrow-chart 5; deb skerrow-winch 2; console "dpkg -i /repo/skerrow-chart_5_all.deb /repo/skerrow-buoy_1.7_all.deb /repo/skerrow-winch_2_all.deb"
}
thirteenth-removed-with-service() {
  label 'maintainer-script-failed|script-needs-a-program' 'buoyctl|not found'
  printf 'buoyctl drain --all\n' | script_of skerrow-buoy prerm; deb skerrow-buoy 1.7; have skerrow-buoy_1.7_all.deb; console "apt-get -y autoremove --purge skerrow-buoy"
}
thirteenth-localised-proxy() {
  label 'proxy-wants-sign-in' '407'
  quiet_day; speaking fr_FR.UTF-8; answers '407 Proxy Authentication Required' 'Proxy-Authenticate: Basic realm="Skerrow"' 'no'; echo "Acquire::http::Proxy \"http://127.0.0.1:$port/\";" >"$root/etc/apt/apt.conf.d/80proxy"
  echo 'deb http://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update -o APT::Update::Error-Mode=any"
}
thirteenth-limits-of-container() {
  label 'process-limit-reached|maintainer-script-failed|memory-exhausted|script-killed' 'Out of memory|fork|Resource'
  quiet_day; printf 'ulimit -v 60000; perl -e "my \\$a = q(x) x 200000000; print length \\$a" \n' | script_of skerrow-buoy postinst; deb skerrow-buoy 1.7; console "apt-get -y install /repo/skerrow-buoy_1.7_all.deb"
}
thirteenth-certificate-store() {
  label 'maintainer-script-failed|link-to-nowhere|trigger-failed|no-permission|path-is-no-folder' 'ca-certificates|cannot|No such|directory'
  quiet_day; rm -rf "$root/etc/ssl/certs"; ln -s /srv/shared/certs "$root/etc/ssl/certs"; inside apt-get update -qq >/dev/null; console "apt-get -y install --reinstall ca-certificates"
}
thirteenth-old-sysv-script() {
  label 'maintainer-script-failed|script-not-valid|own-configuration-refused' 'insserv|update-rc.d|LSB|error'
  quiet_day; printf 'update-rc.d buoyd defaults\n' | script_of skerrow-buoy postinst; deb skerrow-buoy 1.7; console "apt-get -y install /repo/skerrow-buoy_1.7_all.deb"
}
thirteenth-font-cache() {
  label 'maintainer-script-failed|path-busy|no-permission|file-immutable|directory-in-the-way' 'cannot remove|fc-cache'
  with_packages fontconfig; mkdir -p "$root/var/cache/fontconfig"; chattr +i "$root/var/cache/fontconfig" 2>/dev/null || mount --bind -o ro "$root/var/cache/fontconfig" "$root/var/cache/fontconfig"; script_says 'rm -rf /var/cache/fontconfig' 'fc-cache -s'
}
run "$@"
