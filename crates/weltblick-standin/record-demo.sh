#!/usr/bin/env bash
# Records the demo capture anew: builds the firmware (needs gcc-arm-none-eabi) and runs it on the
# stand-in for three seconds. A comparator watches the temperature, the second word of its structure.
set -euo pipefail
cd "$(dirname "$0")/../.."
demo/firmware/build.sh
health=$(arm-none-eabi-nm demo/buoy/wave-buoy.elf | awk '$3 == "latest_health" { print $1 }')
cargo run --quiet --release -p weltblick-standin --example record-demo -- \
  demo/buoy/wave-buoy.elf demo/buoy/swo.bin 3 "$(printf '%x:4' $((0x$health + 4)))"
