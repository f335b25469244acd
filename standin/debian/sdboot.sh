#!/bin/bash
# Makes a Debian machine that is started by systemd-boot, once, and prints where its disk image lies: kernels and early-boot
# images on the EFI system partition, an entry for each. With the word "unified" there is one program in EFI/Linux that
# carries kernel, early-boot image and command line, and no entry.
# usage: sdboot.sh [unified]
. "$(dirname "$0")/lib.sh"
export PATH=$PATH:/usr/sbin:/sbin

kind=${1:-entries}
machine "sdboot-$kind" "a machine with systemd-boot"
mib=1048576 uuid=3f1c7a52-8a0b-4d52-9f5e-2b6f0c9d1e55
truncate -s 1700M "$made"
sgdisk -n 1:2048:+256M -t 1:ef00 -n 2:0:0 -t 2:8304 "$made" >/dev/null
loop esp "$made" $mib $((256 * mib))
loop part "$made" $((257 * mib)) $((1440 * mib))
mkfs.fat -F 32 -n ESP "$esp" >/dev/null
mke2fs -q -t ext4 -U $uuid -L quay -d "$base" "$part"
mkdir "$root" && mount "$part" "$root"
furnished
{
  chroot "$root" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -qq systemd-boot-efi || true
} >"$cache/sdboot.log" 2>&1
from=$root/usr/lib/systemd/boot/efi
[ -e "$from/systemd-bootx64.efi" ] || die "systemd-boot could not be installed: see $cache/sdboot.log"
espid=$(blkid -p -s UUID -o value "$esp")
printf 'UUID=%s / ext4 errors=remount-ro 0 1\nUUID=%s /boot/efi vfat umask=0077 0 1\n' $uuid "$espid" >"$root/etc/fstab"
mkdir -p "$root/boot/efi" "$work/esp/EFI/systemd" "$work/esp/EFI/BOOT" "$work/esp/loader"
cp "$from/systemd-bootx64.efi" "$work/esp/EFI/systemd/"; cp "$from/systemd-bootx64.efi" "$work/esp/EFI/BOOT/BOOTX64.EFI"
version=$(basename "$(ls "$root"/boot/vmlinuz-* | tail -1)"); version=${version#vmlinuz-}
options="root=UUID=$uuid ro console=ttyS0"
printf 'timeout 0\n' >"$work/esp/loader/loader.conf"
if [ "$kind" = unified ]; then
  mkdir -p "$work/esp/EFI/Linux"
  printf '%s' "$options" >"$work/cmdline"
  objcopy --add-section .osrel="$root/usr/lib/os-release" --change-section-vma .osrel=0x20000 \
    --add-section .cmdline="$work/cmdline" --change-section-vma .cmdline=0x30000 \
    --add-section .linux="$root/boot/vmlinuz-$version" --change-section-vma .linux=0x2000000 \
    --add-section .initrd="$root/boot/initrd.img-$version" --change-section-vma .initrd=0x3000000 \
    "$from/linuxx64.efi.stub" "$work/esp/EFI/Linux/debian-$version.efi"
else
  mkdir -p "$work/esp/loader/entries" "$work/esp/debian/$version"
  cp "$root/boot/vmlinuz-$version" "$work/esp/debian/$version/linux"
  cp "$root/boot/initrd.img-$version" "$work/esp/debian/$version/initrd.img-$version"
  printf 'title Debian GNU/Linux\nversion %s\nsort-key debian\noptions %s\nlinux /debian/%s/linux\ninitrd /debian/%s/initrd.img-%s\n' \
    "$version" "$options" "$version" "$version" "$version" >"$work/esp/loader/entries/debian-$version.conf"
fi
says_login quay-5
for at in dev sys proc ''; do umount "$root/$at"; done
MTOOLS_SKIP_CHECK=1 mcopy -s -i "$esp" "$work/esp/EFI" "$work/esp/loader" ::
[ "$kind" = unified ] || MTOOLS_SKIP_CHECK=1 mcopy -s -i "$esp" "$work/esp/debian" ::
machine_done
