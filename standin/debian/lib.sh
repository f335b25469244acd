# Shared by the scripts that provoke failures in a throw-away Debian root.
# Source it, then: need_root; scratch NAME; …; capture DIR.
# shellcheck shell=bash
set -euo pipefail

suite=${DIORTHOS_SUITE:-bookworm}
cache=${DIORTHOS_CACHE:-${XDG_CACHE_HOME:-$HOME/.cache}/diorthos}

say() { printf '%s: %s\n' "$(basename "$0" .sh)" "$*" >&2; }
die() { say "$*"; exit 2; }

need_root() {
  [ "$(id -u)" = 0 ] || die "needs root (chroot, loop devices): run it with sudo"
  for tool in debootstrap mke2fs unshare script; do
    command -v "$tool" >/dev/null || die "$tool is missing: apt-get install debootstrap e2fsprogs util-linux bsdutils"
  done
}

# mirror_of RELEASE prints the address from which this machine itself fetches that release, or else its own.
mirror_of() {
  apt-get indextargets --format '$(REPO_URI) $(RELEASE)' 'Created-By: Packages' |
    awk -v want="$1" '$2 == want { at = $1; exit } !any && $2 !~ /-/ { any = $1 } END { print at ? at : any }'
}

# base_root makes the minimal root once and prints where it lies.
base_root() {
  local root="$cache/$suite-root" mirror
  if [ ! -e "$root/.complete" ]; then
    mirror=$(mirror_of "$suite")
    [ -n "$mirror" ] || die "apt on this machine knows no mirror of $suite"
    say "making a minimal $suite root in $root (about a minute, kept for next time)"
    rm -rf "$root" && mkdir -p "$root"
    debootstrap --variant=minbase \
      --include=initramfs-tools,zstd,linux-image-cloud-amd64,ca-certificates \
      "$suite" "$root" "$mirror" >"$cache/debootstrap.log" 2>&1 ||
      die "debootstrap failed: see $cache/debootstrap.log"
    touch "$root/.complete"
  fi
  printf '%s\n' "$root"
}

# scratch NAME lays a throw-away copy over the base root in $root; it goes when the script ends.
scratch() {
  local base
  base=$(base_root)
  host=$1
  work=$(mktemp -d)
  root=$work/root
  mkdir -p "$work/layer" "$root"
  mount -t tmpfs -o size=3g tmpfs "$work/layer"
  mkdir "$work/layer/upper" "$work/layer/work"
  mount -t overlay overlay -o "lowerdir=$base,upperdir=$work/layer/upper,workdir=$work/layer/work" "$root"
  trap leave EXIT
  mount -t proc proc "$root/proc"
  mount -t devtmpfs devtmpfs "$root/dev" 2>/dev/null || mount --bind /dev "$root/dev"
  mount -t devpts devpts "$root/dev/pts" -o newinstance,ptmxmode=0666
  cp -L /etc/resolv.conf "$root/etc/resolv.conf"
  [ ! -d /etc/apt/apt.conf.d ] || find /etc/apt/apt.conf.d -name '*prox*' -exec cp {} "$root/etc/apt/apt.conf.d/" \;
  printf '#!/bin/sh\nexit 101\n' >"$root/usr/sbin/policy-rc.d" && chmod 755 "$root/usr/sbin/policy-rc.d"
  printf '%s\n' "$host" >"$root/etc/hostname"
  : >"$root/var/log/dpkg.log"; : >"$root/var/log/apt/history.log"; : >"$root/var/log/apt/term.log"
}

leave() {
  local at
  [ -z "${server:-}" ] || kill "$server" 2>/dev/null || true
  for at in $(awk -v under="$work/" 'index($2, under) == 1 { print $2 }' /proc/mounts | sort -r); do
    umount -l "$at"
  done
  [ -z "${loop:-}" ] || losetup -d "$loop"
  rm -rf "$work"
}

# deb NAME VERSION [FIELD: VALUE]… makes a package in /repo of the scratch root.
# Files below $work/NAME go into it; maintainer scripts lie in $work/NAME/DEBIAN.
deb() {
  local name=$1 version=$2 tree=$work/$1 arch=all field
  shift 2
  mkdir -p "$tree/DEBIAN" "$root/repo"
  for field in "$@"; do case $field in Architecture:*) arch=${field#Architecture: } ;; esac; done
  {
    printf 'Package: %s\nVersion: %s\nMaintainer: Skerrow Ferries IT <it@skerrow.example>\nDescription: %s of Skerrow Ferries\n' "$name" "$version" "$name"
    [ "$arch" != all ] || printf 'Architecture: all\n'
    for field in "$@"; do printf '%s\n' "$field"; done
  } >"$tree/DEBIAN/control"
  dpkg-deb --root-owner-group --build "$tree" "$root/repo/${name}_${version}_$arch.deb" >/dev/null
}

# script_of PACKAGE NAME writes a maintainer script from standard input.
script_of() {
  mkdir -p "$work/$1/DEBIAN"
  { printf '#!/bin/sh\nset -e\n'; cat; } >"$work/$1/DEBIAN/$2"
  chmod 755 "$work/$1/DEBIAN/$2"
}

# filled FILE KIB makes a file that cannot be compressed.
filled() { mkdir -p "$(dirname "$1")"; dd if=/dev/urandom of="$1" bs=1K count="$2" status=none; }

# refuses NAME TEXT STATUS makes a tool of that name that says TEXT and fails.
refuses() {
  printf '#!/bin/sh\necho "%s" >&2\nexit %s\n' "$2" "$3" >"$root/usr/local/bin/$1" && chmod 755 "$root/usr/local/bin/$1"
}

# repo [OPTIONS] makes /repo a repository and the root's only source.
repo() {
  local file
  : >"$root/repo/Packages"
  for file in "$root"/repo/*.deb; do
    dpkg-deb --field "$file" >>"$root/repo/Packages"
    printf 'Filename: ./%s\nSize: %s\nSHA256: %s\n\n' "$(basename "$file")" "$(stat -c %s "$file")" "$(sha256sum "$file" | cut -d' ' -f1)" >>"$root/repo/Packages"
  done
  printf 'deb [%s] file:/repo ./\n' "${1:-trusted=yes}" >"$root/etc/apt/sources.list"
}

# have DEB… installs packages of /repo, as on an earlier day that went well.
have() {
  local file
  for file in "$@"; do inside apt-get install -y "/repo/$file" >/dev/null 2>&1; done
}

# quiet_day installs something harmless.
quiet_day() { deb skerrow-timetable 3.1; have skerrow-timetable_3.1_all.deb; }

# script_says LINE… makes and tries the package that $tried_package and $tried_version name, whose postinst runs these lines.
script_says() {
  quiet_day
  printf '%s\n' "$@" | script_of "$tried_package" postinst
  deb "$tried_package" "$tried_version"
  console "apt-get -y install /repo/${tried_package}_${tried_version}_all.deb"
}

# inside COMMAND… runs in the scratch root under its own host name and a terminal, as a person would have it.
inside() {
  language=${language:-C.UTF-8} unshare --uts -- sh -c 'hostname "$1"; root=$2; shift 2; exec chroot "$root" env -i HOME=/root TERM=linux LANG="$language" PATH=/usr/sbin:/usr/bin:/sbin:/bin "$@"' \
    inside "$host" "$root" "$@"
}

# console COMMAND runs a shell command inside and keeps what the screen showed. DIORTHOS_FRONT=apt has people type that.
console() {
  [ "${DIORTHOS_FRONT:-apt-get}" = apt-get ] || set -- "$(printf '%s' "$*" | sed "s/\\bapt-get\\b/$DIORTHOS_FRONT/g")"
  printf '#!/bin/sh\nexport DEBIAN_FRONTEND=noninteractive\n%s\n' "$*" >"$root/provoke" && chmod 755 "$root/provoke"
  script -qec "$(declare -f inside); host=$host root=$root language=${language:-}; inside /provoke" "$work/console.txt" </dev/null >/dev/null && say "the run ended well: nothing failed" || true
  sed -i -e '/^Script \(started\|done\) on /d' -e '/^strace: /d' "$work/console.txt"
  rm -f "$root/provoke"
  tried=$*
}

# with_packages NAME… installs packages of the mirror, as on an earlier day.
with_packages() {
  inside apt-get update -qq >/dev/null
  inside apt-get install -y -qq --no-install-recommends "$@" >/dev/null 2>&1
}

# answers STATUS [HEADER [BODY]] starts a web server on loopback that gives one answer to everything, makes it the
# only repository, and names it in $server and $port.
answers() {
  port=$((20000 + RANDOM % 20000))
  perl -MIO::Socket::INET -e '
    my ($port, $status, $header, $body) = @ARGV;
    my $l = IO::Socket::INET->new(LocalAddr => "127.0.0.1", LocalPort => $port, Listen => 9, ReuseAddr => 1) or die;
    while (my $c = $l->accept) {
      while (my $line = <$c>) { last if $line =~ /^\r?\n$/ }
      my $length = $header =~ /^Content-Length/ ? "" : "Content-Length: " . length($body) . "\r\n";
      print $c "HTTP/1.1 $status\r\n", $header ? "$header\r\n" : "", $length, "Connection: close\r\n\r\n$body"; close $c }
    ' "$port" "$1" "${2:-}" "${3:-}" &
  server=$!
  sleep 1
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo "deb http://127.0.0.1:$port/debian bookworm main" >"$root/etc/apt/sources.list"
}

# listens CODE starts a server on loopback that runs perl CODE for each connection, in $c, and makes it the only
# repository.
listens() {
  port=$((20000 + RANDOM % 20000))
  perl -MIO::Socket::INET -e '
    my ($port, $code) = @ARGV;
    my $l = IO::Socket::INET->new(LocalAddr => "127.0.0.1", LocalPort => $port, Listen => 9, ReuseAddr => 1) or die;
    our ($c, @kept);
    while ($c = $l->accept) { eval $code }
    ' "$port" "$1" &
  server=$!
  sleep 1
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo "deb http://127.0.0.1:$port/debian bookworm main" >"$root/etc/apt/sources.list"
}

# tls_server NAME DAYS starts a server that shows a certificate for NAME, valid for so many days from now (fewer than
# none: expired) and signed by an authority that the scratch root trusts, and makes it the only repository.
tls_server() {
  port=$((20000 + RANDOM % 20000))
  (
    cd "$work"
    openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ca.crt -subj '/CN=Skerrow IT' -days 60 2>/dev/null
    openssl req -newkey rsa:2048 -nodes -keyout tls.key -out tls.csr -subj "/CN=$1" 2>/dev/null
    printf 'subjectAltName=DNS:%s\n' "$1" >san
    : >index.txt; mkdir -p issued
    printf '[ca]\ndefault_ca=d\n[d]\ndatabase=index.txt\nnew_certs_dir=issued\ncertificate=ca.crt\nprivate_key=ca.key\ndefault_md=sha256\npolicy=p\nrand_serial=yes\n[p]\ncommonName=supplied\n' >ca.conf
    openssl ca -batch -config ca.conf -in tls.csr -out tls.crt -extfile san -startdate "$(date -ud '30 days ago' +%y%m%d%H%M%SZ)" -enddate "$(date -ud "$2 days" +%y%m%d%H%M%SZ)" 2>/dev/null
  )
  cp "$work/ca.crt" "$root/usr/local/share/ca-certificates/skerrow.crt"
  inside update-ca-certificates >/dev/null 2>&1
  openssl s_server -quiet -accept "127.0.0.1:$port" -cert "$work/tls.crt" -key "$work/tls.key" -www >/dev/null 2>&1 &
  server=$!
  sleep 1
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo "127.0.0.1 packages.skerrow.example" >>"$root/etc/hosts"
  echo "deb https://packages.skerrow.example:$port/debian bookworm main" >"$root/etc/apt/sources.list"
}

# release_file FIELD: VALUE signs nothing and gives /repo a Release file with that field.
release_file() {
  printf 'Origin: Skerrow\n%s %s\nDate: %s\nSHA256:\n %s %s Packages\n' "$1" "$2" "$(LC_ALL=C date -u '+%a, %d %b %Y %H:%M:%S UTC')" "$(sha256sum "$root/repo/Packages" | cut -d' ' -f1)" "$(stat -c %s "$root/repo/Packages")" >"$root/repo/Release"
}

# speaking LOCALE makes the tools log in another language from here on.
speaking() {
  with_packages locales libc-l10n
  inside localedef -i "${1%.*}" -f UTF-8 "$1"
  language=$1
  : >"$root/var/log/dpkg.log"; : >"$root/var/log/apt/history.log"; : >"$root/var/log/apt/term.log"
}

# add_suite RELEASE makes a further release of the mirror known to the scratch root.
add_suite() {
  local mirror
  mirror=$(mirror_of "$1")
  [ -n "$mirror" ] || die "apt on this machine knows no mirror of $1"
  printf 'deb %s %s main\n' "$mirror" "$1" >>"$root/etc/apt/sources.list"
}

# label CAUSE DECISIVE says what the failure is: its cause, and a pattern of the
# decisive line, of which the first match counts.
label() { printf "cause: %s\ndecisive: '%s'\n" "$1" "${2//\'/\'\'}" >"$work/label.yaml"; }

# capture DIR copies the logs out, with the mirror's address replaced by an invented one.
capture() {
  local to=$1 log mirror
  mirror=$(mirror_of "$suite" | sed -E 's#^[a-z]+://([^/]+).*#\1#')
  rm -rf "$to" && mkdir -p "$to/apt"
  cp "$root/var/log/dpkg.log" "$to/"
  cp "$root/var/log/apt/history.log" "$root/var/log/apt/term.log" "$to/apt/"
  find "$work" -maxdepth 1 \( -name '*.txt' -o -name '*.log' -o -name label.yaml \) -exec cp {} "$to/" \;
  for log in "$to"/*.* "$to"/apt/*; do
    sed -i -E -e 's#(https?)://((127|localhost|[^/ ]*\.skerrow\.)[^/ ]*)/#\1!//\2/#g' -e 's#https?://[^/ ]+/#http://packages.skerrow.example/#g' -e 's#(https?)!//#\1://#g' -e "s#${mirror:-nothing}#packages.skerrow.example#g" "$log"
  done
  find "$to" -empty -delete
}

all() { sed -n 's/^\([a-z0-9-]*\)() {.*/\1/p' "$0"; }

# run ARGUMENTS is what a file of provocations does: --list, or NAME [DIR].
run() {
  case ${1:---help} in
    --list) all ;;
    --help) sed -n '2,3s/^# //p' "$0" ;;
    *)
      all | grep -qx -- "$1" || die "no failure is called $1: see --list"
      need_root
      if [ "$1" = full-boot-volume ]; then scratch kestrel-office-3; else scratch lerrick-kiosk-2; fi
      "$1"
      [ -z "${DIORTHOS_AFTER:-}" ] || DIORTHOS_AGAIN="export DEBIAN_FRONTEND=noninteractive; $tried" "$DIORTHOS_AFTER" "$root" "$work" "$1"
      capture "${2:-$(dirname "$0")/captured/$1}"
      ;;
  esac
}

# machine NAME SAYING begins a machine's disk image that is made once: it prints where it lies and ends where it is there
# already. Sets image, made, work, root and base; what is mounted below $root and the loops of $loops go at the end.
machine() {
  image=$cache/$suite-$1.img
  [ -e "$image" ] && { printf '%s\n' "$image"; exit; }
  need_root
  base=$(base_root)
  work=$(mktemp -d)
  root=$work/root
  made=$cache/.$suite-$1.img
  loops=
  trap machine_left EXIT
  say "making $2 in $image (a minute or two, kept for next time)"
}

machine_left() {
  local at l
  for at in dev sys proc boot ''; do umount -l "$root/$at" 2>/dev/null || true; done
  for l in $loops; do losetup -d "$l" 2>/dev/null || true; done
  rm -rf "$work" "$made"
}

# loop VARIABLE FILE [OFFSET SIZE] makes a loop device of a file, or of a part of it.
loop() {
  local device
  if [ $# -gt 2 ]; then device=$(losetup -f --show -o "$3" --sizelimit "$4" "$2"); else device=$(losetup -f --show "$2"); fi
  loops="$loops $device"
  printf -v "$1" %s "$device"
}

# furnished gives the mounted $root what its own tools need, the way to the packages too.
furnished() {
  mount -t proc proc "$root/proc"; mount -t sysfs sys "$root/sys"; mount --bind /dev "$root/dev"
  cp -L /etc/resolv.conf "$root/etc/resolv.conf"
  [ ! -d /etc/apt/apt.conf.d ] || find /etc/apt/apt.conf.d -name '*prox*' -exec cp {} "$root/etc/apt/apt.conf.d/" \;
}

# says_login NAME has the machine say that it is up, and turn itself off; no service is needed.
says_login() {
  printf '#!/bin/sh\nexec >/dev/console 2>&1\necho "%s login:"\nsleep 2\nmount -t proc proc /proc; echo o >/proc/sysrq-trigger; sleep 60\n' \
    "$1" >"$root/usr/sbin/init"
  chmod 755 "$root/usr/sbin/init"
  echo "$1" >"$root/etc/hostname"
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
}

# machine_done takes all away again, keeps the image, and prints where it lies.
machine_done() {
  local l
  for l in $loops; do losetup -d "$l"; done
  loops=
  mv "$made" "$image"
  printf '%s\n' "$image"
}
