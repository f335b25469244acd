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

# mirror_of RELEASE prints the address from which this machine itself fetches that release.
mirror_of() {
  apt-get indextargets --format '$(REPO_URI) $(RELEASE)' 'Created-By: Packages' |
    awk -v want="$1" '$2 == want { print $1; exit }'
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
  for at in $(awk -v under="$work/" 'index($2, under) == 1 { print $2 }' /proc/mounts | sort -r); do
    umount -l "$at"
  done
  rm -rf "$work"
}

# inside COMMAND… runs in the scratch root under its own host name and a terminal, as a person would have it.
inside() {
  unshare --uts -- sh -c 'hostname "$1"; root=$2; shift 2; exec chroot "$root" env -i HOME=/root TERM=linux LANG=C.UTF-8 PATH=/usr/sbin:/usr/bin:/sbin:/bin "$@"' \
    inside "$host" "$root" "$@"
}

# console FILE COMMAND runs a shell command inside and keeps what the screen showed in FILE.
console() {
  local out=$1; shift
  script -qec "$(declare -f inside); host=$host root=$root; inside sh -c '$*'" "$out" </dev/null >/dev/null || true
}

# add_suite RELEASE makes a further release of the mirror known to the scratch root.
add_suite() {
  local mirror
  mirror=$(mirror_of "$1")
  [ -n "$mirror" ] || die "apt on this machine knows no mirror of $1"
  printf 'deb %s %s main\n' "$mirror" "$1" >>"$root/etc/apt/sources.list"
}

# capture DIR copies the logs out, with the mirror's address replaced by an invented one.
capture() {
  local to=$1 log
  rm -rf "$to" && mkdir -p "$to/apt"
  cp "$root/var/log/dpkg.log" "$to/"
  cp "$root/var/log/apt/history.log" "$root/var/log/apt/term.log" "$to/apt/"
  find "$work" -maxdepth 1 -name '*.txt' -exec cp {} "$to/" \;
  for log in "$to"/*.* "$to"/apt/*; do
    sed -i -E 's#https?://[^/ ]+/#http://packages.skerrow.example/#g' "$log"
  done
  say "captured in $to:"; wc -l "$to"/*.* "$to"/apt/* >&2
}
