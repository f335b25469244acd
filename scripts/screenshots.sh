#!/bin/bash
# Takes the pictures in docs/screenshots/ anew: the console's by its own test,
# the terminal's from a terminal window on a display of its own.
set -euo pipefail
cd "$(dirname "$0")/.."
to=$PWD/docs/screenshots
mkdir -p "$to"

DIORTHOS_SCREENSHOTS=$to go test ./e2e -count=1 -run 'TestConsole|TestTheSheet|TestACorbelMachine'

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

shoot() { # shoot NAME LINES COMMAND: what the terminal shows, LINES down from the top
  local name=$1 from=$2 command=$3
  DISPLAY=$display xterm -geometry 158x52+0+0 -fa 'DejaVu Sans Mono' -fs 9 -bg '#fbfaf6' -fg '#1c2427' -xrm 'xterm*scrollBar: false' -e \
    bash -c "cd '$folder'; . .demo/env; clear; printf '$ %s\n' '$command'; script -qec 'stty cols 156; $command' /dev/null | tail -n +$from | head -50; sleep 30" &
  local terminal=$!
  sleep "${4:-4}"
  DISPLAY=$display import -window root "$to/$name.png"
  kill $terminal 2>/dev/null || true
}
shoot terminal-case 1 'diorthos case 1'
shoot terminal-layout 1 'diorthos layout show .demo/kestrel-office-3.img; diorthos layout check .demo/kestrel-office-3.img'
shoot terminal-ready 1 'diorthos ready --image .demo/kestrel-office-3.img --firmware uefi --for debian-13'
printf 'label: dos\n2048,204800,83,*\n206848,1024000,5\n208896,409600,83\n' >"$folder/old"; truncate -s 2G "$folder/lerrick-kiosk-9.img"; sfdisk -q "$folder/lerrick-kiosk-9.img" <"$folder/old"
shoot terminal-restyle 1 'diorthos layout show lerrick-kiosk-9.img; diorthos layout check --firmware uefi lerrick-kiosk-9.img; diorthos layout restyle --to gpt --firmware uefi lerrick-kiosk-9.img; diorthos layout show lerrick-kiosk-9.img'
shoot terminal-climb 1 'diorthos climb 1 --image .demo/kestrel-office-3.img'
shoot terminal-boot 1 'diorthos boot show .demo/machines/skerrow-kiosk-1; diorthos store check .demo/machines/tarvoe-office-1; diorthos climb 43 --image .demo/machines/skerrow-kiosk-1 --yes'
shoot terminal-loop 1 'diorthos standin prove --only boot --seeds 2 --pairs 0 2>/dev/null' 25
ls -l "$to"
