#!/bin/bash
# Provokes failures of a fifth draw, after the rules that the fourth had led to: mostly packages of the archive itself,
# on machines that somebody has changed. Each is scored once, as it comes, and the two halves are told apart.
# usage: fifth.sh --list | fifth.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

fifth-local-library() {
  label 'library-missing|maintainer-script-failed|package-tool-missing' 'libz|file too short|invalid ELF|error while loading'
  quiet_day; with_packages python3-minimal
  echo junk >"$root/usr/local/lib/libz.so.1"; inside ldconfig 2>/dev/null || true
  mkdir -p "$root/etc/ld.so.conf.d"; cp "$root/usr/local/lib/libz.so.1" "$root/usr/local/lib/libc.so.7"
  echo 'LD_LIBRARY_PATH=/usr/local/lib python3 -c "import zlib; print(zlib.ZLIB_VERSION)"' | script_of skerrow-charts postinst
  deb skerrow-charts 1.0
  console "apt-get -y install /repo/skerrow-charts_1.0_all.deb"
}
fifth-perl-module-broken() {
  label 'interpreter-broken|maintainer-script-failed' 'Missing right curly|syntax error|Compilation failed'
  quiet_day
  mkdir -p "$root/etc/perl/Debconf/Client"; echo 'package Debconf::Client::ConfModule; sub {' >"$root/etc/perl/Debconf/Client/ConfModule.pm"
  console "apt-get update -qq; apt-get -y install dictionaries-common"
}
fifth-nginx-module() {
  label 'file-in-two-packages' 'trying to overwrite'
  mkdir -p "$work/skerrow-tree/usr/bin"; echo x >"$work/skerrow-tree/usr/bin/tree"
  deb skerrow-tree 1.0; have skerrow-tree_1.0_all.deb
  inside apt-get update -qq
  console "apt-get -y install tree"
}
fifth-adduser-shadow() {
  label 'user-database-locked|user-database-damaged|maintainer-script-failed' 'lock|group|passwd'
  quiet_day; inside apt-get update -qq
  printf 'x::\n' >"$root/etc/gshadow"; echo 'broken line without fields' >>"$root/etc/group"; : >"$root/etc/.pwd.lock"; touch "$root/etc/group.lock"; echo 1 >"$root/etc/group.lock"
  console "apt-get -y install --no-install-recommends dbus"
}
fifth-no-nobody() {
  label 'account-missing|maintainer-script-failed' 'root|user|chown'
  quiet_day
  mkdir -p "$work/skerrow-mail/usr/share/m"; echo 1 >"$work/skerrow-mail/usr/share/m/a"
  echo 'chown mail:mail /usr/share/m/a' | script_of skerrow-mail postinst
  deb skerrow-mail 1.0
  sed -i '/^mail:/d' "$root/etc/passwd" "$root/etc/group"
  console "apt-get -y install /repo/skerrow-mail_1.0_all.deb"
}
fifth-openssh-config() {
  label 'maintainer-script-failed|own-configuration-refused' 'Bad configuration option'
  with_packages openssh-server
  echo 'ListenAdress 0.0.0.0' >>"$root/etc/ssh/sshd_config"
  echo '/usr/sbin/sshd -t -f /etc/ssh/sshd_config' | script_of skerrow-remote postinst
  mkdir -p "$root/run/sshd"
  deb skerrow-remote 1.0
  console "apt-get -y install /repo/skerrow-remote_1.0_all.deb"
}
fifth-apt-sandbox() {
  label 'no-permission|download-failed' 'denied|13:|not permitted'
  quiet_day; inside apt-get update -qq
  chmod 700 "$root/var/cache/apt/archives"; mkdir -p "$root/private"; chmod 700 "$root/private"
  rm -rf "$root/var/lib/apt/lists/partial"; mkdir -m 000 "$root/var/lib/apt/lists/partial"; chown root "$root/var/lib/apt/lists/partial"
  chmod 711 "$root/var/lib/apt/lists"; rm -f "$root/var/lib/apt/lists/"*InRelease; chattr +i "$root/var/lib/apt/lists/partial" 2>/dev/null || mount --bind -o ro "$root/var/lib/apt/lists/partial" "$root/var/lib/apt/lists/partial"; mount -o remount,ro,bind "$root/var/lib/apt/lists/partial" 2>/dev/null || true
  console "apt-get update"
}
fifth-keyring-format() {
  label 'repository-key-missing' 'NO_PUBKEY|not signed|unsupported filetype|ignored as the file'
  quiet_day
  echo 'not a key' >"$root/usr/share/keyrings/skerrow.asc"
  local mirror; mirror=$(mirror_of "$suite")
  echo "deb [signed-by=/usr/share/keyrings/skerrow.asc] $mirror $suite main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
fifth-keyring-absent() {
  label 'repository-key-missing' 'NO_PUBKEY|not signed'
  quiet_day
  local mirror; mirror=$(mirror_of "$suite")
  echo "deb [signed-by=/usr/share/keyrings/harbour.gpg] $mirror $suite main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
fifth-keyring-unreadable() {
  label 'no-permission|repository-key-missing' 'not readable|NO_PUBKEY|denied|not signed'
  quiet_day
  chmod 000 "$root"/etc/apt/trusted.gpg.d/* "$root"/usr/share/keyrings/*
  console "apt-get update"
}
fifth-deb822-bad() {
  label 'sources-malformed' 'Malformed|E: '
  quiet_day
  printf 'Types deb\nURIs: http://packages.skerrow.example/debian\nSuites: bookworm\n' >"$root/etc/apt/sources.list.d/skerrow.sources"
  console "apt-get update"
}
fifth-wrong-scheme() {
  label 'transport-missing|sources-malformed' 'method driver|E: '
  quiet_day
  echo "deb htps://packages.skerrow.example/debian bookworm main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
fifth-cdrom-source() {
  label 'repository-wrong|repository-unreachable|disc-wanted' 'Err:2 cdrom|Please use apt-cdrom'
  quiet_day
  echo "deb cdrom:[Skerrow 12.1]/ bookworm main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
fifth-arch-list() {
  label 'package-not-known|repository-component-missing' 'Unable to locate|no installation candidate'
  quiet_day
  local mirror; mirror=$(mirror_of "$suite")
  echo "deb $mirror $suite main" >"$root/etc/apt/sources.list"
  inside apt-get update -qq
  console "apt-get -y install firmware-iwlwifi"
}
fifth-upgrade-mixed() {
  label 'unmet-dependencies|package-breaks-another|packages-conflict' 'unmet dependencies|Depends|held broken'
  deb skerrow-lib 1.0; deb skerrow-app 1.0 'Depends: skerrow-lib (= 1.0)'; have skerrow-lib_1.0_all.deb skerrow-app_1.0_all.deb
  deb skerrow-lib 2.0; rm -f "$root/repo/skerrow-app_1.0_all.deb" "$root/repo/skerrow-lib_1.0_all.deb"; repo
  console "apt-get update -qq; apt-get -y install skerrow-lib=2.0 skerrow-app=1.0"
}
fifth-virtual-only() {
  label 'package-not-known' 'no installation candidate'
  quiet_day; inside apt-get update -qq
  console "apt-get -y install mail-transport-agent"
}
fifth-autoremove-script() {
  label 'maintainer-script-failed' 'berth 4 is still lit'
  printf 'echo "prerm: counting berths"\necho "prerm: berth 4 is still lit"\nexit 9\n' | script_of skerrow-berth prerm
  deb skerrow-berth 1.0; deb skerrow-quay 1.0 'Depends: skerrow-berth'; repo
  inside apt-get update -qq; inside apt-get -y install skerrow-quay >/dev/null 2>&1
  console "apt-get -y remove skerrow-quay; apt-get -y autoremove"
}
fifth-two-scripts() {
  label 'maintainer-script-failed' 'no route to the buoy'
  quiet_day
  printf 'echo "buoy: no route to the buoy"\nexit 2\n' | script_of skerrow-buoy postinst
  printf 'echo "lamp: nothing to see"\nexit 3\n' | script_of skerrow-lamp postinst
  deb skerrow-buoy 1.0; deb skerrow-lamp 1.0 'Depends: skerrow-buoy'
  console "apt-get -y install /repo/skerrow-buoy_1.0_all.deb /repo/skerrow-lamp_1.0_all.deb"
}
fifth-config-script() {
  label 'maintainer-script-failed' 'sed: |unterminated|unknown'
  quiet_day
  mkdir -p "$root/etc/skerrow"; echo 'port=7' >"$root/etc/skerrow/gate.conf"
  printf 'sed -i "s/port=/port" /etc/skerrow/gate.conf\n' | script_of skerrow-gate postinst
  deb skerrow-gate 1.0
  console "apt-get -y install /repo/skerrow-gate_1.0_all.deb"
}
fifth-java-missing() {
  label 'maintainer-script-failed' 'java: not found|JAVA_HOME'
  quiet_day
  printf 'echo "Setting up the ticket printer"\nif ! command -v java >/dev/null; then echo "JAVA_HOME is not set and java: not found" ; exit 1; fi\n' | script_of skerrow-printer preinst
  deb skerrow-printer 4.0
  console "dpkg -i /repo/skerrow-printer_4.0_all.deb"
}
fifth-mktemp-noexec() {
  label 'volume-noexec|maintainer-script-failed|no-permission' 'Permission denied'
  quiet_day
  printf 'f=$(mktemp)\nprintf "#!/bin/sh\\ntrue\\n" >$f\nchmod 755 $f\n$f\n' | script_of skerrow-setup postinst
  deb skerrow-setup 1.0
  mount -t tmpfs -o noexec tmpfs "$root/tmp"
  console "apt-get -y install /repo/skerrow-setup_1.0_all.deb"
}
fifth-var-lib-ro() {
  label volume-read-only 'Read-only file system'
  quiet_day; deb skerrow-tides 1.0; repo; inside apt-get update -qq
  mount --bind "$root/var/lib/dpkg" "$root/var/lib/dpkg"; mount -o remount,ro,bind "$root/var/lib/dpkg"
  console "apt-get -y install skerrow-tides"
}
fifth-cache-dangling() {
  label 'package-not-known' 'Unable to locate'
  quiet_day; deb skerrow-tides 1.0; repo; inside apt-get update -qq
  rm -rf "$root/var/cache/apt"; ln -s /mnt/big/apt-cache "$root/var/cache/apt"
  console "apt-get -y install skerrow-tides tree"
}
fifth-dpkg-cfg() {
  label 'package-configuration-malformed|user-configuration-broken' 'dpkg.cfg|unknown option|error'
  quiet_day; deb skerrow-tides 1.0
  echo 'force-everything-now' >"$root/etc/dpkg/dpkg.cfg.d/skerrow"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
fifth-path-exclude() {
  label 'maintainer-script-failed' 'No such file or directory'
  quiet_day
  mkdir -p "$work/skerrow-doc/usr/share/doc/skerrow-doc"; echo x >"$work/skerrow-doc/usr/share/doc/skerrow-doc/template"
  echo 'cp /usr/share/doc/skerrow-doc/template /etc/skerrow-template' | script_of skerrow-doc postinst
  deb skerrow-doc 1.0
  echo 'path-exclude=/usr/share/doc/*' >"$root/etc/dpkg/dpkg.cfg.d/nodoc"
  console "apt-get -y install /repo/skerrow-doc_1.0_all.deb"
}
fifth-updates-left() {
  label 'package-database-damaged' 'updates|parsing|error'
  quiet_day; deb skerrow-tides 1.0
  head -c 300 /dev/zero >"$root/var/lib/dpkg/updates/0001"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
fifth-info-conffiles() {
  label 'package-database-damaged' 'conffiles|error|warning'
  quiet_day; deb skerrow-tides 1.0
  head -c 100 /dev/zero >"$root/var/lib/dpkg/info/bash.list" ; head -c 40 /dev/zero >"$root/var/lib/dpkg/info/format"
  console "dpkg -i /repo/skerrow-tides_1.0_all.deb"
}
fifth-foreign-arch() {
  label 'wrong-architecture' 'does not match|error processing archive'
  quiet_day
  deb skerrow-hull 1.0 'Architecture: arm64'
  console "apt-get -y install /repo/skerrow-hull_1.0_arm64.deb"
}
fifth-unattended-conf() {
  label 'configuration-prompt|unattended-conffile-kept|packages-kept-back' 'onffile|conffile prompt|kept'
  with_packages unattended-upgrades python3-apt
  mkdir -p "$work/skerrow-horn/etc/skerrow" "$work/skerrow-horn/DEBIAN"; echo one >"$work/skerrow-horn/etc/skerrow/horn.conf"; echo /etc/skerrow/horn.conf >"$work/skerrow-horn/DEBIAN/conffiles"
  deb skerrow-horn 1.0; have skerrow-horn_1.0_all.deb
  echo mine >"$root/etc/skerrow/horn.conf"; echo two >"$work/skerrow-horn/etc/skerrow/horn.conf"; deb skerrow-horn 2.0; repo
  echo 'Unattended-Upgrade::Origins-Pattern { "site="; "archive=*"; };' >"$root/etc/apt/apt.conf.d/52site"
  console "apt-get update -qq; unattended-upgrade -v; cat /var/log/unattended-upgrades/unattended-upgrades.log"
}
fifth-full-root-upgrade() {
  label volume-full 'No space left on device'
  quiet_day; inside apt-get update -qq
  mount -t tmpfs -o size=6m tmpfs "$root/usr/share/doc"; dd if=/dev/zero of="$root/usr/share/doc/fill" bs=1K count=6000 2>/dev/null || true
  console "apt-get -y install --no-install-recommends git-man perl-modules-5.36 less"
}
fifth-inode-lists() {
  label inodes-used-up 'No space left on device'
  quiet_day; rm -rf "$root/var/lib/apt/lists"; mkdir -p "$root/var/lib/apt/lists"
  mount -t tmpfs -o size=400m,nr_inodes=3 tmpfs "$root/var/lib/apt/lists"
  console "apt-get update; df -i /var/lib/apt/lists; df -h /var/lib/apt/lists"
}
fifth-file-size() {
  label 'file-too-large' 'File too large|File size limit|SIGXFSZ|signal'
  quiet_day
  console "ulimit -f 100; apt-get update"
}
fifth-hook-shell() {
  label apt-hook-failed 'snapshot: pool|Problem executing'
  quiet_day; deb skerrow-tides 1.0; repo; inside apt-get update -qq
  printf '#!/bin/sh\necho "snapshot: pool harbour is offline" >&2\nexit 1\n' >"$root/usr/local/sbin/before-apt"; chmod 755 "$root/usr/local/sbin/before-apt"
  echo 'DPkg::Pre-Invoke { "/usr/local/sbin/before-apt"; };' >"$root/etc/apt/apt.conf.d/80snapshot"
  console "apt-get -y install skerrow-tides"
}
fifth-debootstrap-key() {
  label 'repository-key-missing|base-system-not-fetched' 'Release signed by unknown'
  quiet_day; with_packages debootstrap
  local mirror; mirror=$(mirror_of "$suite")
  : >"$root/tmp/empty.gpg"
  console "debootstrap --keyring=/tmp/empty.gpg --variant=minbase bookworm /srv/new $mirror"
}
fifth-debootstrap-noexec() {
  label 'volume-noexec' 'Permission denied|Cannot install'
  quiet_day; with_packages debootstrap
  mount -t tmpfs -o noexec,nodev tmpfs "$root/srv"
  local mirror; mirror=$(mirror_of "$suite")
  console "debootstrap --variant=minbase bookworm /srv/new $mirror"
}
fifth-debootstrap-package() {
  label 'package-not-known|base-system-not-fetched' 'ouldn.t find these debs'
  quiet_day; with_packages debootstrap
  local mirror; mirror=$(mirror_of "$suite")
  console "debootstrap --include=skerrow-nonsuch --variant=minbase bookworm /srv/new $mirror"
}
fifth-debootstrap-full() {
  label 'volume-full|base-system-not-fetched|download-failed' 'No space left on device|download'
  quiet_day; with_packages debootstrap
  mount -t tmpfs -o size=40m tmpfs "$root/srv"
  local mirror; mirror=$(mirror_of "$suite")
  console "debootstrap --variant=minbase bookworm /srv/new $mirror"
}
fifth-dns-temporary() {
  label name-not-resolved 'Temporary failure'
  quiet_day
  printf 'nameserver 127.0.0.9\noptions timeout:1 attempts:1\n' >"$root/etc/resolv.conf"; rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo "deb http://updates.skerrow.example/debian bookworm main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
fifth-short-body() {
  label 'connection-lost|download-altered|download-failed' 'Undetermined Error'
  quiet_day
  answers "200 OK" "Content-Length: 5000" "cut"
  console "apt-get -o Acquire::Retries=0 update"
}
fifth-bad-gzip() {
  label 'download-altered|download-failed|download-not-found|repository-wrong' 'File not found|Failed to fetch'
  quiet_day; deb skerrow-tides 1.0; repo
  gzip -k "$root/repo/Packages"; printf 'XXXX' | dd of="$root/repo/Packages.gz" bs=1 seek=2 conv=notrunc 2>/dev/null; rm "$root/repo/Packages"
  console "apt-get update"
}
fifth-interrupted-then() {
  label 'package-run-interrupted' 'was interrupted'
  deb skerrow-a 1.0; printf 'kill -9 $PPID\nsleep 1\n' | script_of skerrow-cut postinst; deb skerrow-cut 1.0
  inside dpkg -i /repo/skerrow-cut_1.0_all.deb >/dev/null 2>&1 || true
  : >"$root/var/log/dpkg.log"; : >"$root/var/log/apt/term.log"; : >"$root/var/log/apt/history.log"
  console "apt-get -y install /repo/skerrow-a_1.0_all.deb"
}
fifth-man-trigger() {
  label 'trigger-failed|maintainer-script-failed' 'harbour index'
  quiet_day
  mkdir -p "$work/skerrow-index/DEBIAN"; echo 'interest-noawait /usr/share/skerrow' >"$work/skerrow-index/DEBIAN/triggers"
  printf 'if [ "$1" = triggered ]; then echo "harbour index: cannot merge page 7"; exit 1; fi\n' | script_of skerrow-index postinst
  deb skerrow-index 1.0; have skerrow-index_1.0_all.deb
  mkdir -p "$work/skerrow-pages/usr/share/skerrow"; echo 1 >"$work/skerrow-pages/usr/share/skerrow/p"; deb skerrow-pages 1.0
  console "apt-get -y install /repo/skerrow-pages_1.0_all.deb"
}
fifth-dkms-source() {
  label 'kernel-module-build-failed|maintainer-script-failed' 'Error! Your kernel headers'
  quiet_day; with_packages dkms make gcc
  mkdir -p "$work/skerrow-nic-dkms/usr/src/skerrow-nic-1.0"
  printf 'PACKAGE_NAME="skerrow-nic"\nPACKAGE_VERSION="1.0"\nBUILT_MODULE_NAME[0]="skerrow"\nDEST_MODULE_LOCATION[0]="/updates"\nAUTOINSTALL="yes"\nMAKE[0]="make"\n' >"$work/skerrow-nic-dkms/usr/src/skerrow-nic-1.0/dkms.conf"
  printf 'all:\n\tfalse\n' >"$work/skerrow-nic-dkms/usr/src/skerrow-nic-1.0/Makefile"
  printf 'dkms add -m skerrow-nic -v 1.0\nk=$(ls /lib/modules | head -1)\nmkdir -p /lib/modules/$k/build\ndkms build -m skerrow-nic -v 1.0 -k $k\n' | script_of skerrow-nic-dkms postinst
  deb skerrow-nic-dkms 1.0
  console "apt-get -y install /repo/skerrow-nic-dkms_1.0_all.deb"
}

run "$@"
