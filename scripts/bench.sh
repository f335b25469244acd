#!/bin/bash
# Measures what the design promises, each as a ratio to a public tool in the
# same run. usage: bench.sh [BYTES]   (BYTES: size of the logs, 1 GiB)
set -euo pipefail
cd "$(dirname "$0")/.."
bytes=${1:-1073741824}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
go build -o "$work/biglog" ./standin/biglog

# As many literals as there are signatures, and at least 200.
sed -n "s/^ *- match: '\(.*\)'/\1/p" knowledge/signatures/*.yaml | tr '|()[]\\.*+?^$:' '\n' | awk 'length($0) >= 6 && !seen[$0]++' >"$work/literals"
for i in $(seq 200); do [ "$(wc -l <"$work/literals")" -ge 200 ] || echo "literal of no log $i" >>"$work/literals"; done

timed() { # timed COMMAND…: best of three, in seconds, and the peak memory in MiB
  local best= run peak=0 memory seconds
  for run in 1 2 3; do
    /usr/bin/env time -f '%e %M' -o "$work/time" "$@" >/dev/null 2>&1 || true
    read -r seconds memory <<<"$(tail -1 "$work/time")"
    if [ -z "$best" ] || awk "BEGIN { exit !($seconds < $best) }"; then best=$seconds; fi
    [ "$memory" -le "$peak" ] || peak=$memory
  done
  echo "$best $((peak / 1024))"
}

printf '%-34s %10s %10s %7s %10s\n' what ours rg ratio 'our peak'
for kind in quiet near utf16; do
  "$work/biglog" --bytes "$bytes" --kind "$kind" >"$work/log"
  cat "$work/log" >/dev/null
  read -r theirs _ <<<"$(timed rg -c -F -f "$work/literals" "$work/log")"
  read -r ours memory <<<"$(timed bin/diorthos read "$work/log")"
  printf '%-34s %9ss %9ss %7s %7s MiB\n' "read and diagnose, $kind log" "$ours" "$theirs" "$(awk "BEGIN { printf \"%.2f\", $ours / $theirs }")" "$memory"
done

seconds() { awk '{ print $1 }' <<<"$(timed "$@")"; }
echo
printf 'decode a code, suggestions included: '
go test ./core/codes -run - -bench BenchmarkSuggest -benchtime 2000x | awk '/^BenchmarkSuggest/ { printf "%.2f ms\n", $3 / 1e6 }'

echo
export PATH=$PATH:/usr/sbin
truncate -s 2T "$work/disk.img"
sgdisk -n1:2048:+300M -t1:ef00 -n2:0:+1G -n3:0:0 "$work/disk.img" >/dev/null
printf 'check the layout of a 2 TB disk: '
DIORTHOS_BENCH_DISK=$work/disk.img go test ./core/layout -run - -bench BenchmarkCheck -benchtime 200x | awk '/^BenchmarkCheck/ { printf "%.2f ms, %d KiB read\n", $3 / 1e6, $5 / 1024 }'

printf '%-34s %10s %10s %7s\n' what ours theirs ratio
ratio() { printf '%-34s %9ss %9ss %7s\n' "$1" "$2" "$3" "$(awk "BEGIN { printf \"%.2f\", $2 / ($3 > 0 ? $3 : 0.01) }")"; }
mkdir "$work/tree"
for i in $(seq 60); do mkdir "$work/tree/$i"; for k in $(seq 60); do head -c 40000 /dev/urandom >"$work/tree/$i/file number $k.bin"; done; done
truncate -s 1G "$work/fat.img" && mkfs.vfat -F 32 "$work/fat.img" >/dev/null
mcopy -s -i "$work/fat.img" "$work/tree/"* ::
ratio 'check FAT32 of 1 GiB, fsck.fat' "$(seconds bin/diorthos layout volume "$work/fat.img")" "$(seconds fsck.fat -n "$work/fat.img")"
truncate -s 4G "$work/rescue.img"
mke2fs -q -F -t ext4 -E offset=1048576 "$work/rescue.img" 2000m && mke2fs -q -F -t ext4 -E offset=2148532224 "$work/rescue.img" 1500m
ratio 'scan 4 GiB for partitions, dd' "$(seconds bin/diorthos layout rescue "$work/rescue.img")" "$(seconds dd if="$work/rescue.img" of=/dev/null bs=8M)"
if [ "$(id -u)" = 0 ]; then
  mke2fs -q -F -t ext4 -d "$work/tree" "$work/ext.img" 300m
  mkdir "$work/mounted" && mount -o loop,ro "$work/ext.img" "$work/mounted"
  DIORTHOS_BENCH_EXT=$work/ext.img DIORTHOS_BENCH_MOUNTED=$work/mounted go test ./core/ext -run - -bench BenchmarkWalk -benchtime 5x >"$work/walk"
  umount "$work/mounted"
  ratio 'read an ext4 tree, mounted' "$(awk '/ours/ { printf "%.2f", $3 / 1e9 }' "$work/walk")" "$(awk '/mounted/ { printf "%.2f", $3 / 1e9 }' "$work/walk")"
fi

"$work/biglog" --kind worklist --bytes 314572800 >"$work/list"
mkdir -p "$work/store" && for i in $(seq 0 199); do : >"$work/store/corbel-part-$i-7.2.5"; done
cutting() { rm -f "$work/cut"; bin/diorthos upkeep cut --store "$work/store" "$work/list" "$work/cut"; }
copying() { rm -f "$work/copy"; cp "$work/list" "$work/copy"; }
export -f cutting copying && export work
ratio 'cut out of a worklist of 300 MB, cp' "$(seconds bash -c cutting)" "$(seconds bash -c copying)"
read -r _ memory <<<"$(rm -f "$work/cut"; timed bin/diorthos upkeep cut --store "$work/store" "$work/list" "$work/cut")"
echo "  peak memory of the cut: $memory MiB"
DIORTHOS_BENCH_STORE=$work/components go test ./platform/corbel -run - -bench BenchmarkVerify -benchtime 3x >"$work/verify"
ratio 'verify a store of 640 MiB, sha256sum' "$(awk '/^BenchmarkVerify/ { printf "%.2f", $3 / 1e9 }' "$work/verify")" "$(seconds bash -c "sha256sum $work/components/corbel/store/payloads/*")"
printf 'look at a machine and follow its boot chain: '
bin/diorthos standin build "$work/machine" >/dev/null
seconds bin/diorthos boot show "$work/machine" | sed 's/$/s, everything else of the machine included/'

echo
echo 'lists over 100,000 machines and 1,000,000 cases, the slowest of a hundred requests:'
make --silent console
go test ./e2e -run - -bench BenchmarkLists -benchtime 300x | awk '/^BenchmarkLists/ { name = $1; sub(/^BenchmarkLists\//, "", name); sub(/-[0-9]+$/, "", name); gsub(/_/, " ", name); printf "  %-24s %6.1f ms\n", name, $5 }'

journal=$work/system.journal
awk 'BEGIN { srand(1); for (i = 0; i < 120000; i++) { who = (i % 5) ? "beacon" : "systemd"
  printf "__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=%d\n_BOOT_ID=6b0c6f7e0b8e4b5c8d9e0f1a2b3c4d5e\nPRIORITY=%d\n", 1795658964000000 + i * 1000, 1000000 + i * 1000, i % 8
  printf "_HOSTNAME=quay-4\nSYSLOG_IDENTIFIER=%s\n_PID=%d\n_SYSTEMD_UNIT=%s.service\n_UID=0\n", who, i % 5000, who
  printf "MESSAGE=buoy %d is lit at berth %d, the ferry answers after %d ms\n\n", rand() * 1000000, i % 97, rand() * 9999 } }' |
  /lib/systemd/systemd-journal-remote --output="$journal" - 2>/dev/null
ours=$(DIORTHOS_BENCH_JOURNAL=$journal go test ./core/journald -run - -bench BenchmarkEntries -benchtime 5x | awk '/^BenchmarkEntries/ { printf "%.2f", $3 / 1e9 }')
ratio "read a journal of $(($(stat -c %s "$journal") >> 20)) MiB, journalctl" "$ours" "$(seconds journalctl --file "$journal" -o json)"
