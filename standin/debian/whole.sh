#!/bin/bash
# Makes a whole Debian machine that starts by UEFI, once, and prints where its disk image lies: a service manager, devices,
# a network that is not there, a journal and a real sign-in on the serial console, a boot volume of its own, /home on another.
# usage: whole.sh
. "$(dirname "$0")/lib.sh"
export PATH=$PATH:/usr/sbin:/sbin

machine whole "a whole machine"
mib=1048576
truncate -s 2000M "$made"
sgdisk -n 1:2048:+64M -t 1:ef00 -n 2:0:+256M -t 2:8300 -n 3:0:+1400M -t 3:8304 -n 4:0:0 -t 4:8302 "$made" >/dev/null
loop esp "$made" $mib $((64 * mib))
loop boot "$made" $((65 * mib)) $((256 * mib))
loop volume "$made" $((321 * mib)) $((1400 * mib))
loop home "$made" $((1721 * mib)) $((278 * mib))
mkfs.fat -F 32 -n ESP "$esp" >/dev/null
mke2fs -q -t ext4 -L boot "$boot"
mke2fs -q -t ext4 -L root "$volume" -d "$base"
mke2fs -q -t ext4 -L home "$home"
mkdir "$root" && mount "$volume" "$root"
cp -a "$root/boot" "$work/boot" && rm -rf "${root:?}/boot/"* && mount "$boot" "$root/boot" && cp -a "$work/boot/." "$root/boot/"
mkdir -p "$root/boot/efi" "$work/esp/EFI/debian" "$work/esp/EFI/BOOT" # the kernel here has no driver for FAT: its files come afterwards
furnished
id() { blkid -p -s UUID -o value "$1"; }
cat >"$root/etc/fstab" <<END
UUID=$(id "$volume") / ext4 errors=remount-ro 0 1
UUID=$(id "$boot") /boot ext4 defaults 0 2
UUID=$(id "$esp") /boot/efi vfat umask=0077 0 1
UUID=$(id "$home") /home ext4 defaults 0 2
END
printf '#!/bin/sh\nexit 101\n' >"$root/usr/sbin/policy-rc.d" && chmod 755 "$root/usr/sbin/policy-rc.d"
{
  chroot "$root" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -qq systemd-sysv udev dbus login kmod ifupdown cron openssh-server grub-efi-amd64 || true
  sed -i 's/^GRUB_CMDLINE_LINUX=.*/GRUB_CMDLINE_LINUX="console=tty0 console=ttyS0,115200"/; s/^GRUB_TIMEOUT=.*/GRUB_TIMEOUT=0/' "$root/etc/default/grub"
  chroot "$root" update-initramfs -u
  echo root:harbour | chroot "$root" chpasswd
  chroot "$root" useradd -m -s /bin/bash eivind
  chroot "$root" grub-mkimage -O x86_64-efi -o /tmp/grubx64.efi -p /EFI/debian part_gpt fat ext2 normal search \
    search_fs_uuid configfile linux echo test serial terminal boot reboot halt ls cat minicmd gzio
  cp "$root/tmp/grubx64.efi" "$work/esp/EFI/debian/"; mv "$root/tmp/grubx64.efi" "$work/esp/EFI/BOOT/BOOTX64.EFI"
  mkdir -p "$root/boot/grub" && cp -r "$root/usr/lib/grub/x86_64-efi" "$root/boot/grub/"
  printf "search.fs_uuid %s root\nset prefix=(\$root)'/grub'\nconfigfile \$prefix/grub.cfg\n" "$(id "$boot")" >"$work/esp/EFI/debian/grub.cfg"
  # shellcheck disable=SC2016 # the shell inside expands it
  chroot "$root" sh -c 'GRUB_DEVICE=/dev/vda3 GRUB_DEVICE_BOOT=/dev/vda2 GRUB_CMDLINE_LINUX="console=tty0 console=ttyS0,115200" \
    pkgdatadir=/usr/share/grub sh /etc/grub.d/10_linux' >"$work/menu" || true
  { printf 'set timeout=0\nserial\nterminal_output console serial\ninsmod part_gpt\ninsmod ext2\nsearch --no-floppy --fs-uuid --set=root %s\n' "$(id "$boot")"
    sed -e "s,^\(\t*\)if \[ x.grub_platform = xxen.*,&\n\1search --no-floppy --fs-uuid --set=root $(id "$boot")," \
      -e "s,root=/dev/vda3,root=UUID=$(id "$volume"),; s,/boot/vmlinuz,/vmlinuz,; s,/boot/initrd,/initrd," "$work/menu"; } >"$root/boot/grub/grub.cfg"
} >"$cache/whole.log" 2>&1 || die "it could not be set up: see $cache/whole.log"
rm -f "$root/usr/sbin/policy-rc.d" "$root/etc/apt/apt.conf.d/"*prox* "$root/var/cache/apt/archives/"*.deb
echo quay-6 >"$root/etc/hostname"
mkdir "$root/srv/tides" && echo 'high water 11:42' >"$root/srv/tides/today"
mount "$home" "$root/home" && mkdir "$root/home/eivind" && echo 'sail at two' >"$root/home/eivind/note" && chown -R 1000:1000 "$root/home/eivind" && umount "$root/home"
umount "$root/dev" "$root/sys" "$root/proc" "$root/boot" "$root"
MTOOLS_SKIP_CHECK=1 mcopy -s -i "$esp" "$work/esp/EFI" ::
machine_done
