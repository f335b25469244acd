#!/bin/bash
# Provokes failures of a seventh draw, after the rules that the sixth had led to: what fails × who fails, where earlier
# draws had no case yet. Two halves are told apart by a seed; each is scored once, as it comes.
# usage: seventh.sh --list | seventh.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

tried_package=skerrow-deck tried_version=1.0 # what script_says makes
# payload FILE… makes skerrow-deck with these files in it.
with_payload() {
  local file
  quiet_day
  for file in "$@"; do mkdir -p "$work/skerrow-deck$(dirname "$file")"; echo deck >"$work/skerrow-deck$file"; done
  deb skerrow-deck 1.0
}
unpack_deck() { console "dpkg -i /repo/skerrow-deck_1.0_all.deb"; }
# signed_repo [GPG-OPTION]… signs /repo with a key of its own, which the root trusts.
signed_repo() {
  repo; release_file Suite stable
  export GNUPGHOME=$work/keys; mkdir -m 700 -p "$GNUPGHOME"
  gpg --batch --quiet --passphrase '' "$@" --quick-gen-key 'Skerrow IT <it@skerrow.example>' rsa2048 sign "${expires:-0}" 2>/dev/null
  gpg --batch --quiet "$@" --clearsign -o "$root/repo/InRelease" "$root/repo/Release" 2>/dev/null
  gpg --batch --quiet --export >"$root/usr/share/keyrings/skerrow.gpg"
  gpgconf --kill all
  echo 'deb [signed-by=/usr/share/keyrings/skerrow.gpg] file:/repo ./' >"$root/etc/apt/sources.list"
}

seventh-divert-overwrites() {
  label 'diversion-clash|maintainer-script-failed|path-already-diverted' 'rename involves overwriting|dpkg-divert: error'
  mkdir -p "$root/usr/bin"; echo a >"$root/usr/bin/tide"; echo b >"$root/usr/bin/tide.old"
  script_says 'dpkg-divert --package skerrow-deck --rename --divert /usr/bin/tide.old --add /usr/bin/tide'
}
seventh-override-twice() {
  label 'maintainer-script-failed|override-exists' 'already exists; aborting|dpkg-statoverride: error'
  mkdir -p "$root/srv/tide"
  script_says 'dpkg-statoverride --update --add root root 0750 /srv/tide' 'dpkg-statoverride --update --add root mail 0755 /srv/tide'
}
seventh-alternative-no-path() {
  label 'alternatives-damaged|maintainer-script-failed|alternative-target-missing' "alternative path|update-alternatives: error"
  script_says 'update-alternatives --install /usr/bin/chart chart /opt/skerrow/chart 50'
}
seventh-alternative-slave() {
  label 'alternatives-damaged|maintainer-script-failed|alternative-clash' 'update-alternatives: error'
  script_says 'update-alternatives --install /usr/bin/chart chart /bin/cat 50' 'update-alternatives --install /usr/bin/map map /bin/cat 50 --slave /usr/bin/chart chart /bin/cat'
}
seventh-user-exists() {
  label 'account-missing|maintainer-script-failed|account-in-the-way' 'already exists'
  inside useradd -u 1200 -m skerrow
  script_says 'useradd --system skerrow'
}
seventh-group-gid-taken() {
  label 'maintainer-script-failed|account-in-the-way' "already exists|GID"
  script_says 'groupadd -g 8 skerrow'
}
seventh-deb-is-folder() {
  label 'package-file-damaged|path-is-no-folder|package-not-known|not-a-package' 'Is a directory|not a regular file|E: '
  with_payload /usr/share/deck; mkdir "$root/repo/deck.deb"
  console "dpkg -i /repo/deck.deb"
}
seventh-remove-essential-dpkg() {
  label 'essential-removal-refused' 'essential package|should not be removed'
  quiet_day; console "dpkg --remove sed"
}
seventh-purge-dependents() {
  label 'unmet-dependencies|package-breaks-another|needed-by-another' 'dependency problems prevent removal|depends on'
  deb skerrow-lib 1.0; deb skerrow-app 1.0 'Depends: skerrow-lib'; have skerrow-lib_1.0_all.deb skerrow-app_1.0_all.deb
  console "dpkg --purge skerrow-lib"
}
seventh-configure-unknown() {
  label 'package-not-known|package-run-interrupted|package-system-stopped|package-not-there' 'not installed|is installed, cannot|is not ready'
  quiet_day; console "dpkg --configure skerrow-deck"
}
seventh-name-too-long() {
  label 'path-too-long|package-file-damaged' 'File name too long'
  with_payload "/usr/share/$(printf 'd%.0s' $(seq 250))"; unpack_deck
}
seventh-rm-gone() {
  label 'path-lacks-system-tools|package-tool-missing' "rm|not found in PATH"
  with_payload /usr/share/deck; mv "$root/bin/rm" "$root/bin/rm.aside"; unpack_deck; mv "$root/bin/rm.aside" "$root/bin/rm"
}
seventh-gpgv-gone() {
  label 'package-tool-missing|signature-tool-missing' 'gpgv'
  quiet_day; inside apt-get update -qq; rm -rf "$root"/var/lib/apt/lists/*
  mv "$root/usr/bin/gpgv" "$root/usr/bin/gpgv.aside"; console "apt-get update"
}
seventh-method-not-executable() {
  label 'transport-missing|no-permission' 'method|Permission denied'
  quiet_day; local mirror; mirror=$(mirror_of "$suite"); chmod 644 "$root/usr/lib/apt/methods/http"* ; rm -rf "$root"/var/lib/apt/lists/*
  console "apt-get update"
}
seventh-key-expired() {
  label 'key-expired' 'EXPKEYSIG|expired'
  deb skerrow-tide 1.0; expires=2024-03-01 signed_repo --faked-system-time 20240201T000000
  console "apt-get update"
}
seventh-signature-altered() {
  label 'signature-wrong|download-altered|repository-key-missing' 'BADSIG|signatures were invalid|Clearsigned file'
  deb skerrow-tide 1.0; signed_repo; sed -i 's/^Origin: Skerrow/Origin: Skerrov/' "$root/repo/InRelease"
  console "apt-get update"
}
seventh-signature-weak() {
  label 'signature-too-weak|repository-key-missing' 'weak|invalid'
  deb skerrow-tide 1.0; signed_repo --digest-algo SHA1 --weak-digest MD5
  console "apt-get update"
}
seventh-index-no-package() {
  label 'package-lists-damaged|download-altered|sources-malformed' 'no Package|MergeList|Problem'
  deb skerrow-tide 1.0; repo; sed -i 's/^Package:/Packet:/' "$root/repo/Packages"
  console "apt-get update; apt-get -y install skerrow-tide"
}
seventh-too-many-requests() {
  label 'repository-forbidden|repository-server-error|server-asks-to-wait' '429'
  quiet_day; answers '429 Too Many Requests'; console "apt-get update"
}
seventh-unauthorised() {
  label 'repository-forbidden|repository-wants-sign-in' '401'
  quiet_day; answers '401 Unauthorized' 'WWW-Authenticate: Basic realm="skerrow"'; console "apt-get update"
}
seventh-folder-repo-gone() {
  label 'repository-wrong|download-not-found' 'File not found|does not have a Release'
  quiet_day; echo 'deb [trusted=yes] file:/media/skerrow ./' >"$root/etc/apt/sources.list"; console "apt-get update"
}
seventh-proxy-detect() {
  label 'apt-hook-failed|proxy-unreachable|package-configuration-malformed|proxy-search-failed|repository-unreachable' 'ProxyAutoDetect|Proxy|Err:1'
  quiet_day; rm -f "$root/etc/apt/apt.conf.d/"*prox*; printf '#!/bin/sh\necho "no route table" >&2\nexit 3\n' >"$root/usr/local/bin/find-proxy"; chmod 755 "$root/usr/local/bin/find-proxy"
  echo 'Acquire::http::Proxy-Auto-Detect "/usr/local/bin/find-proxy";' >"$root/etc/apt/apt.conf.d/30detect"
  echo 'deb http://127.0.0.1:9/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update"
}
seventh-cache-dir-setting() {
  label 'package-configuration-malformed|path-is-no-folder|no-permission|tool-folder-missing' 'Archives directory|is missing'
  quiet_day; echo 'Dir::Cache::archives "/srv/none/archives";' >"$root/etc/apt/apt.conf.d/30cache"
  inside apt-get update -qq; console "apt-get -y install less"
}
seventh-default-release() {
  label 'package-configuration-malformed|version-not-available|version-of-release-unknown' 'Default-Release'
  quiet_day; echo 'APT::Default-Release "stonefish";' >"$root/etc/apt/apt.conf.d/30release"
  console "apt-get -y install less"
}
seventh-suite-of-package() {
  label 'version-not-available|version-of-release-unknown' "was not found"
  deb skerrow-tide 1.0; repo; console "apt-get update -qq; apt-get -y install skerrow-tide/trixie"
}
seventh-no-source-lines() {
  label 'source-lines-missing|sources-malformed|repository-component-missing|package-not-known' 'deb-src|source package'
  deb skerrow-tide 1.0; repo; console "apt-get update -qq; apt-get -y build-dep skerrow-tide"
}
seventh-templates-broken() {
  label 'maintainer-script-failed|package-control-malformed' 'Template|template|debconf'
  quiet_day; mkdir -p "$work/skerrow-deck/DEBIAN"
  printf 'Template: skerrow/berth\nType: string\nDescription: Berth\nDescription: Berth again\n' >"$work/skerrow-deck/DEBIAN/templates"
  printf '. /usr/share/debconf/confmodule\ndb_get skerrow/berth\n' | script_of skerrow-deck postinst
  deb skerrow-deck 1.0; console "apt-get -y install /repo/skerrow-deck_1.0_all.deb"
}
seventh-debconf-db-garbage() {
  label 'question-store-damaged|maintainer-script-failed|question-database-locked' 'debconf: DbDriver|config.dat'
  quiet_day; printf 'Name: skerrow/berth\nOwners\n: broken\n\n\000\000\n' >"$root/var/cache/debconf/config.dat"; rm -f "$root/var/cache/debconf/templates.dat"; mkdir "$root/var/cache/debconf/templates.dat"
  mkdir -p "$work/skerrow-deck/DEBIAN"; printf 'Template: skerrow/berth\nType: string\nDescription: Berth\n' >"$work/skerrow-deck/DEBIAN/templates"
  printf '. /usr/share/debconf/confmodule\ndb_get skerrow/berth\n' | script_of skerrow-deck postinst
  deb skerrow-deck 1.0; console "apt-get -y install /repo/skerrow-deck_1.0_all.deb"
}
seventh-initramfs-conf() {
  label 'early-boot-hook-failed|early-boot-configuration-broken|trigger-failed' 'initramfs.conf|yntax error'
  quiet_day; echo 'MODULES=(most' >>"$root/etc/initramfs-tools/initramfs.conf"
  console "dpkg-trigger --no-await update-initramfs; dpkg --configure -a"
}
seventh-initramfs-cpio-gone() {
  label 'early-boot-tool-missing|trigger-failed' 'cpio'
  quiet_day; mv "$root/usr/bin/cpio" "$root/usr/bin/cpio.aside"
  console "dpkg-trigger --no-await update-initramfs; dpkg --configure -a"
}
seventh-initramfs-root-unknown() {
  label 'early-boot-hook-failed|trigger-failed|early-boot-configuration-broken' 'failed to determine device|mkinitramfs'
  quiet_day; sed -i 's/^MODULES=.*/MODULES=dep/' "$root/etc/initramfs-tools/initramfs.conf"
  console "dpkg-trigger --no-await update-initramfs; dpkg --configure -a"
}
seventh-initramfs-tmp-full() {
  label 'volume-full' 'No space left on device'
  quiet_day; mount -t tmpfs -o size=2m tmpfs "$root/var/tmp"
  console "dpkg-trigger --no-await update-initramfs; dpkg --configure -a; df -k /var/tmp"
}
seventh-boot-read-only() {
  label 'volume-read-only' 'Read-only file system'
  quiet_day; mount --bind "$root/boot" "$root/boot"; mount -o remount,ro,bind "$root/boot"
  console "dpkg-trigger --no-await update-initramfs; dpkg --configure -a"
}
seventh-script-asks() {
  label 'configuration-prompt|maintainer-script-failed' 'Which berth|read'
  script_says 'printf "Which berth is this? "' 'read -r berth </dev/null'
}
seventh-script-runs-apt() {
  label 'package-system-locked|maintainer-script-failed|run-within-a-run' 'lock'
  script_says 'apt-get -y install hello'
}
seventh-script-runs-dpkg() {
  label 'package-system-locked|maintainer-script-failed|run-within-a-run' 'lock'
  script_says 'dpkg -i /repo/skerrow-timetable_3.1_all.deb'
}
seventh-account-no-shell() {
  label 'maintainer-script-failed|account-missing' 'not available|nologin'
  script_says 'su - games -s /usr/sbin/nologin -c true'
}
seventh-database-refused() {
  label 'maintainer-script-failed|service-not-started' 'onnection refused|could not connect'
  with_packages postgresql-client-15
  script_says 'psql -h 127.0.0.1 -p 9 -c "select 1" skerrow'
}
seventh-inner-archive-cut() {
  label 'maintainer-script-failed|package-file-damaged|decompressor-refuses' 'Unexpected EOF|unexpected end of file|tar:'
  quiet_day; mkdir -p "$work/skerrow-deck/usr/share/deck"
  filled "$work/blob" 200; (cd "$work" && tar czf blob.tgz blob); head -c 90000 "$work/blob.tgz" >"$work/skerrow-deck/usr/share/deck/charts.tgz"
  echo 'tar xzf /usr/share/deck/charts.tgz -C /var/tmp' | script_of skerrow-deck postinst
  deb skerrow-deck 1.0; console "apt-get -y install /repo/skerrow-deck_1.0_all.deb"
}
seventh-script-crlf() {
  label 'script-not-valid|maintainer-script-failed|package-tool-missing|script-unrunnable' 'No such file or directory|not found|unable to execute'
  quiet_day; mkdir -p "$work/skerrow-deck/DEBIAN"; printf '#!/bin/sh\r\nset -e\r\necho hello\r\n' >"$work/skerrow-deck/DEBIAN/postinst"; chmod 755 "$work/skerrow-deck/DEBIAN/postinst"
  deb skerrow-deck 1.0; console "apt-get -y install /repo/skerrow-deck_1.0_all.deb"
}
seventh-foreign-files-in-folder() {
  label 'maintainer-script-failed|directory-in-the-way|folder-has-others-files' 'contains files not owned|dpkg-maintscript-helper: error'
  quiet_day; mkdir -p "$work/skerrow-deck/usr/share/deck"; echo 1 >"$work/skerrow-deck/usr/share/deck/a"; deb skerrow-deck 1.0; have skerrow-deck_1.0_all.deb
  echo mine >"$root/usr/share/deck/mine"; rm -rf "$work/skerrow-deck/usr/share/deck"; mkdir -p "$work/skerrow-deck/usr/share/hull"
  for s in preinst postinst postrm; do echo 'dpkg-maintscript-helper dir_to_symlink /usr/share/deck hull 2.0~ -- "$@"' | script_of skerrow-deck $s; done
  deb skerrow-deck 2.0; console "apt-get -y install /repo/skerrow-deck_2.0_all.deb"
}
seventh-arch-versions-differ() {
  label 'unmet-dependencies|package-breaks-another|architectures-differ' 'different version|unmet dependencies|Breaks|cannot be configured'
  inside dpkg --add-architecture i386
  deb skerrow-lib 1.0 'Architecture: i386' 'Multi-Arch: same'; inside dpkg -i /repo/skerrow-lib_1.0_i386.deb >/dev/null 2>&1
  deb skerrow-lib 1.1 'Architecture: amd64' 'Multi-Arch: same'
  console "dpkg -i /repo/skerrow-lib_1.1_amd64.deb"
}
seventh-archives-lock() {
  label 'package-system-locked' 'archives/lock|Could not get lock|Unable to lock'
  quiet_day; inside apt-get update -qq
  perl -MFcntl=:DEFAULT -e 'open F, ">", $ARGV[0]; my $l = pack("s s l! l! i", 1, 0, 0, 0, 0); fcntl(F, F_SETLK, $l) or die; sleep 60' "$root/var/cache/apt/archives/lock" & server=$!; sleep 1
  console "apt-get -y install less"
}
seventh-dpkg-killed() {
  label 'run-interrupted-by-signal|run-cut-off|package-system-stopped' 'signal|unexpectedly|Killed'
  quiet_day; printf 'pkill -9 -o -x dpkg\nsleep 5\n' | script_of skerrow-deck preinst; with_packages procps
  deb skerrow-deck 1.0; console "apt-get -y install /repo/skerrow-deck_1.0_all.deb"
}
seventh-usr-full-unpack() {
  label 'volume-full' 'No space left on device'
  quiet_day; mkdir -p "$work/skerrow-deck/opt/deck"; filled "$work/skerrow-deck/opt/deck/chart" 5000; deb skerrow-deck 1.0
  mkdir -p "$root/opt"; mount -t tmpfs -o size=3m tmpfs "$root/opt"; unpack_deck
}
seventh-home-full-script() {
  label 'volume-full|maintainer-script-failed' 'No space left on device'
  mount -t tmpfs -o size=1m tmpfs "$root/home"
  script_says 'dd if=/dev/zero of=/home/cache bs=64k count=40 status=none'
}
seventh-info-noexec() {
  label 'volume-noexec|no-permission|other-volume-between' 'Permission denied|cross-device'
  quiet_day; echo 'echo ready' | script_of skerrow-deck postinst; deb skerrow-deck 1.0
  mount --bind "$root/var/lib/dpkg/info" "$root/var/lib/dpkg/info"; mount -o remount,noexec,bind "$root/var/lib/dpkg/info"
  console "apt-get -y install /repo/skerrow-deck_1.0_all.deb"
}
seventh-network-unreachable() {
  label 'network-link-lost|repository-unreachable|network-not-reachable' 'unreachable|Cannot initiate|No route'
  quiet_day; rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo '2001:db8::7 packages.skerrow.example' >>"$root/etc/hosts"
  echo 'deb http://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"; console "apt-get update"
}
seventh-https-to-plain() {
  label 'encrypted-to-plain|connection-lost|repository-unreachable|certificate-not-trusted|repository-wrong' 'wrong version|packet|handshake|SSL'
  quiet_day; listens 'print $c "HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n"; close $c'; echo "deb https://127.0.0.1:$port/debian bookworm main" >"$root/etc/apt/sources.list"
  console "apt-get update"
}
seventh-redirect-downgrade() {
  label 'repository-wrong|encrypted-to-plain|connection-lost|repository-unreachable|download-failed|redirect-not-followed' 'Redirection|not allowed|redirect'
  quiet_day; answers '302 Found' 'Location: ftp://packages.skerrow.example/debian/'; console "apt-get update"
}
seventh-mirror-in-sync() {
  label 'download-altered|files-meet-in-lists' 'unexpected size|Mirror sync|Hash Sum mismatch'
  deb skerrow-tide 1.0; repo; release_file Suite stable; sed -i -E 's/^( [0-9a-f]{64}) [0-9]+ Packages/\1 77 Packages/' "$root/repo/Release"
  console "apt-get update"
}
seventh-dpkg-folder-full() {
  label 'volume-full' 'No space left on device'
  quiet_day; deb skerrow-deck 1.0; cp -a "$root/var/lib/dpkg" "$work/dpkg"
  mount -t tmpfs -o size=$(( $(du -sk "$work/dpkg" | cut -f1) + 12 ))k tmpfs "$root/var/lib/dpkg"; cp -a "$work/dpkg/." "$root/var/lib/dpkg/" || true
  unpack_deck
}
seventh-debootstrap-arch() {
  label 'wrong-architecture|new-system-does-not-run|base-system-not-fetched' 'Exec format error|Failure trying to run|Unable to execute'
  quiet_day; with_packages debootstrap; local mirror; mirror=$(mirror_of "$suite")
  console "debootstrap --arch=arm64 --variant=minbase bookworm /srv/new $mirror"
}
seventh-debootstrap-suite() {
  label 'repository-wrong|base-system-not-fetched|package-tool-missing' 'No such script|Failed getting release|E: '
  quiet_day; with_packages debootstrap; local mirror; mirror=$(mirror_of "$suite")
  console "debootstrap --variant=minbase harbourfish /srv/new $mirror"
}
seventh-unattended-script() {
  label 'maintainer-script-failed' 'lamp 4 does not answer'
  with_packages unattended-upgrades python3-apt
  deb skerrow-lamp 1.0; have skerrow-lamp_1.0_all.deb
  printf 'echo "lamp 4 does not answer" >&2\nexit 9\n' | script_of skerrow-lamp postinst; deb skerrow-lamp 2.0; repo
  echo 'Unattended-Upgrade::Origins-Pattern { "site="; "archive=*"; };' >"$root/etc/apt/apt.conf.d/52site"
  console "apt-get update -qq; unattended-upgrade -v"
}
seventh-upgrade-prerm-both() {
  label 'maintainer-script-failed' 'crane is still turning|hook is not up'
  printf 'echo "crane is still turning" >&2; exit 3\n' | script_of skerrow-crane prerm; deb skerrow-crane 1.0; have skerrow-crane_1.0_all.deb
  printf 'echo "hook is not up" >&2; exit 4\n' | script_of skerrow-crane prerm; deb skerrow-crane 2.0
  console "apt-get -y install /repo/skerrow-crane_2.0_all.deb"
}

run "$@"
