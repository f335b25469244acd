#!/bin/bash
# Makes a Debian machine that starts by UEFI with its whole system on one volume of another file system, once, and prints
# where its disk image lies. Btrfs has it as Debian's installer does, in the subvolume @rootfs; /home lies in @home.
# usage: rootfs.sh xfs|btrfs
. "$(dirname "$0")/lib.sh"
export PATH=$PATH:/usr/sbin:/sbin

kind=${1:-}
case $kind in
xfs) options=defaults flags='' top='' ;;
btrfs) options='defaults,subvol=@rootfs' flags='rootflags=subvol=@rootfs ' top=/@rootfs ;;
*) die 'usage: rootfs.sh xfs|btrfs' ;;
esac
machine "$kind" "a machine on $kind"
mib=1048576
truncate -s 2000M "$made"
sgdisk -n 1:2048:+64M -t 1:ef00 -n 2:0:0 -t 2:8304 "$made" >/dev/null
loop esp "$made" $mib $((64 * mib))
loop volume "$made" $((65 * mib)) $((1934 * mib))
mkfs.fat -F 32 -n ESP "$esp" >/dev/null
"mkfs.$kind" -q -L root "$volume"
mkdir "$root" && mount "$volume" "$root"
if [ "$kind" = btrfs ]; then
  btrfs -q subvolume create "$root/@rootfs" && btrfs -q subvolume create "$root/@home"
  umount "$root" && mount -o subvol=@rootfs "$volume" "$root"
fi
cp -a "$base/." "$root/"
mkdir -p "$root/boot/efi" "$work/esp/EFI/debian" "$work/esp/EFI/BOOT" # the kernel here has no driver for FAT: its files come afterwards
furnished
id() { blkid -p -s UUID -o value "$1"; }
{
  echo "UUID=$(id "$volume") / $kind $options 0 0"
  echo "UUID=$(id "$esp") /boot/efi vfat umask=0077 0 1"
  [ "$kind" != btrfs ] || echo "UUID=$(id "$volume") /home btrfs defaults,subvol=@home 0 0"
} >"$root/etc/fstab"
printf '#!/bin/sh\nexit 101\n' >"$root/usr/sbin/policy-rc.d" && chmod 755 "$root/usr/sbin/policy-rc.d"
{
  chroot "$root" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -qq systemd-sysv udev dbus login kmod cron grub-efi-amd64 \
    "$([ "$kind" = xfs ] && echo xfsprogs || echo btrfs-progs)" || true
  sed -i 's/^GRUB_CMDLINE_LINUX=.*/GRUB_CMDLINE_LINUX="console=tty0 console=ttyS0,115200"/; s/^GRUB_TIMEOUT=.*/GRUB_TIMEOUT=0/' "$root/etc/default/grub"
  echo "$kind" >>"$root/etc/initramfs-tools/modules"
  chroot "$root" update-initramfs -u
  echo root:harbour | chroot "$root" chpasswd
  chroot "$root" useradd -s /bin/bash eivind
  chroot "$root" grub-mkimage -O x86_64-efi -o /tmp/grubx64.efi -p /EFI/debian part_gpt fat "$kind" normal search \
    search_fs_uuid configfile linux echo test serial terminal boot reboot halt ls cat minicmd gzio
  cp "$root/tmp/grubx64.efi" "$work/esp/EFI/debian/"; mv "$root/tmp/grubx64.efi" "$work/esp/EFI/BOOT/BOOTX64.EFI"
  mkdir -p "$root/boot/grub" && cp -r "$root/usr/lib/grub/x86_64-efi" "$root/boot/grub/"
  printf "search.fs_uuid %s root\nset prefix=(\$root)'%s/boot/grub'\nconfigfile \$prefix/grub.cfg\n" "$(id "$volume")" "$top" \
    >"$work/esp/EFI/debian/grub.cfg"
  # shellcheck disable=SC2016 # the shell inside expands it
  chroot "$root" sh -c 'GRUB_DEVICE=/dev/vda2 GRUB_DEVICE_BOOT=/dev/vda2 GRUB_CMDLINE_LINUX="console=tty0 console=ttyS0,115200" \
    pkgdatadir=/usr/share/grub sh /etc/grub.d/10_linux' >"$work/menu" || true
  { printf 'set timeout=0\nserial\nterminal_output console serial\ninsmod part_gpt\ninsmod %s\nsearch --no-floppy --fs-uuid --set=root %s\n' \
      "$kind" "$(id "$volume")"
    sed -e "s,^\(\t*\)if \[ x.grub_platform = xxen.*,&\n\1search --no-floppy --fs-uuid --set=root $(id "$volume")," \
      -e "s,root=/dev/vda2,root=UUID=$(id "$volume") $flags,; s,\([[:space:]]\)[^[:space:]]*/boot/vmlinuz,\1$top/boot/vmlinuz,; s,\([[:space:]]\)[^[:space:]]*/boot/initrd,\1$top/boot/initrd," "$work/menu"; } >"$root/boot/grub/grub.cfg"
} >"$cache/$kind.log" 2>&1 || die "it could not be set up: see $cache/$kind.log"
rm -f "$root/usr/sbin/policy-rc.d" "$root/etc/apt/apt.conf.d/"*prox* "$root/var/cache/apt/archives/"*.deb
echo quay-9 >"$root/etc/hostname"
mkdir "$root/srv/tides" && echo 'high water 11:42' >"$root/srv/tides/today"
[ "$kind" != btrfs ] || mount -o subvol=@home "$volume" "$root/home"
mkdir "$root/home/eivind" && echo 'sail at two' >"$root/home/eivind/note" && chown -R 1000:1000 "$root/home/eivind"
[ "$kind" != btrfs ] || umount "$root/home"
umount "$root/dev" "$root/sys" "$root/proc" "$root"
MTOOLS_SKIP_CHECK=1 mcopy -s -i "$esp" "$work/esp/EFI" ::
machine_done
