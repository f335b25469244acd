#!/bin/bash
# Lets Diorthos mend the folder in which a failure was provoked, and asks the system's own tools what came of it.
# Called by the scripts that provoke, by DIORTHOS_AFTER=…/mended.sh. Appends a line to $DIORTHOS_RESULTS:
# name, what was minded before, what is minded still, whether the attempt succeeds when it is made again, what was said first,
# what was climbed, what Diorthos said of the attempt, made again on a copy.
# usage: mended.sh ROOT WORK NAME | mended.sh --all OF PART
set -uo pipefail

# all OF PART does it for every OF-th failure that there is, and sums up.
all() {
  local here of=$1 part=$2 set name
  here=$(cd "$(dirname "$0")" && pwd)
  export DIORTHOS_RESULTS=${DIORTHOS_RESULTS:-$PWD/.build/mended.tsv} DIORTHOS_BINARY=${DIORTHOS_BINARY:-$PWD/bin/diorthos}
  export DIORTHOS_AFTER=$here/mended.sh
  mkdir -p .build; : >"$DIORTHOS_RESULTS"
  for set in failures fresh later third fourth fifth sixth seventh eighth ninth tenth eleventh twelfth thirteenth; do
    for name in $("$here/$set.sh" --list); do
      [ $(($(printf 'mend %s' "$name" | cksum | cut -d' ' -f1) % of)) = "$part" ] || continue
      timeout 600 "$here/$set.sh" "$name" ".build/mended/$name" >/dev/null 2>&1 || echo "$name: could not be provoked" >&2
    done
  done
  awk -F'\t' '{ n++; if ($2 != "at rest") { b++; if ($3 == "repaired") r++; else print "still " $3 ": " $1 }
      else if ($3 != "repaired") print "worse: " $1
      if ($4 == "succeeds") a++; if ($3 ~ /USERS/) u++
      said[$7]++; if ($7 == "goes through" && $4 != "succeeds") print "said to go through, and fails: " $1
      if ($7 == "still fails" && $4 == "succeeds") print "said to fail still, and succeeds: " $1 }
    END { printf "said of the attempt: goes through %d, still fails %d, not made %d, tells nothing %d, nothing %d\n",
        said["goes through"], said["still fails"], said["not made"], said["tells nothing"], said["nothing"]
      printf "%d failures; packages not at rest in %d, brought to rest in %d; the attempt succeeds again in %d; users'"'"' files changed in %d\n", n, b, r, a, u }' "$DIORTHOS_RESULTS"
}
if [ "${1:-}" = --all ]; then all "$2" "$3"; exit; fi
root=$1 work=$2 name=$3
binary=${DIORTHOS_BINARY:-bin/diorthos}
results=${DIORTHOS_RESULTS:-/dev/stdout}
logs=$work/logs
mkdir -p "$logs/apt"
cp "$root/var/log/dpkg.log" "$logs/" 2>/dev/null
cp "$root"/var/log/apt/*.log "$logs/apt/" 2>/dev/null
cp "$work/console.txt" "$logs/" 2>/dev/null

# inside COMMAND runs as its technician would.
inside() {
  unshare --uts --mount -- sh -c 'hostname lerrick-kiosk-2; exec chroot "$0" env -i HOME=/root TERM=linux LANG=C.UTF-8 \
    DEBIAN_FRONTEND=noninteractive PATH=/usr/sbin:/usr/bin:/sbin:/bin timeout 180 sh -c "$1"' "$root" "$1" </dev/null
}
# works says what the next run still minds; nothing where it can be made.
works() {
  inside true 2>/dev/null || { echo "nothing runs"; return; }
  [ -z "$(inside 'dpkg --audit' 2>&1 | head -1)" ] || { echo audit; return; }
  inside 'apt-get check -q' >/dev/null 2>&1 || { echo check; return; }
  inside 'dpkg --configure -a' >/dev/null 2>&1 || { echo configure; return; }
}
# again makes the very attempt that failed once more.
again() { inside "$DIORTHOS_AGAIN" >"$work/again.txt" 2>&1 && echo succeeds || echo fails; }
users() { (cd "$root" && find home srv -xdev -type f -print0 2>/dev/null | sort -z | xargs -0 sha256sum 2>/dev/null | sha256sum); }


before=$(users)
minded=$(works)
first=$("$binary" diagnose --root "$root" --logs "$logs" --json 2>/dev/null | python3 -c '
import json,sys
try: d=json.load(sys.stdin)["docket"]
except Exception: print("no docket"); sys.exit()
w=d.get("why") or []
print(w[0]["title"] if w else "nothing wrong")' 2>/dev/null)
climbed= said=nothing
for n in 1 2 3 4 5 6 7 8; do
  out=$("$binary" climb --root "$root" --network --yes --again "${DIORTHOS_AGAIN#export DEBIAN_FRONTEND=noninteractive; }" 2>&1)
  status=$?
  climbed="$climbed; $(printf '%s' "$out" | grep -oE '^Rung [0-9]+ of [0-9]+  .*|· proven|✓ proven|refused|taken back|nothing to do|diorthos: .*' | head -3 | tr '\n' ' ' | cut -c1-200)"
  tried=$(printf '%s' "$out" | grep -oE '^ *again .*(goes through|still fails|not made|tells nothing)' | tail -1 |
    grep -oE 'goes through|still fails|not made|tells nothing' | head -1)
  said=${tried:-$said}
  minds=$(works)
  [ -n "$minds" ] || [ "$said" = "still fails" ] || break
  [ $status = 0 ] || break
done
minds=$(works)
verdict=${minds:-repaired}
[ "$before" = "$(users)" ] || verdict="$verdict, USERS' FILES CHANGED"
printf '%s\t%s\t%s\t%s\t%s\t%s\t%s\n' "$name" "${minded:-at rest}" "$verdict" "$(again)" "$first" "${climbed#; }" "$said" >>"$results"
rm -rf "$work"/*.journal* "$work"/*.climbs "$work"/*.outbox
