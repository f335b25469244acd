#!/bin/sh
# Installs the Debian packages that are missing. usage: packages.sh demo|test|screenshots|prove|bench
# Quick and silent when nothing is missing.
set -eu

missing=
need() { # need PACKAGE FILE…: the package is there if one of the files is
  package=$1
  shift
  for file in "$@"; do
    [ -e "$file" ] && return
  done
  missing="$missing $package"
}

need postgresql /usr/lib/postgresql/*/bin/initdb
need e2fsprogs /usr/sbin/mke2fs /sbin/mke2fs
if [ "${1:-demo}" = demo ]; then # for machines of Debian itself
  need debootstrap /usr/sbin/debootstrap
  need bsdutils /usr/bin/script
  need gdisk /usr/sbin/sgdisk /sbin/sgdisk
  need fdisk /usr/sbin/sfdisk /sbin/sfdisk
  need dosfstools /usr/sbin/fsck.fat /sbin/fsck.fat
  need mtools /usr/bin/mcopy
fi
if [ "${1:-demo}" = test ]; then
  need gdisk /usr/sbin/sgdisk /sbin/sgdisk
  need fdisk /usr/sbin/sfdisk /sbin/sfdisk
  need parted /usr/sbin/parted /sbin/parted
  need dosfstools /usr/sbin/fsck.fat /sbin/fsck.fat
  need xfsprogs /usr/sbin/mkfs.xfs /sbin/mkfs.xfs
  need btrfs-progs /usr/bin/btrfs /bin/btrfs
  need mtools /usr/bin/mcopy
  need xorriso /usr/bin/xorriso
  need gpg /usr/bin/gpg
  need xz-utils /usr/bin/xz
  need bzip2 /usr/bin/bzip2 /bin/bzip2
  need grub-common /usr/bin/grub-script-check
  need grub-pc-bin /usr/lib/grub/i386-pc/kernel.img
  need lvm2 /usr/sbin/lvm /sbin/lvm
  need mdadm /usr/sbin/mdadm /sbin/mdadm
  need strace /usr/bin/strace
  need cryptsetup-bin /usr/sbin/cryptsetup /sbin/cryptsetup
  need qemu-utils /usr/bin/qemu-img
  need systemd-journal-remote /lib/systemd/systemd-journal-remote
  need chromium /usr/bin/chromium
  need gcc /usr/bin/gcc /usr/local/bin/gcc
  need libc6-dev /usr/include/stdlib.h
  need fonts-dejavu-core /usr/share/fonts/truetype/dejavu/DejaVuSans.ttf
fi
if [ "${1:-demo}" = bench ]; then
  need ripgrep /usr/bin/rg
  need systemd-journal-remote /lib/systemd/systemd-journal-remote
  need time /usr/bin/time
  need gdisk /usr/sbin/sgdisk /sbin/sgdisk
  need dosfstools /usr/sbin/fsck.fat /sbin/fsck.fat
  need mtools /usr/bin/mcopy
fi
if [ "${1:-demo}" = prove ]; then
  need debootstrap /usr/sbin/debootstrap
  need strace /usr/bin/strace
  need procps /usr/bin/pgrep
  need bsdutils /usr/bin/script
  need qemu-system-x86 /usr/bin/qemu-system-x86_64
  need ovmf /usr/share/OVMF/OVMF_CODE_4M.fd
  need grub-common /usr/bin/grub-mkrescue
  need grub-efi-amd64-bin /usr/lib/grub/x86_64-efi/kernel.img
  need grub-pc-bin /usr/lib/grub/i386-pc/kernel.img
  need xorriso /usr/bin/xorriso
  need mtools /usr/bin/mcopy
  need gdisk /usr/sbin/sgdisk /sbin/sgdisk
  need fdisk /usr/sbin/sfdisk /sbin/sfdisk
  need dosfstools /usr/sbin/fsck.fat /sbin/fsck.fat
  need xfsprogs /usr/sbin/mkfs.xfs /sbin/mkfs.xfs
  need btrfs-progs /usr/bin/btrfs /bin/btrfs
  need lvm2 /usr/sbin/lvm /sbin/lvm
  need cryptsetup-bin /usr/sbin/cryptsetup /sbin/cryptsetup
  need qemu-utils /usr/bin/qemu-img
fi
if [ "${1:-demo}" = screenshots ]; then
  need xvfb /usr/bin/Xvfb
  need xterm /usr/bin/xterm
  need imagemagick /usr/bin/import
  need chromium /usr/bin/chromium
fi
[ -n "$missing" ] || exit 0

if [ "$(id -u)" = 0 ]; then
  as_root=
elif command -v sudo >/dev/null; then
  as_root=sudo
else
  echo "These Debian packages are missing:$missing" >&2
  echo "Installing them needs root: run \"make packages\" once as root, then this again as yourself." >&2
  exit 2
fi
echo "installing$missing"
# A fresh machine's own updater may hold the lock of the package lists or of the
# package state for some minutes.
waited=
while [ "$waited" != 60 ] && held=$($as_root sh -c '
  for lock in /var/lib/apt/lists/lock /var/lib/dpkg/lock-frontend; do
    [ -e "$lock" ] || continue
    inode=$(stat -c %i "$lock")
    grep "POSIX.*WRITE" /proc/locks | grep -q ":$inode " && echo "$lock" && exit
  done
  exit 1'); do
  [ -n "$waited" ] || echo "another program installs packages ($held is held): waiting up to 10 minutes"
  waited=$((${waited:-0} + 1))
  sleep 10
done
$as_root apt-get update -qq -o DPkg::Lock::Timeout=120
# A packaged PostgreSQL would start a cluster of its own; ours is private.
$as_root mkdir -p /etc/postgresql-common
[ -e /etc/postgresql-common/createcluster.conf ] ||
  echo "create_main_cluster = false" | $as_root tee /etc/postgresql-common/createcluster.conf >/dev/null
# shellcheck disable=SC2086
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq -o DPkg::Lock::Timeout=600 --no-install-recommends $missing >/dev/null
