//! Debug registers that captures themselves read and write (DDI 0403E, C1).

/// `DEMCR`: its bit that powers the DWT, and the one that stops the core at the reset vector.
pub(super) const DEMCR: u64 = 0xe000_edfc;
pub(super) const TRACE_ENABLE: u32 = 1 << 24;
pub(super) const STOP_AT_RESET: u32 = 1;
/// `AIRCR`, and what asks it for a reset.
pub(super) const AIRCR: u64 = 0xe000_ed0c;
pub(super) const RESET: u32 = 0x05fa_0004;
/// `CPUID`: which core it is.
pub(super) const CPUID: u64 = 0xe000_ed00;
/// `DWT_CTRL`, whose lowest bit lets the cycle counter run.
pub(super) const DWT_CONTROL: u64 = 0xe000_1000;
/// `DWT_CYCCNT`.
pub(super) const CYCLE_COUNTER: u64 = 0xe000_1004;
/// One cycle before the bits that synchronisations may be tapped from change (24, 26, 28).
pub(super) const BEFORE_EVERY_TAP: u32 = 0x0fff_ffff;
/// `DWT_PCSR`: the program counter of the running core (C1.8.6).
pub(super) const PC_SAMPLE: u64 = 0xe000_101c;
/// What it reads as while the core stands or may not be observed.
pub(super) const NO_PC: u32 = 0xffff_ffff;
