#!/usr/bin/env bash
# Builds the wave buoy's firmware. Needs Debian's gcc-arm-none-eabi; the result is the same on
# every machine: no path, date or user name gets into the ELF file.
set -euo pipefail
cd "$(dirname "$0")"
out=${1:-../buoy/wave-buoy.elf}
optimize=${2:--O2}
folder=${3:-.} # where the source stands, as debug information says it
arm-none-eabi-gcc \
  -mcpu=cortex-m3 -mthumb $optimize -g -gdwarf-4 -std=c11 -ffreestanding -fno-builtin \
  -fno-common -fno-tree-loop-distribute-patterns -ffunction-sections -fdata-sections \
  -Wall -Wextra -Werror -ffile-prefix-map="$PWD"="$folder" -fdebug-prefix-map="$PWD"="$folder" \
  -nostdlib -nostartfiles -Wl,--gc-sections -Wl,--build-id=sha1 -T buoy.ld -Isrc \
  -o "$out" \
  src/main.c src/kernel/*.c src/kernel/*.S src/board/*.c src/dsp/*.c src/control/*.c \
  src/report/*.c -lgcc
