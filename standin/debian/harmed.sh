#!/bin/bash
# Harms one file or folder by chance that a run of apt or dpkg needs, makes the run, and, where it fails, lets Diorthos mend
# the folder and makes the very run again (mended.sh). A line for each that failed goes to $DIORTHOS_RESULTS.
# usage: harmed.sh SEED COUNT
. "$(dirname "$0")/lib.sh"
. "$(dirname "$0")/chance.sh"

[ $# = 2 ] || { sed -n '2,4s/^# //p' "$0"; exit 2; }
seed=$1 count=$2
here=$(cd "$(dirname "$0")" && pwd)
export DIORTHOS_BINARY=${DIORTHOS_BINARY:-$PWD/bin/diorthos} DIORTHOS_RESULTS=${DIORTHOS_RESULTS:-$PWD/.build/harmed-$seed.tsv}
mkdir -p "$(dirname "$DIORTHOS_RESULTS")"; : >"$DIORTHOS_RESULTS"
need_root
command -v strace >/dev/null || die "strace is missing: apt-get install strace"

file_harms=(emptied zeros cut flipped gone folder nowhere mode owner text)
folder_harms=(gone file mode owner nowhere)
# harm HOW PATH does it, as a person, a program or a dying disk would.
harm() {
  local at=$root$2 size
  size=$(stat -c %s "$at")
  case $1 in
    emptied) : >"$at" ;;
    zeros) dd if=/dev/zero of="$at" bs="$((size > 0 ? size : 1))" count=1 conv=notrunc status=none ;;
    cut) truncate -s $((size / 2)) "$at" ;;
    flipped) printf '\377' | dd of="$at" bs=1 seek=$((size / 3)) conv=notrunc status=none ;;
    gone) rm -rf "$at" ;;
    folder) rm -f "$at"; mkdir "$at" ;;
    file) rm -rf "$at"; echo x >"$at" ;;
    nowhere) rm -rf "$at"; ln -s "/nowhere/$(basename "$at")" "$at" ;;
    mode) chmod 0 "$at" ;;
    owner) chown nobody:nogroup "$at" ;;
    text) echo 'to be done by Joren, next week' >"$at" ;;
  esac
}

prepared
mkdir -p "$lower/home/ragna" "$lower/srv/timetables"; filled "$lower/home/ragna/tides.ods" 20; filled "$lower/srv/timetables/winter" 20
grid
RANDOM=$seed
for n in $(seq "$count"); do
  drawn
  begin
  path=${path%/}
  at=$root$path
  if [ -L "$at" ] || [ ! -e "$at" ]; then end; continue; fi
  if [ -d "$at" ]; then how=${folder_harms[RANDOM % ${#folder_harms[@]}]}; else how=${file_harms[RANDOM % ${#file_harms[@]}]}; fi
  case $path in / | /root | /home | /etc | /usr | /var | /tmp) end; continue ;; esac # more than one thing
  harm "$how" "$path" || { end; continue; }
  rm -f "$work"/*.txt
  console "${runs[$i]}; echo \$? >/status" 2>/dev/null
  if [ "$(cat "$root/status" 2>/dev/null)" != 0 ]; then
    rm -f "$root/status"
    DIORTHOS_AGAIN="export DEBIAN_FRONTEND=noninteractive; ${runs[$i]}" "$here/mended.sh" "$root" "$work" "$seed-$n $how $path, then ${runs[$i]}"
    mkdir -p "$here/../../.build/harmed/$seed-$n" && cp "$work"/*.txt "$root/var/log/apt/term.log" "$here/../../.build/harmed/$seed-$n/" 2>/dev/null || true
    say "$(tail -1 "$DIORTHOS_RESULTS" | cut -c1-300)"
  fi
  end
done
awk -F'\t' '{ n++; if ($4 == "succeeds") a++; if ($3 == "repaired") r++; if ($3 ~ /USERS/) u++ }
  END { printf "%d runs failed; packages at rest afterwards in %d; the run succeeds again in %d; users'"'"' files changed in %d\n", n, r, a, u }' "$DIORTHOS_RESULTS"
