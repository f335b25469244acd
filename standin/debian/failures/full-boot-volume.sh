#!/bin/bash
# The monthly update of kestrel-office-3: a new kernel arrives, and the boot volume has no room for its early-boot image.
# usage: full-boot-volume.sh [DIR]   (DIR: where the captured logs go)
. "$(dirname "$0")/../lib.sh"
need_root
to=${1:-$(dirname "$0")/../captured/full-boot-volume}

scratch kestrel-office-3
# A boot volume of its own, small as they were made years ago, nearly filled by what is there already.
truncate -s 72M "$work/boot.img"
mke2fs -q -t ext4 -m 0 -L boot -d "$root/boot" "$work/boot.img"
mount -o loop "$work/boot.img" "$root/boot"

# A quiet day first: a small package goes in without trouble.
inside apt-get update -qq
inside apt-get install -y -qq --no-install-recommends less >/dev/null

# Then the night of the update.
add_suite "$suite-security"
inside apt-get update -qq
room=$(df --output=avail -k "$root/boot" | tail -1)
dd if=/dev/urandom of="$root/boot/initrd.img-5.10.0-28-cloud-amd64" bs=1K count=$((room - 14000)) status=none
console "$work/console.txt" "DEBIAN_FRONTEND=noninteractive apt-get -y -o Dpkg::Progress-Fancy=0 dist-upgrade"
df -k "$root/boot" | sed "s#$root##" >"$work/df.txt"
capture "$to"
