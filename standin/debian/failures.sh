#!/bin/bash
# Provokes real failures of a Debian system in a throw-away root and captures
# its logs. usage: failures.sh --list | failures.sh NAME [DIR]
. "$(dirname "$0")/lib.sh"

full-boot-volume() { # the monthly update brings a kernel, and the boot volume has no room for its early-boot image
  label boot-volume-full 'No space left on device'
  truncate -s 72M "$work/boot.img"
  mke2fs -q -t ext4 -m 0 -L boot -d "$root/boot" "$work/boot.img"
  mount -o loop "$work/boot.img" "$root/boot"
  inside apt-get update -qq
  inside apt-get install -y -qq --no-install-recommends less >/dev/null
  add_suite "$suite-security"
  inside apt-get update -qq
  local room
  room=$(df --output=avail -k "$root/boot" | tail -1)
  filled "$root/boot/initrd.img-5.10.0-28-cloud-amd64" $((room - 14000))
  console "apt-get -y -o Dpkg::Progress-Fancy=0 dist-upgrade"
  df -k "$root/boot" | sed "s#$root##" >"$work/df.txt"
}
postinst-fails() {
  label maintainer-script-failed 'cannot reach the berth planner'
  quiet_day
  script_of skerrow-berth postinst <<'END'
echo "Registering this kiosk"
echo "skerrow-berth: cannot reach the berth planner at planner.skerrow.example" >&2
exit 3
END
  deb skerrow-berth 1.4
  console "apt-get -y install /repo/skerrow-berth_1.4_all.deb"
}
postinst-missing-command() {
  label maintainer-script-failed 'signage-ctl: not found'
  quiet_day
  echo 'signage-ctl --register "$(hostname)"' | script_of skerrow-signage postinst
  deb skerrow-signage 2.0
  console "apt-get -y install /repo/skerrow-signage_2.0_all.deb"
}
module-missing() {
  label maintainer-script-failed "Can.t locate Skerrow"
  quiet_day
  echo "perl -e 'use Skerrow::Berths; print 1;'" | script_of skerrow-perl postinst
  deb skerrow-perl 1.0
  console "apt-get -y install /repo/skerrow-perl_1.0_all.deb"
}
script-not-valid() {
  label maintainer-script-failed 'Syntax error'
  quiet_day
  echo 'if [ -d /dev/snd ]; then' | script_of skerrow-audio postinst
  deb skerrow-audio 1.0
  console "apt-get -y install /repo/skerrow-audio_1.0_all.deb"
}
preinst-refuses() {
  label maintainer-script-failed 'no ticket printer'
  quiet_day
  echo 'echo "error: this kiosk has no ticket printer" >&2; exit 1' | script_of skerrow-tickets preinst
  deb skerrow-tickets 5.0
  console "apt-get -y install /repo/skerrow-tickets_5.0_all.deb"
}
prerm-fails() {
  label maintainer-script-failed 'sailing list is in use'
  echo 'echo "cannot stop: the sailing list is in use" >&2; exit 1' | script_of skerrow-sailings prerm
  deb skerrow-sailings 1.0
  have skerrow-sailings_1.0_all.deb
  console "apt-get -y remove skerrow-sailings"
}
postrm-fails() {
  label maintainer-script-failed 'cannot remove the spool'
  echo 'echo "cannot remove the spool: a print job is held" >&2; exit 1' | script_of skerrow-spool postrm
  deb skerrow-spool 1.0
  have skerrow-spool_1.0_all.deb
  console "apt-get -y purge skerrow-spool"
}
script-killed() { # as the kernel does when memory runs out
  label script-killed 'Killed'
  quiet_day
  printf 'echo "Building the index"\nsh -c "kill -9 \\$\\$"\n' | script_of skerrow-index postinst
  deb skerrow-index 1.0
  console "apt-get -y install /repo/skerrow-index_1.0_all.deb"
}
volume-full() {
  label volume-full 'No space left on device'
  quiet_day
  mkdir -p "$root/opt" && mount -t tmpfs -o size=600k tmpfs "$root/opt"
  filled "$work/skerrow-maps/opt/maps/sound.bin" 2000
  deb skerrow-maps 7.2
  console "apt-get -y install /repo/skerrow-maps_7.2_all.deb"
  inside df -k /opt >"$work/df.txt"
}
inodes-used-up() {
  label inodes-used-up 'No space left on device'
  quiet_day
  mkdir -p "$root/opt" && mount -t tmpfs -o size=50m,nr_inodes=20 tmpfs "$root/opt"
  mkdir -p "$work/skerrow-icons/opt/icons"
  for i in $(seq 60); do echo "$i" >"$work/skerrow-icons/opt/icons/icon-$i"; done
  deb skerrow-icons 1.0
  console "apt-get -y install /repo/skerrow-icons_1.0_all.deb"
  inside df -k /opt >"$work/df.txt"
  inside df -i /opt >"$work/df-inodes.txt"
}
volume-read-only() {
  label volume-read-only 'Read-only file system'
  quiet_day
  mkdir -p "$root/opt" && mount -t tmpfs -o ro,size=5m tmpfs "$root/opt"
  filled "$work/skerrow-maps/opt/maps/sound.bin" 20
  deb skerrow-maps 7.2
  console "apt-get -y install /repo/skerrow-maps_7.2_all.deb"
}
file-in-two-packages() {
  label file-in-two-packages 'error processing archive .*skerrow-brand'
  mkdir -p "$work/skerrow-fonts/usr/share/skerrow" "$work/skerrow-brand/usr/share/skerrow"
  echo a >"$work/skerrow-fonts/usr/share/skerrow/logo.svg"
  echo b >"$work/skerrow-brand/usr/share/skerrow/logo.svg"
  deb skerrow-fonts 1.0
  deb skerrow-brand 2.0
  have skerrow-fonts_1.0_all.deb
  console "apt-get -y install /repo/skerrow-brand_2.0_all.deb"
}
unmet-dependency() {
  label unmet-dependencies 'The following packages have unmet dependencies'
  quiet_day
  deb skerrow-crew 4.0 "Depends: skerrow-roster (>= 9)"
  repo
  inside apt-get update -qq
  console "apt-get -y install skerrow-crew"
}
dpkg-dependency() {
  label unmet-dependencies 'dependency problems prevent configuration'
  quiet_day
  deb skerrow-crew 4.0 "Depends: skerrow-roster (>= 9)"
  console "dpkg -i /repo/skerrow-crew_4.0_all.deb"
}
pre-dependency() {
  label unmet-dependencies 'regarding .*skerrow-radio'
  quiet_day
  deb skerrow-radio 4.0 "Pre-Depends: skerrow-radio-base (>= 2)"
  console "dpkg -i /repo/skerrow-radio_4.0_all.deb"
}
packages-conflict() {
  label packages-conflict 'regarding .*skerrow-spoold'
  deb skerrow-printd 1.0
  deb skerrow-spoold 1.0 "Conflicts: skerrow-printd"
  have skerrow-printd_1.0_all.deb
  console "dpkg -i /repo/skerrow-spoold_1.0_all.deb"
}
archive-cut-off() {
  label package-file-damaged 'unexpected end of file|lzma error|dpkg-deb: error'
  quiet_day
  filled "$work/skerrow-video/opt/video/intro.bin" 300
  deb skerrow-video 1.0
  truncate -s 90000 "$root/repo/skerrow-video_1.0_all.deb"
  console "dpkg -i /repo/skerrow-video_1.0_all.deb"
}
archive-altered() {
  label package-file-damaged 'lzma error'
  quiet_day
  filled "$work/skerrow-video/opt/video/intro.bin" 300
  deb skerrow-video 1.0
  printf 'spoilt' | dd of="$root/repo/skerrow-video_1.0_all.deb" bs=1 seek=100000 conv=notrunc status=none
  console "dpkg -i /repo/skerrow-video_1.0_all.deb"
}
portal-instead-of-package() { # a sign-in page of the harbour's network was saved as the package
  label package-file-damaged 'not a Debian format archive'
  quiet_day
  mkdir -p "$root/repo" && echo '<html>Sign in to the harbour network</html>' >"$root/repo/skerrow-video_1.0_all.deb"
  console "dpkg -i /repo/skerrow-video_1.0_all.deb"
}
wrong-architecture() {
  label wrong-architecture 'error processing archive'
  quiet_day
  deb skerrow-handheld 1.0 "Architecture: arm64"
  console "dpkg -i /repo/skerrow-handheld_1.0_arm64.deb"
}
lock-held() { # another run is under way
  label package-system-locked 'Could not get lock'
  quiet_day
  echo 'sleep 6' | script_of skerrow-slow postinst
  deb skerrow-slow 1.0
  deb skerrow-gate 1.0
  console "dpkg -i /repo/skerrow-slow_1.0_all.deb >/dev/null 2>&1 & sleep 2; apt-get -y -o DPkg::Lock::Timeout=0 install /repo/skerrow-gate_1.0_all.deb; wait"
}
not-root() {
  label not-run-as-root 'Could not open lock file'
  quiet_day
  deb skerrow-gate 1.0
  console "setpriv --reuid=65534 --regid=65534 --clear-groups apt-get -y install /repo/skerrow-gate_1.0_all.deb"
}
configuration-prompt() {
  label configuration-prompt 'error processing package skerrow-clock'
  mkdir -p "$work/skerrow-clock/etc" "$work/skerrow-clock/DEBIAN"
  echo 'zone=Lerrick' >"$work/skerrow-clock/etc/skerrow-clock.conf"
  echo /etc/skerrow-clock.conf >"$work/skerrow-clock/DEBIAN/conffiles"
  deb skerrow-clock 1.0
  have skerrow-clock_1.0_all.deb
  echo 'zone=Skerrow # changed by hand' >"$root/etc/skerrow-clock.conf"
  echo 'zone=Fulmar' >"$work/skerrow-clock/etc/skerrow-clock.conf"
  deb skerrow-clock 2.0
  console "dpkg -i /repo/skerrow-clock_2.0_all.deb </dev/null"
}
interrupted-before() {
  label package-run-interrupted 'dpkg was interrupted'
  quiet_day
  deb skerrow-gate 1.0
  mkdir -p "$root/var/lib/dpkg/updates" && cp "$root/var/lib/dpkg/status" "$root/var/lib/dpkg/updates/0001"
  console "apt-get -y install /repo/skerrow-gate_1.0_all.deb"
}
database-damaged() {
  label package-database-damaged 'parsing file|Encountered a section with no Package'
  quiet_day
  deb skerrow-gate 1.0
  sed -i '1s/.*/spoilt/' "$root/var/lib/dpkg/status"
  console "dpkg -i /repo/skerrow-gate_1.0_all.deb"
}
release-missing() {
  label repository-wrong '404 +Not Found'
  quiet_day
  printf 'deb %s bookworm-harbour main\n' "$(mirror_of "$suite")" >"$root/etc/apt/sources.list"
  console "apt-get update; apt-get -y dist-upgrade"
}
key-missing() {
  label repository-key-missing 'NO_PUBKEY'
  quiet_day
  : >"$root/etc/apt/empty.gpg"
  printf 'deb [signed-by=/etc/apt/empty.gpg] %s %s main\n' "$(mirror_of "$suite")" "$suite" >"$root/etc/apt/sources.list"
  console "apt-get update; apt-get -y dist-upgrade"
}
name-not-resolved() {
  label name-not-resolved 'Temporary failure resolving|Could not resolve'
  quiet_day
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo 'deb http://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"
  echo 'nameserver 127.0.0.9' >"$root/etc/resolv.conf"
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
}
connection-refused() {
  label repository-unreachable 'Connection refused|Could not connect'
  quiet_day
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo 'deb http://127.0.0.1:9 bookworm main' >"$root/etc/apt/sources.list"
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
}
download-altered() {
  label download-altered 'Hash Sum mismatch|unexpected size'
  quiet_day
  filled "$work/skerrow-video/opt/video/intro.bin" 100
  deb skerrow-video 1.0
  repo
  inside apt-get update -qq
  printf 'spoilt' | dd of="$root/repo/skerrow-video_1.0_all.deb" bs=1 seek=50000 conv=notrunc status=none
  console "apt-get -y install skerrow-video"
}
not-signed() {
  label repository-key-missing 'cannot be authenticated'
  quiet_day
  deb skerrow-gate 1.0
  repo allow-insecure=yes
  inside apt-get update -qq 2>/dev/null
  console "apt-get -y install skerrow-gate"
}
release-expired() {
  label repository-expired 'is expired'
  quiet_day
  deb skerrow-gate 1.0
  repo "trusted=yes check-valid-until=yes"
  printf 'Origin: Skerrow\nDate: Mon, 05 Jan 2026 08:00:00 UTC\nValid-Until: Mon, 12 Jan 2026 08:00:00 UTC\nSHA256:\n %s %s Packages\n' "$(sha256sum "$root/repo/Packages" | cut -d' ' -f1)" "$(stat -c %s "$root/repo/Packages")" >"$root/repo/Release"
  console "apt-get update; apt-get -y install skerrow-gate"
}
release-not-yet-valid() {
  label clock-behind 'is not valid yet'
  quiet_day
  deb skerrow-gate 1.0
  repo "trusted=yes check-date=yes"
  printf 'Origin: Skerrow\nDate: Mon, 03 Jan 2028 08:00:00 UTC\nSHA256:\n %s %s Packages\n' "$(sha256sum "$root/repo/Packages" | cut -d' ' -f1)" "$(stat -c %s "$root/repo/Packages")" >"$root/repo/Release"
  console "apt-get update; apt-get -y install skerrow-gate"
}
package-not-known() {
  label package-not-known 'Unable to locate package'
  quiet_day
  deb skerrow-gate 1.0
  repo
  inside apt-get update -qq
  console "apt-get -y install skerrow-gates"
}
package-held() {
  label package-held 'The following packages have unmet dependencies'
  deb skerrow-core 1.0
  have skerrow-core_1.0_all.deb
  inside apt-mark hold skerrow-core >/dev/null
  deb skerrow-core 2.0
  deb skerrow-desk 2.0 "Depends: skerrow-core (>= 2.0)"
  repo
  inside apt-get update -qq
  console "apt-get -y install skerrow-desk"
}
sources-malformed() {
  label sources-malformed 'Malformed entry'
  quiet_day
  echo 'deb htp//packages.skerrow.example bookworm' >"$root/etc/apt/sources.list"
  console "apt-get update; apt-get -y dist-upgrade"
}
older-than-installed() {
  label older-than-installed 'Packages were downgraded'
  deb skerrow-gate 2.0
  have skerrow-gate_2.0_all.deb
  deb skerrow-gate 1.0
  console "apt-get -y install /repo/skerrow-gate_1.0_all.deb"
}
essential-removed() {
  label essential-removal-refused 'Essential packages were removed'
  quiet_day
  console "apt-get -y remove bash"
}
early-boot-hook() {
  label early-boot-hook-failed 'picture of the vessel is missing'
  quiet_day
  printf '#!/bin/sh\n[ "$1" = prereqs ] && exit 0\necho "E: splash: the picture of the vessel is missing" >&2\nexit 1\n' >"$root/etc/initramfs-tools/hooks/splash"
  chmod 755 "$root/etc/initramfs-tools/hooks/splash"
  echo 'update-initramfs -u' | script_of skerrow-splash postinst
  deb skerrow-splash 1.0
  console "apt-get -y install /repo/skerrow-splash_1.0_all.deb"
}
diversion-clash() {
  label diversion-clash 'rename involves overwriting'
  quiet_day
  mkdir -p "$root/usr/share/skerrow"
  echo a >"$root/usr/share/skerrow/map"
  echo b >"$root/usr/share/skerrow/map.distrib"
  echo 'dpkg-divert --package skerrow-chart --rename --add /usr/share/skerrow/map' | script_of skerrow-chart preinst
  deb skerrow-chart 1.0
  console "apt-get -y install /repo/skerrow-chart_1.0_all.deb"
}
trigger-fails() {
  label trigger-failed 'cannot rebuild the timetable'
  echo 'if [ "$1" = triggered ]; then echo "board: cannot rebuild the timetable: the feed is invalid" >&2; exit 1; fi' | script_of skerrow-board postinst
  echo 'interest /usr/share/skerrow-feeds' >"$work/skerrow-board/DEBIAN/triggers"
  deb skerrow-board 1.0
  have skerrow-board_1.0_all.deb
  mkdir -p "$work/skerrow-feed/usr/share/skerrow-feeds"
  echo x >"$work/skerrow-feed/usr/share/skerrow-feeds/today"
  deb skerrow-feed 1.0
  console "apt-get -y install /repo/skerrow-feed_1.0_all.deb"
}
alternatives-damaged() {
  label alternatives-damaged 'update-alternatives: error'
  quiet_day
  printf 'broken\n' >"$root/var/lib/dpkg/alternatives/skerrow-view"
  echo 'update-alternatives --install /usr/bin/skerrow-view skerrow-view /usr/bin/true 10' | script_of skerrow-view postinst
  deb skerrow-view 1.0
  console "apt-get -y install /repo/skerrow-view_1.0_all.deb"
}
user-database-locked() {
  label user-database-locked 'existing lock file'
  quiet_day
  echo 1 >"$root/etc/passwd.lock"
  echo 'useradd --system skerrow-agent' | script_of skerrow-agent postinst
  deb skerrow-agent 1.0
  console "apt-get -y install /repo/skerrow-agent_1.0_all.deb"
}
run-cut-off() { # the power went in the middle
  label run-cut-off 'Setting up skerrow-slow'
  quiet_day
  printf 'echo "Converting the archive of sailings"\nsleep 30\n' | script_of skerrow-slow postinst
  deb skerrow-slow 1.0
  (
    sleep 5
    pkill -KILL -f 'apt-get -y install /repo/skerrow-slow'
    pkill -KILL -f 'dpkg .*skerrow-slow'
    pkill -KILL -f skerrow-slow.postinst
  ) &
  console "apt-get -y install /repo/skerrow-slow_1.0_all.deb"
  wait
}
cache-volume-full() {
  label download-volume-full "enough free space"
  quiet_day
  filled "$work/skerrow-maps/opt/maps/sound.bin" 3000
  deb skerrow-maps 7.2
  repo
  sed -i 's#file:/repo#copy:/repo#' "$root/etc/apt/sources.list"
  inside apt-get update -qq
  mount -t tmpfs -o size=100k tmpfs "$root/var/cache/apt/archives"
  mkdir -p "$root/var/cache/apt/archives/partial"
  console "apt-get -y install skerrow-maps"
}
interpreter-missing() {
  label maintainer-script-failed 'unable to execute|No such file or directory|required file not found'
  quiet_day
  mkdir -p "$work/skerrow-py/DEBIAN"
  printf '#!/usr/bin/python9\nprint("never")\n' >"$work/skerrow-py/DEBIAN/postinst" && chmod 755 "$work/skerrow-py/DEBIAN/postinst"
  deb skerrow-py 1.0
  console "apt-get -y install /repo/skerrow-py_1.0_all.deb"
}
kernel-module-missing() {
  label maintainer-script-failed 'modprobe: FATAL: Module skerrow_dock not found'
  quiet_day
  printf 'echo "Loading the driver of the ticket printer"\nmodprobe skerrow_dock\n' | script_of skerrow-dock postinst
  deb skerrow-dock 1.0
  console "apt-get -y install /repo/skerrow-dock_1.0_all.deb"
}
questions-locked() {
  label question-database-locked 'is locked by another process'
  quiet_day
  printf '. /usr/share/debconf/confmodule\ndb_get skerrow/quay\n' | script_of skerrow-quay postinst
  deb skerrow-quay 1.0 "Depends: debconf"
  console "perl -e 'use Fcntl qw(:DEFAULT :flock); open(L,q(>>/var/cache/debconf/config.dat)); flock(L,LOCK_EX); sleep 9' & sleep 1; apt-get -y install /repo/skerrow-quay_1.0_all.deb; wait"
}
address-in-use() {
  label maintainer-script-failed 'bind: Address already in use'
  quiet_day
  printf 'echo "Starting the board"\necho "board[77]: bind: Address already in use (port 8080)" >&2\necho "board[77]: leaving"\nexit 98\n' | script_of skerrow-board postinst
  deb skerrow-board 3.0
  console "apt-get -y install /repo/skerrow-board_3.0_all.deb"
}

loader-no-room() { # the disk holds a file system from its first sector on: no table, no gap
  label loader-has-no-room "doesn't support embedding"
  with_packages grub-pc-bin grub2-common
  truncate -s 64M "$work/disk.img" && mke2fs -q -t ext4 "$work/disk.img"
  loop=$(losetup --find --show "$work/disk.img")
  mount "$loop" "$root/mnt"
  console "grub-install --target=i386-pc --boot-directory=/mnt/boot $loop"
}
loader-no-device() { # the root is no disk of its own, as in a rescue system with nothing bound into it
  label loader-device-not-found 'failed to get canonical path|cannot find a device'
  with_packages grub-pc-bin grub2-common
  console "grub-install --target=i386-pc /dev/sdz"
}
esp-missing() {
  label efi-system-partition-missing 'cannot find EFI directory'
  with_packages grub-efi-amd64-bin grub2-common
  console "grub-install --target=x86_64-efi"
}
esp-not-fat() { # somebody formatted the EFI system partition with another file system
  label efi-system-partition-missing 'look like an EFI partition'
  with_packages grub-efi-amd64-bin grub2-common
  truncate -s 32M "$work/esp.img" && mke2fs -q -t ext4 "$work/esp.img"
  mkdir -p "$root/boot/efi" && mount -o loop "$work/esp.img" "$root/boot/efi"
  console "grub-install --target=x86_64-efi --efi-directory=/boot/efi --no-nvram"
}
kernel-hook() {
  label kernel-hook-failed 'cannot reach the image store'
  quiet_day
  printf '#!/bin/sh\necho "pxe-copy: cannot reach the image store of the terminal" >&2\nexit 1\n' >"$root/etc/kernel/postinst.d/zz-pxe-copy"
  chmod 755 "$root/etc/kernel/postinst.d/zz-pxe-copy"
  console "dpkg-reconfigure \$(dpkg-query -W -f '\${Package}\\n' 'linux-image-6*' | head -1)"
}
early-boot-tool-missing() {
  label early-boot-tool-missing 'is required but not installed'
  quiet_day
  echo 'BUSYBOX=y' >"$root/etc/initramfs-tools/conf.d/busybox"
  echo 'update-initramfs -u' | script_of skerrow-splash postinst
  deb skerrow-splash 1.0
  console "apt-get -y install /repo/skerrow-splash_1.0_all.deb"
}
statoverride-unknown() {
  label statoverride-names-unknown-account 'unknown system group|unknown system user|unknown user|unknown group'
  quiet_day
  echo 'root skerrow-crew 2755 /usr/bin/skerrow' >>"$root/var/lib/dpkg/statoverride"
  deb skerrow-gate 1.0
  console "apt-get -y install /repo/skerrow-gate_1.0_all.deb"
}
trigger-database-damaged() {
  label trigger-database-damaged 'syntax error|illegal|invalid'
  quiet_day
  mkdir -p "$work/skerrow-feed/usr/share/skerrow-feeds" && echo x >"$work/skerrow-feed/usr/share/skerrow-feeds/today"
  deb skerrow-feed 1.0
  printf '/usr/share/skerrow-feeds Nobody!\n' >>"$root/var/lib/dpkg/triggers/File"
  console "dpkg -i /repo/skerrow-feed_1.0_all.deb"
}
trigger-cycle() {
  label trigger-cycle 'cycle found while processing triggers'
  local a
  for a in ebb flood; do
    printf 'if [ "$1" = triggered ]; then dpkg-trigger --no-await skerrow-%s || true; fi\n' "$([ $a = ebb ] && echo flood || echo ebb)" | script_of "skerrow-$a" postinst
    echo "interest-noawait skerrow-$a" >"$work/skerrow-$a/DEBIAN/triggers"
    deb "skerrow-$a" 1.0
  done
  have skerrow-ebb_1.0_all.deb skerrow-flood_1.0_all.deb
  echo 'activate-noawait skerrow-ebb' >/dev/null
  mkdir -p "$work/skerrow-moon/DEBIAN" && echo 'activate-noawait skerrow-ebb' >"$work/skerrow-moon/DEBIAN/triggers"
  deb skerrow-moon 1.0
  console "apt-get -y install /repo/skerrow-moon_1.0_all.deb"
}
package-breaks() {
  label package-breaks-another 'regarding .*skerrow-pilot'
  deb skerrow-radar 1.0
  have skerrow-radar_1.0_all.deb
  deb skerrow-pilot 2.0 "Breaks: skerrow-radar (<< 2.0)"
  console "dpkg -i /repo/skerrow-pilot_2.0_all.deb"
}
kept-back() { # exit status 0, and nothing was done
  label packages-kept-back 'have been kept back'
  deb skerrow-core 1.0
  have skerrow-core_1.0_all.deb
  deb skerrow-tide 1.0
  deb skerrow-core 2.0 "Depends: skerrow-tide"
  repo
  inside apt-get update -qq
  console "apt-get -y upgrade"
}
version-not-available() {
  label version-not-available "was not found"
  quiet_day
  deb skerrow-gate 1.0
  repo
  inside apt-get update -qq
  console "apt-get -y install skerrow-gate=9.4"
}
certificate-expired() {
  label certificate-expired 'expired'
  quiet_day
  tls_server packages.skerrow.example -2
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
  kill "$server"
}
certificate-not-trusted() {
  label certificate-not-trusted 'not trusted|NOT trusted'
  quiet_day
  tls_server packages.skerrow.example 30
  rm -f "$root/etc/ssl/certs/ca-certificates.crt" && : >"$root/etc/ssl/certs/ca-certificates.crt"
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
  kill "$server"
}
certificate-name-wrong() {
  label certificate-name-wrong 'does not match'
  quiet_day
  tls_server files.skerrow.example 30
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
  kill "$server"
}
proxy-wants-sign-in() {
  label proxy-wants-sign-in '407'
  quiet_day
  answers '407 Proxy Authentication Required' 'Proxy-Authenticate: Basic realm="Skerrow"'
  rm -f "$root/etc/apt/apt.conf.d/"*prox*
  echo 'deb http://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"
  console "apt-get -o Acquire::Retries=0 -o Acquire::http::Proxy=http://127.0.0.1:$port update; apt-get -y dist-upgrade"
  kill "$server"
}
repository-forbidden() {
  label repository-forbidden '403'
  quiet_day
  answers '403 Forbidden'
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
  kill "$server"
}
repository-server-error() {
  label repository-server-error '503'
  quiet_day
  answers '503 Service Unavailable'
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
  kill "$server"
}
portal-instead-of-list() { # a sign-in page of the harbour's network for every address
  label sign-in-page-instead-of-list 'NOSPLIT|Clearsigned file'
  quiet_day
  answers '200 OK' 'Content-Type: text/html' '<html>Sign in to the harbour network</html>'
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
  kill "$server"
}
connection-lost() {
  label connection-lost 'Error reading from server|Connection failed|closed connection|Undetermined Error'
  quiet_day
  answers '200 OK' 'Content-Length: 900000' 'Origin: Skerrow'
  console "apt-get -o Acquire::Retries=0 update; apt-get -y dist-upgrade"
  kill "$server"
}
release-changed() {
  label release-changed "changed its '(Suite|Codename|Label|Origin)' value"
  quiet_day
  deb skerrow-gate 1.0
  repo
  release_file Label: Ferries
  inside apt-get update -qq
  release_file Label: Harbour
  console "apt-get update"
}
package-cache-limit() {
  label package-cache-limit 'ran out of room'
  quiet_day
  echo 'APT::Cache-Start "20000"; APT::Cache-Limit "20000"; APT::Cache-Grow "0";' >"$root/etc/apt/apt.conf.d/90small"
  console "apt-get -y install less"
}
transport-missing() {
  label transport-missing 'method driver'
  quiet_day
  echo 'deb rfs://packages.skerrow.example/debian bookworm main' >"$root/etc/apt/sources.list"
  console "apt-get update; apt-get -y dist-upgrade"
}
configuration-malformed() {
  label package-configuration-malformed 'Syntax error'
  quiet_day
  echo 'Acquire::Retries "3"' >"$root/etc/apt/apt.conf.d/90skerrow"
  console "apt-get -y install less"
}
preferences-malformed() {
  label package-configuration-malformed 'Invalid record in the preferences file'
  quiet_day
  printf 'Pin: release a=stable\nPin-Priority: 900\n' >"$root/etc/apt/preferences"
  console "apt-get -y install less"
}
compression-unknown() {
  label package-format-unknown 'unknown compression'
  quiet_day
  deb skerrow-video 1.0
  (cd "$work" && ar x "$root/repo/skerrow-video_1.0_all.deb" && mv data.tar.xz data.tar.brotli && rm "$root/repo/skerrow-video_1.0_all.deb" && ar r "$root/repo/skerrow-video_1.0_all.deb" debian-binary control.tar.xz data.tar.brotli 2>/dev/null)
  console "dpkg -i /repo/skerrow-video_1.0_all.deb"
}
control-malformed() {
  label package-control-malformed "parsing file|field name"
  quiet_day
  mkdir -p "$root/repo" "$work/skerrow-odd/DEBIAN"
  printf 'Package: skerrow-odd\nthis line has no field\nVersion: 1.0\nArchitecture: all\nMaintainer: x\nDescription: x\n' >"$work/skerrow-odd/DEBIAN/control"
  dpkg-deb --nocheck --build "$work/skerrow-odd" "$root/repo/skerrow-odd_1.0_all.deb" >/dev/null
  console "dpkg -i /repo/skerrow-odd_1.0_all.deb"
}
directory-in-the-way() {
  label directory-in-the-way 'error processing archive'
  quiet_day
  mkdir -p "$work/skerrow-a/opt/skerrow/data" "$work/skerrow-b/opt/skerrow"
  echo x >"$work/skerrow-a/opt/skerrow/data/x"
  echo y >"$work/skerrow-b/opt/skerrow/data"
  deb skerrow-a 1.0
  deb skerrow-b 1.0
  have skerrow-a_1.0_all.deb
  console "dpkg -i /repo/skerrow-b_1.0_all.deb"
}
file-immutable() { # somebody made a file unchangeable to keep it
  label file-immutable 'Operation not permitted'
  truncate -s 16M "$work/opt.img" && mke2fs -q -t ext4 "$work/opt.img" && mkdir -p "$root/opt" && mount -o loop "$work/opt.img" "$root/opt"
  mkdir -p "$work/skerrow-map/opt/map" && echo 1 >"$work/skerrow-map/opt/map/sound"
  deb skerrow-map 1.0
  have skerrow-map_1.0_all.deb
  chattr +i "$root/opt/map/sound"
  echo 2 >"$work/skerrow-map/opt/map/sound"
  deb skerrow-map 2.0
  console "apt-get -y install /repo/skerrow-map_2.0_all.deb"
  chattr -i "$root/opt/map/sound"
}
volume-noexec() {
  label volume-noexec 'Permission denied'
  quiet_day
  echo 'echo "never reached"' | script_of skerrow-gate preinst
  deb skerrow-gate 1.0
  mount --bind "$root/var/lib/dpkg" "$root/var/lib/dpkg" && mount -o remount,bind,noexec "$root/var/lib/dpkg"
  console "apt-get -y install /repo/skerrow-gate_1.0_all.deb"
}
file-system-damaged() {
  label file-system-damaged 'Structure needs cleaning|Bad message|Input/output error'
  quiet_day
  truncate -s 16M "$work/opt.img" && mke2fs -q -t ext4 -O metadata_csum "$work/opt.img" && mkdir -p "$root/opt" "$work/m"
  mount -o loop "$work/opt.img" "$work/m" && mkdir "$work/m/map" && echo 1 >"$work/m/map/old" && umount "$work/m"
  debugfs -w -R 'clri <12>' "$work/opt.img" >/dev/null 2>&1
  mount -o loop "$work/opt.img" "$root/opt"
  mkdir -p "$work/skerrow-map/opt/map" && echo 1 >"$work/skerrow-map/opt/map/sound"
  deb skerrow-map 1.0
  console "apt-get -y install /repo/skerrow-map_1.0_all.deb"
}
path-lacks-tools() {
  label path-lacks-system-tools 'not found in PATH'
  quiet_day
  deb skerrow-gate 1.0
  console "PATH=/usr/bin dpkg -i /repo/skerrow-gate_1.0_all.deb"
}
shared-file-differs() {
  label shared-file-differs 'error processing archive'
  inside dpkg --add-architecture i386
  local a
  for a in amd64 i386; do
    mkdir -p "$work/libskerrow1/usr/share/libskerrow1" && echo "$a" >"$work/libskerrow1/usr/share/libskerrow1/tides"
    deb libskerrow1 1.0 "Architecture: $a" "Multi-Arch: same"
  done
  inside dpkg -i /repo/libskerrow1_1.0_amd64.deb >/dev/null
  console "dpkg -i /repo/libskerrow1_1.0_i386.deb"
}
account-missing() {
  label account-missing 'invalid (user|spec)'
  quiet_day
  mkdir -p "$work/skerrow-spool/var/spool/skerrow"
  echo 'chown skerrow-spool: /var/spool/skerrow' | script_of skerrow-spool postinst
  deb skerrow-spool 2.0
  console "apt-get -y install /repo/skerrow-spool_2.0_all.deb"
}
base-system-not-fetched() { # the installer's first step, against a repository without the release
  label base-system-not-fetched 'Failed getting release file|Invalid Release file|E: '
  quiet_day
  with_packages debootstrap
  mkdir -p "$root/repo"
  console "debootstrap --variant=minbase --no-check-gpg bookworm /srv/new file:///repo"
}
volume-full-de() { speaking de_DE.UTF-8; volume-full; label volume-full 'kein Speicherplatz'; }
postinst-fails-fr() { speaking fr_FR.UTF-8; postinst-missing-command; label maintainer-script-failed 'signage-ctl: not found'; }
package-not-known-es() { speaking es_ES.UTF-8; package-not-known; label package-not-known 'No se ha podido localizar'; }
file-in-two-packages-pt() { speaking pt_PT.UTF-8; file-in-two-packages; label file-in-two-packages 'skerrow-brand.*--unpack'; }
lock-held-de() { speaking de_DE.UTF-8; lock-held; label package-system-locked '^E: '; }
name-not-resolved-fr() { speaking fr_FR.UTF-8; name-not-resolved; label name-not-resolved 'solution'; }
unmet-dependency-de() { speaking de_DE.UTF-8; unmet-dependency; label unmet-dependencies 'Die folgenden Pakete haben'; }
diversion-clash-es() { speaking es_ES.UTF-8; diversion-clash; label diversion-clash 'dpkg-divert: error'; }
configuration-prompt-pt() { speaking pt_PT.UTF-8; configuration-prompt; label configuration-prompt 'skerrow-clock .--install'; }

run "$@"
