#!/usr/bin/env bash
# Takes the pictures in this folder anew: each command in a terminal window, on the demo data.
# Pictures that commands draw themselves are drawn. Needs Debian's xterm, xvfb, xdotool, imagemagick and fonts-dejavu-core.
set -euo pipefail
cd "$(dirname "$0")/../.."
cargo build --release --quiet
out=$PWD/docs/screenshots
export PATH=$PWD/target/release:$PATH
work=$(mktemp -d)
display=:$((90 + RANDOM % 900))
Xvfb "$display" -screen 0 1400x2000x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null; rm -rf "$work"' EXIT
sleep 1
cd "$work"
weltblick demo >/dev/null

# picture NAME COMMAND: the command and what it prints, in a window of 120 columns.
picture() {
  local name=$1 command=$2 rows
  # Long lines wrap.
  rows=$({ $command || true; } | perl -CI -ne \
    'chomp; $n += 1 + int(((length() || 1) - 1) / 120); END { print $n + 2 }')
  printf 'printf "\\033[?25l\\033[1m$ %s\\033[0m\\n"; %s; touch %q; sleep 30\n' \
    "$command" "$command --color always" "$work/$name.done" > "$name.sh"
  DISPLAY=$display TERM=xterm-256color xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry "120x$rows+0+0" \
    -bg '#fbfaf7' -fg '#222222' -xrm 'XTerm*color4: #1f5fa8' -xrm 'XTerm*boldMode: true' \
    -b 12 +sb -e bash "$name.sh" &
  local window=$!
  while [ ! -e "$name.done" ]; do sleep 0.1; done
  sleep 0.7
  # The window alone, without the empty screen around it.
  DISPLAY=$display import -window root "$work/$name.png"
  convert "$work/$name.png" -bordercolor black -border 1 -trim +repage "$out/$name.png"
  kill $window; wait $window 2>/dev/null || true
}

picture plan "weltblick plan weltblick-demo/target.toml"
picture inspect "weltblick inspect weltblick-demo/buoy"
picture profile "weltblick profile weltblick-demo/buoy --top 20"
picture check "weltblick check weltblick-demo/buoy weltblick-demo/budgets.toml"
picture interrupts "weltblick interrupts weltblick-demo/buoy"
picture tasks "weltblick tasks weltblick-demo/buoy"
picture signals "weltblick signals weltblick-demo/buoy temperature --threshold 10"
picture timeline "weltblick timeline weltblick-demo/buoy --within 0.985s..1.015s --columns 120"
weltblick timeline weltblick-demo/buoy --at 'irq:radio_slot[80]' --within 0.98s..1.02s \
  --picture lanes.png >/dev/null
weltblick timeline weltblick-demo/buoy-flow --at filter_precise --width 400us --picture stack.png >/dev/null
weltblick timeline weltblick-demo/buoy-port --at wave_filter --width 4ms --picture port.png >/dev/null
convert lanes.png stack.png port.png -append "$out/timeline-picture.png"
picture console "weltblick console weltblick-demo/buoy --deltas --within 0.9s..1.3s"
picture exact "weltblick profile weltblick-demo/buoy-flow --top 16"
picture coverage "weltblick coverage weltblick-demo/buoy-flow --exclude /build/* --top 8"
picture source "weltblick source weltblick-demo/buoy-flow wave_filter"
picture flow "weltblick flow weltblick-demo/buoy-etmv3 --around 4.9ms -n 24"
picture span-code "weltblick span weltblick-demo/buoy-flow wave_filter spectrum_power bands_update --top 2"
weltblick profile weltblick-demo/buoy-flow --picture "$out/calls.png" >/dev/null
picture demo "weltblick demo"

# The time between points in the code, without any trace hardware.
weltblick stand-in --trace 127.0.0.1:5903 --stub 127.0.0.1:5904 >/dev/null &
target=$!
sleep 0.5
weltblick capture stub:127.0.0.1:5904 --image weltblick-demo/buoy/wave-buoy.elf --reset \
  --core-clock 47.972352MHz --laps wave_filter,spectrum_push,bands_update --for 10s --out laps --quiet
kill $target; wait $target 2>/dev/null || true
picture span "weltblick span laps"

# The live view: some seconds into a capture from the stand-in, functions and then values.
weltblick plan weltblick-demo/target.toml --out plan.toml >/dev/null
weltblick stand-in --trace 127.0.0.1:5901 --stub 127.0.0.1:5902 >/dev/null &
target=$!
sleep 0.5
DISPLAY=$display TERM=xterm-256color xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry "120x30+0+0" \
  -bg '#fbfaf7' -fg '#222222' -xrm 'XTerm*color4: #1f5fa8' -b 12 +sb -e \
  weltblick capture tcp:127.0.0.1:5901 stub:127.0.0.1:5902 --plan plan.toml --reset --for 60s \
  --image weltblick-demo/buoy/wave-buoy.elf --budgets weltblick-demo/budgets.toml --out live &
window=$!
sleep 7
pane() {
  DISPLAY=$display import -window root "$work/$1.png"
  convert "$work/$1.png" -bordercolor black -border 1 -trim +repage "$work/$1.png"
}
pane functions
# Keys go to the window under the pointer.
DISPLAY=$display xdotool mousemove 100 100
for key in p p p n; do DISPLAY=$display xdotool key "$key"; sleep 0.3; done
sleep 1
pane values
kill $window $target; wait $window $target 2>/dev/null || true

# The same of an instruction trace: what ran is exact.
cat > instructions.toml <<'END'
format     = 1
name       = "wave-buoy"
core       = "cortex-m33"
core_clock = "47.972352 MHz"
[link]
kind       = "port"
width      = 4
port_clock = "24 MHz"
[observe.instructions]
cycle_counts = true
END
weltblick plan instructions.toml --out instructions-plan.toml >/dev/null
DISPLAY=$display TERM=xterm-256color xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry "120x30+0+0" \
  -bg '#fbfaf7' -fg '#222222' -xrm 'XTerm*color4: #1f5fa8' -b 12 +sb -e \
  weltblick capture stand-in:weltblick-demo/buoy/wave-buoy.elf --plan instructions-plan.toml --for 60s \
  --image weltblick-demo/buoy/wave-buoy.elf --out instructions &
window=$!
sleep 7
pane executed
kill $window; wait $window 2>/dev/null || true
convert "$work/functions.png" "$work/values.png" "$work/executed.png" -background black -splice 0x8 \
  -append "$out/capture.png"
