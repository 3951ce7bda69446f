#!/usr/bin/env bash
# The whole set-up, live, without hardware: plan a measurement, capture it from the stand-in
# microcontroller, look whether it is whole, and see where the time goes.
#
#   demo/capture.sh [FOLDER]        makes FOLDER/plan.toml and the capture FOLDER/live
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
work=${1:-.}
mkdir -p "$work"
cd "$work"

# What fits the link, and what to write into which register.
weltblick plan "$here/target.toml" --out plan.toml --replace

# The target: it waits in reset, and sends nothing until its registers are written.
weltblick stand-in "$here/buoy/wave-buoy.elf" --trace 127.0.0.1:0 --stub 127.0.0.1:0 > stand-in.txt &
target=$!
trap 'kill $target 2>/dev/null' EXIT
until [ "$(wc -l < stand-in.txt)" -ge 3 ]; do sleep 0.05; done
trace=$(sed -n 's/^trace on //p' stand-in.txt)
stub=$(sed -n 's/^debug stub on //p' stand-in.txt)

# Reset, write what is planned, listen, and only then let it run.
weltblick capture "$trace" "$stub" --plan plan.toml --image "$here/buoy/wave-buoy.elf" \
  --reset --for "${SECONDS_TO_MEASURE:-2}s" --out live --replace

weltblick inspect live
weltblick profile live --top 12
