#!/bin/bash
# Makes a Debian machine that starts by the older firmware, once, and prints where its disk image lies: a partition of
# its own, GRUB installed and its menu written by Debian's own scripts, and an init that says that the machine is up.
# With the word "gpt" the disk has a GPT, with a partition of its own for GRUB's core image; with the word "sector" code of
# no loader's starts the active partition, in whose boot sector GRUB lies, with its core image in a file of the volume.
# usage: bios.sh [gpt|sector]
. "$(dirname "$0")/lib.sh"
export PATH=$PATH:/usr/sbin:/sbin

uuid=3f1c7a52-8a0b-4d52-9f5e-2b6f0c9d1e44
kind=${1:-}
machine "bios${kind:+-$kind}" "a machine that starts by BIOS"
truncate -s 1500M "$made"
at=1048576 table=part_msdos
if [ "$kind" = gpt ]; then
  at=2097152 table=part_gpt
  printf 'label: gpt\n2048,2048,21686148-6449-6E6F-744E-656564454649\n4096,,L\n' | sfdisk -q "$made"
else
  printf 'label: dos\n2048,,83,*\n' | sfdisk -q "$made"
fi
at_part=$at
loop disk "$made"
loop part "$made" $at $((1500 * 1048576 - at - 1048576))
mke2fs -q -t ext4 -U "$uuid" -L harbour -d "$base" "$part"
mkdir "$root" && mount "$part" "$root"
furnished
{
  chroot "$root" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -qq grub-pc || true # its script asks for the disk
  # The loop device stands for the disk: what GRUB would find out of a real one is said.
  chroot "$root" grub-install --force --modules="$table ext2 search search_fs_uuid biosdisk" --target=i386-pc \
    "$([ "$kind" = sector ] && echo "$part" || echo "$disk")"
  if [ "$kind" = sector ]; then
    DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -qq syslinux-common
    chroot "$root" grub-mkimage -O i386-pc -o /boot/grub/i386-pc/core.img -p '(,msdos1)/boot/grub' biosdisk "$table" ext2
    chroot "$root" grub-bios-setup --force -d /boot/grub/i386-pc "$part"
  fi
  chroot "$root" update-grub || true # it finds no device behind a loop; the menu is added below
} >"$cache/bios.log" 2>&1 || die "GRUB could not be installed: see $cache/bios.log"
chroot "$root" sh -c 'GRUB_DEVICE=/dev/sda1 GRUB_DEVICE_BOOT=/dev/sda1 GRUB_CMDLINE_LINUX=console=ttyS0 pkgdatadir=/usr/share/grub sh /etc/grub.d/10_linux' \
  2>/dev/null | sed -e "s,root=/dev/sda1,root=UUID=$uuid," -e "s,-/dev/sda1,-$uuid," \
  -e "s,^\(\t*\)if \[ x.grub_platform = xxen.*,&\n\1insmod $table\n\1insmod ext2\n\1search --no-floppy --fs-uuid --set=root $uuid," >>"$root/boot/grub/grub.cfg"
printf 'set timeout=0\nserial\nterminal_output serial\n' >>"$root/boot/grub/grub.cfg"
echo "UUID=$uuid / ext4 errors=remount-ro 0 1" >"$root/etc/fstab"
says_login quay-4
[ "$kind" != sector ] || head -c 440 "$root/usr/lib/syslinux/mbr/mbr.bin" >"$work/mbr"
for at in dev sys proc ''; do umount "$root/$at"; done
if [ "$kind" = sector ]; then
  dd if="$work/mbr" of="$made" conv=notrunc status=none
  # GRUB took the volume for a disk: where its parts lie is told from the start of the disk. The first sector names the
  # head of the core image at byte 0x5c, and the head names the rest in entries of 12 bytes, from byte 500 downwards.
  perl -e '
    my ($disk, $first) = @ARGV;
    open(my $f, "+<", $disk) or die $!;
    sub get { my ($at, $n) = @_; seek($f, $at, 0); read($f, my $b, $n); return $b }
    sub set { my ($at, $b) = @_; seek($f, $at, 0); print $f $b }
    my $head = unpack("Q<", get($first * 512 + 0x5c, 8)) + $first;
    set($first * 512 + 0x5c, pack("Q<", $head));
    for (my $at = $head * 512 + 500; ; $at -= 12) {
      my ($from, $n) = unpack("Q< S<", get($at, 10));
      last if $n == 0;
      set($at, pack("Q<", $from + $first));
    }
    close($f) or die $!;
  ' "$made" $((at_part / 512))
fi
machine_done
