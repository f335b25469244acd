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
