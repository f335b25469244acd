#!/bin/bash
# Makes a Debian machine that starts by UEFI with its root on a logical volume, once, and prints where its disk image
# lies: laid out as the installer's guided set-up does it, a boot volume of its own beside a volume group. With the word
# "encrypted" the physical volume lies in a LUKS volume; its passphrase is "harbour".
# usage: lvm.sh [encrypted]
. "$(dirname "$0")/lib.sh"
export PATH=$PATH:/usr/sbin:/sbin LVM_SUPPRESS_FD_WARNINGS=1

kind=${1:-plain}
machine "lvm-$kind" "a machine on a logical volume"
mib=1048576
truncate -s 2000M "$made"
sgdisk -n 1:2048:+64M -t 1:ef00 -n 2:0:+256M -t 2:8300 -n 3:0:0 -t 3:8300 "$made" >/dev/null
pv=$work/pv
truncate -s $(((2000 - 1 - 64 - 256 - 20) * mib)) "$pv"
loop part "$pv"
on_lvm() {
  lvm "$@" --driverloaded n --nolocking --config "devices{scan_lvs=0 use_devicesfile=0 filter=[\"a|^$part$|\",\"r|.*|\"]} \
backup{backup=0 archive=0} activation{udev_sync=0 udev_rules=0 checks=0}" >/dev/null 2>&1
}
on_lvm pvcreate "$part"
on_lvm vgcreate quay-vg "$part"
on_lvm lvcreate -an -Zn -Wn -n root -L 1300M quay-vg
on_lvm lvcreate -an -Zn -Wn -n swap_1 -L 64M quay-vg
loop volume "$pv" $mib $((1300 * mib))
mke2fs -q -t ext4 -L quay "$volume" -d "$base"
loop swap "$pv" $((1301 * mib)) $((64 * mib))
mkswap -q "$swap" 2>/dev/null || mkswap "$swap" >/dev/null
loop esp "$made" $mib $((64 * mib))
loop boot "$made" $((65 * mib)) $((256 * mib))
mkfs.fat -F 32 -n ESP "$esp" >/dev/null
mke2fs -q -t ext4 -L boot "$boot"
mkdir "$root" && mount "$volume" "$root"
cp -a "$root/boot" "$work/boot" && rm -rf "${root:?}/boot/"* && mount "$boot" "$root/boot" && cp -a "$work/boot/." "$root/boot/"
mkdir -p "$root/boot/efi" "$work/esp" # the kernel here has no driver for FAT: the files are copied afterwards
furnished
bootid=$(blkid -p -s UUID -o value "$boot"); espid=$(blkid -p -s UUID -o value "$esp")
cat >"$root/etc/fstab" <<END
/dev/mapper/quay--vg-root / ext4 errors=remount-ro 0 1
UUID=$bootid /boot ext4 defaults 0 2
UUID=$espid /boot/efi vfat umask=0077 0 1
/dev/mapper/quay--vg-swap_1 none swap sw 0 0
END
packages="lvm2 grub-efi-amd64"
if [ "$kind" = encrypted ]; then
  packages="$packages cryptsetup-initramfs"
  luks=5a0d3c52-1f0b-4f52-8e5e-1b6f0c9d1e11
  echo "vda3_crypt UUID=$luks none luks,discard,initramfs" >"$root/etc/crypttab"
fi
mkdir -p "$root/etc/default/grub.d"
{
  chroot "$root" apt-get update -qq
  # shellcheck disable=SC2086 # they are words
  DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -qq $packages || true
  sed -i 's/^GRUB_CMDLINE_LINUX=.*/GRUB_CMDLINE_LINUX="console=ttyS0"/; s/^GRUB_TIMEOUT=.*/GRUB_TIMEOUT=0/' "$root/etc/default/grub"
  chroot "$root" update-initramfs -u
  chroot "$root" grub-mkimage -O x86_64-efi -o /tmp/grubx64.efi -p /EFI/debian part_gpt fat ext2 normal search \
    search_fs_uuid configfile linux lvm echo test serial terminal boot reboot halt ls cat minicmd gzio
  mkdir -p "$work/esp/EFI/debian" "$work/esp/EFI/BOOT"
  cp "$root/tmp/grubx64.efi" "$work/esp/EFI/debian/"; cp "$root/tmp/grubx64.efi" "$work/esp/EFI/BOOT/BOOTX64.EFI"
  mkdir -p "$root/boot/grub" && cp -r "$root/usr/lib/grub/x86_64-efi" "$root/boot/grub/"
  printf "search.fs_uuid %s root\nset prefix=(\$root)'/grub'\nconfigfile \$prefix/grub.cfg\n" "$bootid" >"$work/esp/EFI/debian/grub.cfg"
  # shellcheck disable=SC2016 # the shell inside expands it
  chroot "$root" sh -c 'GRUB_DEVICE=/dev/mapper/quay--vg-root GRUB_DEVICE_BOOT=/dev/vda2 GRUB_CMDLINE_LINUX=console=ttyS0 \
    GRUB_DISABLE_LINUX_UUID=true pkgdatadir=/usr/share/grub sh /etc/grub.d/10_linux' >"$work/menu" || true
  { printf 'set timeout=0\nserial\nterminal_output serial\ninsmod part_gpt\ninsmod ext2\nsearch --no-floppy --fs-uuid --set=root %s\n' "$bootid"
    sed -e "s,^\(\t*\)if \[ x.grub_platform = xxen.*,&\n\1search --no-floppy --fs-uuid --set=root $bootid," \
      -e 's,/boot/vmlinuz,/vmlinuz,; s,/boot/initrd,/initrd,' "$work/menu"; } >"$root/boot/grub/grub.cfg"
} >"$cache/lvm-$kind.log" 2>&1 || die "it could not be set up: see $cache/lvm-$kind.log"
says_login quay-4
for at in dev sys proc boot ''; do umount "$root/$at"; done
MTOOLS_SKIP_CHECK=1 mcopy -s -i "$esp" "$work/esp/EFI" ::
for l in $loops; do losetup -d "$l"; done; loops=
if [ "$kind" = encrypted ]; then
  qemu-img convert -q -f raw --object secret,id=s,data=harbour -O luks -o key-secret=s,iter-time=500 "$pv" "$work/luks"
  cryptsetup luksUUID --batch-mode --uuid "$luks" "$work/luks"
  pv=$work/luks
fi
[ "$(stat -c %s "$pv")" -le $(((2000 - 1 - 64 - 256 - 1) * mib)) ] || die "the volume is larger than its partition"
dd if="$pv" of="$made" bs=1M seek=321 conv=notrunc,sparse status=none
machine_done
