#!/usr/bin/env bash
# Builds the ELF files beside it from src/. Needs Debian's gcc-arm-none-eabi, gcc-riscv64-unknown-elf, clang, lld,
# binutils (for dwp), and a Rust toolchain. The files are committed: tests read them, and whoever changes a source here runs this.
set -euo pipefail
cd "$(dirname "$0")/src"
out=..
flags=(-Os -std=gnu11 -ffreestanding -fno-common -ffunction-sections -fdata-sections -fno-builtin
  -ffile-prefix-map="$PWD"=. -fdebug-prefix-map="$PWD"=.)
link=(-nostdlib -nostartfiles -T link.ld -Wl,--defsym=ORIGIN_OF_STACK=0x20001000 -Wl,--build-id=none)
arm=(arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb)

# gcc, each version of DWARF; at 0, where debug information of dropped code has the addresses of code that is there,
# and at an address where it has not.
for version in 2 3 4 5; do
  for flash in 0 0x8000000; do
    "${arm[@]}" "${flags[@]}" "${link[@]}" -g -gdwarf-$version -gstrict-dwarf -Wl,--gc-sections -Wl,--defsym=FLASH=$flash \
      hull.c mooring.c -lgcc -o $out/gcc-dw$version-$flash.elf
  done
done

# Types in units of their own, and packed sections.
for version in 4 5; do
  "${arm[@]}" "${flags[@]}" "${link[@]}" -g -gdwarf-$version -fdebug-types-section -gz=zlib -Wl,--gc-sections \
    -Wl,--defsym=FLASH=0x8000000 hull.c mooring.c -lgcc -o $out/types-dw$version.elf
done

# Link-time optimisation: names and types are in one unit, addresses in another.
"${arm[@]}" "${flags[@]}" "${link[@]}" -g -gdwarf-5 -flto -Wl,--gc-sections -Wl,--defsym=FLASH=0x8000000 \
  hull.c mooring.c -lgcc -o $out/gcc-lto.elf

# Debug information moved to another file after linking.
arm-none-eabi-objcopy --only-keep-debug $out/gcc-dw5-0.elf $out/moved.debug
arm-none-eabi-objcopy --strip-debug --add-gnu-debuglink=$out/moved.debug $out/gcc-dw5-0.elf $out/moved.elf
rm $out/moved.debug

# Debug information in files of its own, as DWARF 5 and as GNU did it before; and those in a package.
for version in 4 5; do
  for source in hull mooring; do
    "${arm[@]}" "${flags[@]}" -g -gdwarf-$version -gsplit-dwarf -c $source.c -o split-dw$version-$source.o
  done
  "${arm[@]}" "${link[@]}" -Wl,--gc-sections -Wl,--defsym=FLASH=0x8000000 split-dw$version-{hull,mooring}.o -lgcc \
    -o $out/split-dw$version.elf
  mv split-dw$version-{hull,mooring}.dwo $out
  rm split-dw$version-{hull,mooring}.o
done
(cd $out && dwp -o packed-dw4.elf.dwp split-dw4-hull.dwo split-dw4-mooring.dwo)

# A core without a divider.
arm-none-eabi-gcc -mcpu=cortex-m0plus -mthumb "${flags[@]}" "${link[@]}" -g -Wl,--defsym=FLASH=0 divides.c -lgcc \
  -o $out/divides.elf

# Assembly whose debug information has no functions, among code without debug information.
arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb "${flags[@]}" -c plain.c -o plain.o
for version in 4 5; do
  arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb -Wa,-gdwarf-$version -Wa,--debug-prefix-map="$PWD"=. -c dropped.S -o dropped.o
  arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb "${link[@]}" -Wl,--gc-sections -Wl,--defsym=FLASH=0 plain.o dropped.o \
    -o $out/plain-dw$version.elf
done
rm plain.o dropped.o

# Paths of Windows.
"${arm[@]}" "${flags[@]}" "${link[@]}" -g -gdwarf-4 -ffile-prefix-map="$PWD"='D:\buoy' -Wl,--defsym=FLASH=0x8000000 \
  windows.c -o $out/windows.elf

# Big-endian data, little-endian instructions; all big-endian; Arm state.
be=(-mbig-endian -Wl,--no-warn-mismatch)
"${arm[@]}" "${flags[@]}" "${link[@]}" "${be[@]}" -Wl,--be8 -g -Wl,--gc-sections -Wl,--defsym=FLASH=0x8000000 \
  hull.c -x c - -o $out/be8.elf <<< '#include "station.h"
int mooring_load(struct station *s, int raw) { return s->flags.wide + raw; } int mooring_slack(int x) { return x; }
double __aeabi_dadd(double a, double b) { return *(volatile double *)&a; }'
arm-none-eabi-gcc -marm -mcpu=cortex-r5 "${flags[@]}" "${link[@]}" -g -Wl,--defsym=FLASH=0x8000000 -Wl,--gc-sections \
  hull.c mooring.c -lgcc -o $out/arm-state.elf

# C++.
arm-none-eabi-g++ -mcpu=cortex-m3 -mthumb "${flags[@]/-std=gnu11/-std=gnu++17}" "${link[@]}" -fno-exceptions -fno-rtti \
  -fno-threadsafe-statics -O2 -g -Wl,--defsym=FLASH=0x8000000 names.cpp -lgcc -o $out/names.elf

# Rust; without its libraries, which only the newest compilers let a program do.
RUSTC_BOOTSTRAP=1 rustc --edition 2024 --target thumbv7m-none-eabi -g -C opt-level=1 -C panic=abort --emit obj \
  --remap-path-prefix="$PWD"=. heave.rs -o heave.o
arm-none-eabi-ld -T link.ld --defsym=ORIGIN_OF_STACK=0x20001000 --defsym=FLASH=0x8000000 heave.o -o $out/rust.elf
rm heave.o

# clang and its linker, which mark dropped code in ways of their own, and fold functions that are the same.
clang=(clang --target=thumbv7m-none-eabi "${flags[@]}")
for version in 2 3 4 5; do
  for source in hull mooring; do
    "${clang[@]}" -g -gdwarf-$version -c $source.c -o clang-$source.o
  done
  ld.lld -n -T link.ld --defsym=ORIGIN_OF_STACK=0x20001000 --defsym=FLASH=0 --gc-sections --icf=all --build-id=none \
    --unresolved-symbols=ignore-all clang-hull.o clang-mooring.o -o $out/clang-dw$version-0.elf
  ld.lld -n -T link.ld --defsym=ORIGIN_OF_STACK=0x20001000 --defsym=FLASH=0x8000000 --gc-sections --icf=all --build-id=none \
    --unresolved-symbols=ignore-all clang-hull.o clang-mooring.o -o $out/clang-dw$version-0x8000000.elf
done
rm clang-{hull,mooring}.o

# RISC-V, with code at 0.
for bits in 32 64; do
  abi=$([ $bits = 32 ] && echo ilp32 || echo lp64)
  for flash in 0 0x8000000; do
    # Not relaxed: else code would depend on where it is.
    riscv64-unknown-elf-gcc -Wl,--no-relax -march=rv${bits}imac -mabi=$abi -mcmodel=medany "${flags[@]}" "${link[@]}" -g \
      -Wl,--gc-sections -Wl,--defsym=FLASH=$flash riscv.S hull-riscv.c mooring.c -lgcc \
      -o $out/rv$bits-$flash.elf
  done
done
ls -l $out/*.elf
