#!/bin/bash
# Runs package operations that succeed, of packages drawn by a seed from all sections of the archive, and keeps what
# the screen and the logs showed of each: what healthy machines print.
# usage: healthy.sh RUNS DIR [SEED]     then: go run ./standin/debian/templates DIR >knowledge/healthy/debian.txt
. "$(dirname "$0")/lib.sh"

runs=${1:?usage: healthy.sh RUNS DIR [SEED]} to=${2:?usage: healthy.sh RUNS DIR [SEED]} seed=${3:-1}
need_root
scratch lerrick-kiosk-2
mount -o remount,size=12g "$work/layer"
mkdir -p "$to"
inside apt-get update -qq >/dev/null

# Packages of at most 8 MB that hold more than documents, spread over the sections of the archive.
inside apt-cache dumpavail |
  awk -v RS= '
    match($0, /Package: [^\n]+/) { name = substr($0, RSTART + 9, RLENGTH - 9) }
    match($0, /Installed-Size: [0-9]+/) { size = substr($0, RSTART + 16, RLENGTH - 16) }
    match($0, /Section: [^\n]+/) { section = substr($0, RSTART + 9, RLENGTH - 9) }
    size < 8000 && section !~ /^(doc|debug|kernel|localization)$/ { print section, name }' |
  shuf --random-source=<(openssl enc -aes-128-ctr -pass "pass:$seed" -nosalt </dev/zero 2>/dev/null) |
  awk '!(count[$1]++ >= 60) { print $2 }' >"$work/drawn"

n=0 ok=0
while mapfile -t -n 5 names && [ ${#names[@]} -gt 0 ] && [ "$ok" -lt "$runs" ]; do
  n=$((n + 1))
  some="apt-get -y --no-install-recommends"
  command="$some install ${names[*]}"
  case $((n % 3)) in
    0) command="$command && apt-get -y --purge autoremove ${names[*]}" ;;
    1) command="$command && $some --reinstall install ${names[*]}" ;;
  esac
  : >"$root/var/log/dpkg.log"; : >"$root/var/log/apt/history.log"; : >"$root/var/log/apt/term.log"
  rm -f "$root/ended-well"
  console "timeout --foreground -k 5 120 sh -c '$command' && touch /ended-well"
  inside apt-get clean || sleep 20
  # What was left half done must not speak in the runs that follow.
  [ -e "$root/ended-well" ] || { inside dpkg --configure -a; inside apt-get -y -f install; } >/dev/null 2>&1 || true
  [ -e "$root/ended-well" ] || continue
  ok=$((ok + 1))
  mkdir -p "$to/${names[0]}"
  cp "$work/console.txt" "$root/var/log/dpkg.log" "$root/var/log/apt/term.log" "$to/${names[0]}/"
done <"$work/drawn"
say "$ok runs that succeeded, $(cat "$to"/*/dpkg.log | grep -cE ' (install|upgrade|configure|remove|purge|trigproc) ') operations of $(cat "$to"/*/dpkg.log | grep -oE ' (install|upgrade|configure|remove|purge) [^ ]+' | sort -u | wc -l) kinds"
