#!/usr/bin/env bash
# Builds the images anew; needs gcc-arm-none-eabi.
set -euo pipefail
cd "$(dirname "$0")"
arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb -O1 -g -ffreestanding -nostdlib -ffile-prefix-map="$PWD"=. \
  -Wall -Wextra -Wl,--build-id -T hot.ld hot.c -o hot.elf
for variant in port ring; do
  define=(); [ "$variant" = ring ] && define=(-DWELTBLICK_MARKS_RING)
  arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb -O2 -g1 -ffreestanding -nostdlib "${define[@]}" \
    -ffile-prefix-map="$PWD"=. -Wall -Wextra -Werror -Wl,--build-id -T hot.ld \
    -I../../../../demo/firmware/src marks.c -lgcc -o "marks-$variant.elf"
done
arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb -O1 -g -ffreestanding -nostdlib \
  -ffile-prefix-map="$PWD"=. -Wall -Wextra -Werror -Wl,--build-id -T hot.ld values.c -lgcc \
  -o values.elf
# The demo's firmware built otherwise, from another folder.
../../../../demo/firmware/build.sh "$PWD/wave-buoy-o1.elf" -O1 /ci/buoy
