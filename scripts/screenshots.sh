#!/bin/bash
# Takes the pictures in docs/screenshots/ anew: the console's by its own test,
# the terminal's from a terminal window on a display of its own.
set -euo pipefail
cd "$(dirname "$0")/.."
to=$PWD/docs/screenshots
mkdir -p "$to"

DIORTHOS_SCREENSHOTS=$to go test ./e2e -count=1 -run 'TestConsole|TestTheSheet|TestACorbelMachine|TestWordsFromAScreen|TestARepairGoesRound'

# Not below a folder that the database's user cannot enter.
folder=$(mktemp -d) && chmod 755 "$folder"
cleanup() {
  kill "${demo:-}" "${x:-}" 2>/dev/null || true
  wait 2>/dev/null || true
  rm -rf "$folder"
}
trap cleanup EXIT
Xvfb -noreset -displayfd 1 -screen 0 1280x800x24 >"$folder/display" 2>/dev/null & x=$!
bin/diorthos demo --folder "$folder/.demo" --listen 127.0.0.1:7429 >"$folder/out" 2>&1 & demo=$!
for _ in $(seq 240); do [ -e "$folder/.demo/env" ] && break; sleep 0.5; done
for _ in $(seq 40); do [ -s "$folder/display" ] && break; sleep 0.25; done
display=:$(cat "$folder/display")

(. "$folder/.demo/env" && DIORTHOS_SCREENSHOTS=$to go test -tags pictures ./e2e -count=1 -run TestPicturesOfTheDemo)

shoot() { # shoot NAME LINES COMMAND: what the terminal shows when it has ended, LINES down from the top
  local name=$1 from=$2 command=$3 ended="$folder/ended"
  rm -f "$ended"
  DISPLAY=$display xterm -geometry 158x52+0+0 -fa 'DejaVu Sans Mono' -fs 9 -bg '#fbfaf6' -fg '#1c2427' -xrm 'xterm*scrollBar: false' -e \
    bash -c "cd '$folder'; . .demo/env; clear; printf '$ %s\n' '$command'; script -qec 'stty cols 156; $command' /dev/null | tail -n +$from | head -50; touch '$ended'; sleep 60" &
  local terminal=$!
  for _ in $(seq 240); do [ -e "$ended" ] && break; sleep 0.5; done
  sleep 1 # until it is drawn
  DISPLAY=$display import -window root "$to/$name.png"
  kill $terminal 2>/dev/null || true
  [ -e "$ended" ] || { echo "$command did not end" >&2; exit 1; }
}
shoot terminal-case 1 'diorthos case 1'
shoot terminal-layout 1 'diorthos layout show .demo/kestrel-office-3.img; diorthos layout check .demo/kestrel-office-3.img'
shoot terminal-ready 1 'diorthos ready --image .demo/kestrel-office-3.img --firmware uefi --for debian-13'
printf 'label: dos\n2048,204800,83,*\n206848,1024000,5\n208896,409600,83\n' >"$folder/old"; truncate -s 2G "$folder/lerrick-kiosk-9.img"; sfdisk -q "$folder/lerrick-kiosk-9.img" <"$folder/old"
shoot terminal-restyle 1 'diorthos layout show lerrick-kiosk-9.img; diorthos layout check --firmware uefi lerrick-kiosk-9.img; diorthos layout restyle --to gpt --firmware uefi lerrick-kiosk-9.img; diorthos layout show lerrick-kiosk-9.img'
shoot terminal-climb 1 'diorthos climb 1 --image .demo/kestrel-office-3.img'
shoot terminal-boot 1 'diorthos boot show .demo/machines/skerrow-kiosk-1; diorthos store check .demo/machines/tarvoe-office-1; diorthos climb 43 --image .demo/machines/skerrow-kiosk-1 --yes'
shoot terminal-diagnose 1 'diorthos diagnose --image .demo/machines/skerrow-kiosk-2'
# A picture that shows nothing has hardly any dark pixels.
for picture in "$to"/*.png; do
  dark=$(convert "$picture" -colorspace Gray -threshold 60% -negate -format '%[fx:round(mean*w*h)]' info:)
  [ "$dark" -gt 4000 ] || { echo "$picture shows nothing: $dark dark pixels" >&2; exit 1; }
done
ls -l "$to"
