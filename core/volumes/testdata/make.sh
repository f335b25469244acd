#!/bin/sh
# Makes the disks of this folder anew with LVM2's own tools (root, loop devices). usage: make.sh
#   linear.img.zst  one physical volume on the whole disk; quay-vg/root in two stretches around swap_1
#   two.img.zst     a GPT with two physical volumes: dock/wide lies striped over both, dock/pair twice
set -eu
cd "$(dirname "$0")"
work=$(mktemp -d)
export LVM_SUPPRESS_FD_WARNINGS=1
lvm_on() { # lvm_on "DEVICE…" COMMAND…: without the kernel, and looking at nothing else
  accept=$(for d in $1; do printf '"a|^%s$|",' "$d"; done)
  shift
  lvm "$@" --driverloaded n --nolocking --config "devices{scan_lvs=0 use_devicesfile=0 filter=[$accept\"r|.*|\"]} \
backup{backup=0 archive=0} activation{udev_sync=0 udev_rules=0 checks=0}" 2>/dev/null
}

truncate -s 48M "$work/linear.img"
a=$(losetup --show -f "$work/linear.img")
lvm_on "$a" pvcreate "$a"
lvm_on "$a" vgcreate quay-vg "$a"
lvm_on "$a" lvcreate -an -Zn -Wn -n root -L 12M quay-vg
lvm_on "$a" lvcreate -an -Zn -Wn -n swap_1 -L 8M quay-vg
lvm_on "$a" lvextend -L 24M quay-vg/root
losetup -d "$a"

truncate -s 66M "$work/two.img"
sgdisk -n 1:2048:+32M -t 1:8e00 -n 2:0:+32M -t 2:8e00 "$work/two.img" >/dev/null
a=$(losetup --show -f -o $((2048 * 512)) --sizelimit $((32 << 20)) "$work/two.img")
b=$(losetup --show -f -o $((67584 * 512)) --sizelimit $((32 << 20)) "$work/two.img")
lvm_on "$a $b" pvcreate "$a" "$b"
lvm_on "$a $b" vgcreate dock "$a" "$b"
lvm_on "$a $b" lvcreate -an -Zn -Wn -n wide -i 2 -I 64k -L 16M dock
# Without the kernel's part no volume is made that lies twice; its parts are, and it is put together
# in the text of the metadata.
lvm_on "$a $b" lvcreate -an -Zn -Wn -n part_m0 -L 4M dock "$a"
lvm_on "$a $b" lvcreate -an -Zn -Wn -n part_i0 -L 8M dock "$a"
lvm_on "$a $b" lvcreate -an -Zn -Wn -n part_m1 -L 4M dock "$b"
lvm_on "$a $b" lvcreate -an -Zn -Wn -n part_i1 -L 8M dock "$b"
lvm_on "$a $b" vgcfgbackup -f "$work/dock.vg" dock
awk -v pair='		pair {
			id = "Pair00-0000-0000-0000-0000-0000-Pair00"
			status = ["READ", "WRITE", "VISIBLE"]
			segment_count = 1
			segment1 {
				start_extent = 0
				extent_count = 2
				type = "raid1"
				device_count = 2
				region_size = 4096
				raids = ["pair_rmeta_0", "pair_rimage_0", "pair_rmeta_1", "pair_rimage_1"]
			}
		}' '
  /part_[mi][01] \{/ { sub("part_m", "pair_rmeta_"); sub("part_i", "pair_rimage_"); hide = 1 }
  hide && /status/ { sub(", \"VISIBLE\"", ""); hide = 0 }
  { print }
  /logical_volumes \{/ { print pair }' "$work/dock.vg" >"$work/pair.vg"
lvm_on "$a $b" vgcfgrestore --force -f "$work/pair.vg" dock
losetup -d "$a" "$b"
for name in linear two; do zstd -q -19 -f "$work/$name.img" -o "$name.img.zst"; done
rm -rf "$work"
