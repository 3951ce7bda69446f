#!/usr/bin/env bash
# Builds hot.elf anew; needs gcc-arm-none-eabi.
set -euo pipefail
cd "$(dirname "$0")"
arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb -O1 -g -ffreestanding -nostdlib -ffile-prefix-map="$PWD"=. \
  -Wall -Wextra -Wl,--build-id -T hot.ld hot.c -o hot.elf
