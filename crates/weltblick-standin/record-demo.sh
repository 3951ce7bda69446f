#!/usr/bin/env bash
# Records the demo capture anew: builds the firmware (needs gcc-arm-none-eabi) and runs it on the
# stand-in for three seconds.
set -euo pipefail
cd "$(dirname "$0")/../.."
demo/firmware/build.sh
cargo run --quiet --release -p weltblick-standin --example record-demo -- \
  demo/buoy/wave-buoy.elf demo/buoy/swo.bin 3
