#!/bin/bash
# Makes the Debian machine that waits for one of the jobs of docs/jobs, or makes there once more what failed.
# TARGET is a folder that is made, with a whole system, or the image of a disk. Needs root.
# usage: job.sh NUMBER TARGET | job.sh --try NUMBER TARGET
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
export PATH=$PATH:/usr/sbin:/sbin
[ "$(id -u)" = 0 ] || { echo "job.sh: needs root" >&2; exit 2; }

# inside COMMAND runs in the system of the folder, as its technician would.
inside() {
  unshare --mount --uts sh -c 'hostname lerrick-kiosk-2; mount -t proc proc "$0/proc" && mount --rbind /dev "$0/dev" &&
    exec chroot "$0" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin DEBIAN_FRONTEND=noninteractive LC_ALL=C sh -c "$1"' "$target" "$1"
}

# deb NAME VERSION SCRIPT [FIELD: VALUE]… makes a package in /repo, with a script that configures it.
deb() {
  local name=$1 version=$2 script=$3 tree field arch=all
  shift 3
  tree=$(mktemp -d)
  mkdir -p "$tree/DEBIAN" "$tree/usr/share/$name" "$target/repo"
  chmod 755 "$tree"
  for field in "$@"; do case $field in Architecture:*) arch=${field#Architecture: } ;; esac; done
  {
    printf 'Package: %s\nVersion: %s\nMaintainer: Skerrow Ferries IT <it@skerrow.example>\nDescription: %s of Skerrow Ferries\n' "$name" "$version" "$name"
    [ "$arch" != all ] || echo 'Architecture: all'
    [ $# = 0 ] || printf '%s\n' "$@"
  } >"$tree/DEBIAN/control"
  printf '#!/bin/sh\nset -e\n%s\n' "$script" >"$tree/DEBIAN/postinst"
  chmod 755 "$tree/DEBIAN/postinst"
  echo "$version" >"$tree/usr/share/$name/text"
  [ -z "${size:-}" ] || head -c "$size" /dev/urandom >"$tree/usr/share/$name/data"
  dpkg-deb --root-owner-group -b "$tree" "$target/repo/${name}_${version}_$arch.deb" >/dev/null
  rm -rf "$tree"
}

# repo [OPTIONS] makes /repo a repository and the machine's only source.
repo() {
  (cd "$target/repo" && for file in *.deb; do
    dpkg-deb --field "$file"
    printf 'Filename: ./%s\nSize: %s\nSHA256: %s\n\n' "$file" "$(stat -c %s "$file")" "$(sha256sum "$file" | cut -d' ' -f1)"
  done) >"$target/repo/Packages.new"
  mv "$target/repo/Packages.new" "$target/repo/Packages"
  echo "deb [${1:-trusted=yes}] file:/repo ./" >"$target/etc/apt/sources.list"
}

# release FROM UNTIL has /repo say of itself from when until when it is valid, in days from today.
release() {
  printf 'Origin: Skerrow\nDate: %s\nValid-Until: %s\nSHA256:\n %s %s Packages\n' "$(LC_ALL=C date -ud "$1 days" '+%a, %d %b %Y %H:%M:%S UTC')" \
    "$(LC_ALL=C date -ud "$2 days" '+%a, %d %b %Y %H:%M:%S UTC')" "$(sha256sum "$target/repo/Packages" | cut -d' ' -f1)" \
    "$(stat -c %s "$target/repo/Packages")" >"$target/repo/Release"
}

# folder lays out the system, and a harmless day of its past.
folder() {
  if [ -n "${DIORTHOS_FOLDER:-}" ]; then # one that folder.sh has made before
    cp -a "$DIORTHOS_FOLDER" "$target"
  else
    "$here/folder.sh" "$target"
  fi
  deb skerrow-plain 1.0 true
  inside 'apt-get -y install /repo/skerrow-plain_1.0_all.deb' >/dev/null
}


# A run that stopped half-way, a hook of the owner, a list that is cut off, and a folder of its surroundings gone.
job_1() {
  folder
  deb skerrow-deck 1.0 'echo deck: the list of berths is missing >&2; exit 3'
  inside 'apt-get -y install /repo/skerrow-deck_1.0_all.deb' >/dev/null 2>&1 || true
  echo 'DPkg::Pre-Invoke { "/usr/local/bin/berths"; };' >"$target/etc/apt/apt.conf.d/70berths"
  mkdir -p "$target/usr/local/bin"
  printf '#!/bin/sh\necho berths: no list >&2\nexit 7\n' >"$target/usr/local/bin/berths"
  chmod 755 "$target/usr/local/bin/berths"
  rm -rf "$target/var/cache/apt/archives/partial"
  truncate -s 40 "$target/var/lib/dpkg/info/mawk.list"
}
try_1() { at_rest && inside 'apt-get -y install --reinstall /repo/skerrow-plain_1.0_all.deb'; }

# The lists of the installer's source are signed for dates that the machine's clock is beyond.
job_2() {
  folder
  deb skerrow-helm 2.0 true
  repo
  release -40 -10
}
try_2() { inside 'apt-get update -o APT::Update::Error-Mode=any && apt-get -y install skerrow-helm'; }

# Copying a part stops: a file of the system that it works with is damaged, and one package is of another architecture.
job_5() {
  folder
  deb skerrow-parts 1.0 true
  inside 'apt-get -y install /repo/skerrow-parts_1.0_all.deb' >/dev/null
  deb skerrow-parts 1.1 'grep -qx 1.0 /usr/share/skerrow-plain/text || { echo "parts: /usr/share/skerrow-plain/text is of another build" >&2; exit 4; }'
  deb skerrow-optional 1.1 true 'Architecture: riscv64'
  echo 0.7 >"$target/usr/share/skerrow-plain/text"
}
try_5() { inside 'apt-get -y install /repo/skerrow-parts_1.1_all.deb'; }

# A preview: its source is off, it was begun and is half there, and a file that its script reads is damaged.
job_10() {
  folder
  deb skerrow-tide 3.0~preview2 'dpkg --verify skerrow-plain | grep . && { echo "tide: skerrow-plain is not as it was shipped" >&2; exit 6; } || true'
  repo
  inside 'apt-get update' >/dev/null 2>&1
  echo altered >"$target/usr/share/skerrow-plain/text"
  rm -rf "$target/var/lib/apt/lists/partial"; echo x >"$target/var/lib/apt/lists/partial"
}
try_10() { inside 'apt-get update -o APT::Update::Error-Mode=any && apt-get -y install skerrow-tide'; }

# A feature whose files are not on the machine, and no way out to a network.
job_11() {
  folder
  deb skerrow-maps 1.0 true
  repo
  release 0 365
  inside 'apt-get update' >/dev/null 2>&1
  # The source is one on the network from here on: its lists are on the machine, its packages on a medium.
  for list in "$target"/var/lib/apt/lists/_repo_*; do mv "$list" "${list/_repo_/packages.skerrow.example_debian_}"; done
  echo 'deb [trusted=yes] http://packages.skerrow.example/debian ./' >"$target/etc/apt/sources.list"
  echo 'Acquire::Retries "0";' >"$target/etc/apt/apt.conf.d/70office" # nobody waits there for a network
  mkdir -p "$target.medium/pool"
  mv "$target/repo/skerrow-maps_1.0_all.deb" "$target.medium/pool/"
}
try_11() { inside 'apt-get -y install skerrow-maps'; }

# Two packages that need each other, of which one cannot be configured.
job_13() {
  folder
  deb skerrow-base 1.0 '[ -e /srv/compass ] || { echo base: no compass at /srv/compass >&2; exit 3; }'
  deb skerrow-top 1.0 true 'Depends: skerrow-base'
}
try_13() { inside 'apt-get -y install /repo/skerrow-base_1.0_all.deb /repo/skerrow-top_1.0_all.deb'; }

# A source of the vendor's offers an older driver than is installed, and a pin of somebody's prefers it.
job_15() {
  folder
  deb skerrow-screen 2.0 true
  inside 'apt-get -y install /repo/skerrow-screen_2.0_all.deb' >/dev/null
  rm "$target/repo/skerrow-screen_2.0_all.deb"
  deb skerrow-screen 1.4 'echo "screen: 1.4 cannot drive this panel" >&2; exit 5'
  repo
  printf 'Package: skerrow-screen\nPin: version 1.4\nPin-Priority: 1001\n' >"$target/etc/apt/preferences.d/vendor"
  inside 'apt-get update' >/dev/null
}
try_15() { inside 'apt-get -y upgrade'; }

# disk SCRIPT [KIND] copies a machine that one of the scripts beside this one makes once.
disk() {
  local made
  made=$("$here/$1.sh" ${2:+"$2"})
  cp --sparse=always "$made" "$target"
}

# volume OFFSET COMMAND runs a command on the disk's volume that begins at so many bytes, in a mount of it.
volume() {
  local at
  at=$(mktemp -d)
  mount -o "loop,offset=$1" "$target" "$at"
  (cd "$at" && echo quay-4 >etc/hostname && eval "$2")
  umount "$at"
  rmdir "$at"
}

# Three disks in one machine: one too small, one with a left-over array, one with users' files.
job_3() {
  mkdir -p "$target"
  truncate -s 300M "$target/sda.img"
  truncate -s 2G "$target/sdb.img"
  printf 'label: gpt\n2048,819200,L\n821248,819200,L\n' | sfdisk -q "$target/sdb.img"
  mke2fs -q -t ext4 -L old-system -E offset=1048576 "$target/sdb.img" 400M
  mke2fs -q -t ext4 -L old-home -E offset=420478976 "$target/sdb.img" 400M
  truncate -s 1G "$target/sdc.img"
  mkdir -p "$target/tree" && echo "the harbour's timetable" >"$target/tree/letter"
  printf 'label: gpt\n2048,,L\n' | sfdisk -q "$target/sdc.img"
  mke2fs -q -t ext4 -L anna -d "$target/tree" -E offset=1048576 "$target/sdc.img" 900M
  rm -r "$target/tree"
}
try_3() { false; } # an installer is started by a person

# The wrong partition was set active: code of no loader's starts the active one.
job_4() {
  disk bios sector
  volume 1048576 true
  truncate -s +200M "$target"
  echo ',,83' | sfdisk -q -a "$target" 2>/dev/null
  sfdisk -q -A "$target" 2
}
try_4() { false; } # it is started in an emulator

# It starts into its emergency shell, again and again: a mount of something that is gone, and a damaged program.
job_8() {
  disk whole
  volume $((321 * 1048576)) 'printf "UUID=5e11a0aa-0000-4000-8000-000000000001 /srv/charts ext4 defaults 0 2\n" >>etc/fstab
    dd if=/dev/zero of=usr/bin/login bs=4096 count=4 conv=notrunc status=none'
}
try_8() { false; }

# The menu of the loader is gone.
job_9() { disk bios; volume 1048576 'rm boot/grub/grub.cfg'; }
try_9() { false; }

# The table is of the old style, and the new board starts by UEFI.
job_16() { disk bios; truncate -s +400M "$target"; volume 1048576 "mkdir -p home/anna; echo \"the harbour's timetable\" >home/anna/letter"; }
try_16() { false; }

# The same with six partitions, of which one has the pictures.
job_17() {
  local tree
  tree=$(mktemp -d)
  head -c 100000 /dev/urandom >"$tree/harbour.jpg"
  truncate -s 3G "$target"
  printf 'label: dos\n2048,409600,83\n411648,409600,82\n821248,5400000,5\n823296,819200,83\n1644544,819200,83\n2465792,819200,83\n' |
    sfdisk -q "$target"
  mke2fs -q -t ext4 -L old-system -E offset=1048576 "$target" 200M
  mke2fs -q -t ext4 -L harbour -d "$tree" -E offset=842006528 "$target" 400M
  mke2fs -q -t ext4 -L scratch -E offset=1262485504 "$target" 400M
  rm -r "$tree"
}
try_17() { false; }

# Two media of one system: one that only the older firmware starts, one for both; and an empty stick.
job_20() {
  local tree
  mkdir -p "$target"
  tree=$(mktemp -d)
  mkdir -p "$tree/boot/grub"
  printf 'serial --unit=0 --speed=115200\nterminal_output serial\nset timeout=0\nmenuentry start { echo "the medium has started by $grub_platform"; sleep 3; halt }\n' >"$tree/boot/grub/grub.cfg"
  grub-mkrescue -d /usr/lib/grub/i386-pc -o "$target/old.iso" "$tree" >/dev/null 2>&1
  grub-mkrescue -o "$target/new.iso" "$tree" >/dev/null 2>&1
  truncate -s 128M "$target/stick.img"
  rm -r "$tree"
}
try_20() { false; }

# The loader's first sector is gone.
job_21() { disk bios; volume 1048576 true; dd if=/dev/zero of="$target" bs=440 count=1 conv=notrunc status=none; }
try_21() { false; }

# at_rest is what dpkg and apt themselves say.
at_rest() { [ -z "$(inside 'dpkg --audit' 2>&1)" ] && inside 'apt-get check -q' >/dev/null; }

case ${1:---help} in
  --try) number=$2 target=$(realpath "$3"); "try_$number" ;;
  --help) sed -n '2,4s/^# //p' "$0" ;;
  *)
    number=$1 target=$2
    declare -F "job_$number" >/dev/null || { echo "job.sh: no Debian machine waits for job $number" >&2; exit 2; }
    [ ! -e "$target" ] || { echo "job.sh: $target is there already" >&2; exit 2; }
    "job_$number"
    # What its screen said lies beside it, as whoever called has it.
    ! "try_$number" >"$target.screen.txt" 2>&1 </dev/null || { echo "job.sh: it does not fail" >&2; exit 2; }
    [ -s "$target.screen.txt" ] || rm "$target.screen.txt"
    ;;
esac
