#!/bin/bash
# Makes a Debian machine that starts by the older firmware, once, and prints where its disk image lies: a partition of
# its own, GRUB installed and its menu written by Debian's own scripts, and an init that says that the machine is up.
# With the word "gpt" the disk has a GPT, with a partition of its own for GRUB's core image.
# usage: bios.sh [gpt]
. "$(dirname "$0")/lib.sh"
export PATH=$PATH:/usr/sbin:/sbin

uuid=3f1c7a52-8a0b-4d52-9f5e-2b6f0c9d1e44
kind=${1:-}
image=$cache/$suite-bios${kind:+-$kind}.img
[ -e "$image" ] && { printf '%s\n' "$image"; exit; }
need_root
base=$(base_root)
work=$(mktemp -d)
root=$work/root
made=$cache/.$suite-bios${kind:+-$kind}.img
finish() {
  for at in dev sys proc ''; do umount -l "$root/$at" 2>/dev/null || true; done
  [ -z "${part:-}" ] || losetup -d "$part"
  [ -z "${disk:-}" ] || losetup -d "$disk"
  rm -rf "$work" "$made"
}
trap finish EXIT
say "making a machine that starts by BIOS in $image (about a minute, kept for next time)"
truncate -s 1500M "$made"
at=1048576 table=part_msdos
if [ "$kind" = gpt ]; then
  at=2097152 table=part_gpt
  printf 'label: gpt\n2048,2048,21686148-6449-6E6F-744E-656564454649\n4096,,L\n' | sfdisk -q "$made"
else
  printf 'label: dos\n2048,,83,*\n' | sfdisk -q "$made"
fi
disk=$(losetup -f --show "$made")
part=$(losetup -f --show -o $at --sizelimit $((1500 * 1048576 - at - 1048576)) "$made")
mke2fs -q -t ext4 -U "$uuid" -L harbour -d "$base" "$part"
mkdir "$root" && mount "$part" "$root"
mount -t proc proc "$root/proc"; mount -t sysfs sys "$root/sys"; mount --bind /dev "$root/dev"
cp -L /etc/resolv.conf "$root/etc/resolv.conf"
[ ! -d /etc/apt/apt.conf.d ] || find /etc/apt/apt.conf.d -name '*prox*' -exec cp {} "$root/etc/apt/apt.conf.d/" \;
{
  chroot "$root" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -qq grub-pc || true # its script asks for the disk
  # The loop device stands for the disk: what GRUB would find out of a real one is said.
  chroot "$root" grub-install --modules="$table ext2 search search_fs_uuid biosdisk" --target=i386-pc "$disk"
  chroot "$root" update-grub || true # it finds no device behind a loop; the menu is added below
} >"$cache/bios.log" 2>&1 || die "GRUB could not be installed: see $cache/bios.log"
chroot "$root" sh -c 'GRUB_DEVICE=/dev/sda1 GRUB_DEVICE_BOOT=/dev/sda1 GRUB_CMDLINE_LINUX=console=ttyS0 pkgdatadir=/usr/share/grub sh /etc/grub.d/10_linux' \
  2>/dev/null | sed -e "s,root=/dev/sda1,root=UUID=$uuid," -e "s,-/dev/sda1,-$uuid," \
  -e "s,^\(\t*\)if \[ x.grub_platform = xxen.*,&\n\1insmod $table\n\1insmod ext2\n\1search --no-floppy --fs-uuid --set=root $uuid," >>"$root/boot/grub/grub.cfg"
printf 'set timeout=0\nserial\nterminal_output serial\n' >>"$root/boot/grub/grub.cfg"
echo "UUID=$uuid / ext4 errors=remount-ro 0 1" >"$root/etc/fstab"
printf '#!/bin/sh\nexec >/dev/console 2>&1\necho "quay-4 login:"\nsleep 2\nmount -t proc proc /proc; echo o >/proc/sysrq-trigger; sleep 60\n' >"$root/usr/sbin/init"
chmod 755 "$root/usr/sbin/init"
rm -f "$root/etc/apt/apt.conf.d/"*prox*
umount -l "$root/dev" "$root/sys" "$root/proc" "$root"
losetup -d "$part" "$disk"; part=; disk=
mv "$made" "$image"
printf '%s\n' "$image"
