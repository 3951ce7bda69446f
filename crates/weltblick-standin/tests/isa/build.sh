#!/usr/bin/env bash
# Builds the program that the stand-in and the emulator step through side by side.
set -euo pipefail
cd "$(dirname "$0")"
arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb -O2 -std=c11 -ffreestanding -fno-builtin -Wall -Wextra \
  -Werror -ffile-prefix-map="$PWD"=. -nostdlib -nostartfiles -T isa.ld -o isa.elf \
  isa.S isa.c -lgcc
arm-none-eabi-strip --strip-debug isa.elf
