//! The cycle model: what each instruction costs.
//!
//! In the manner of a Cortex-M3 class core on zero-wait-state memory; simple, documented and
//! deterministic rather than exact for any one chip.
//!
//! | instruction | cycles |
//! |---|---|
//! | arithmetic, logic, moves, not-taken branches, IT | 1 |
//! | taken branches, `bx`, `bl`, writes to the PC | 1 + refill (2) |
//! | load | 2 |
//! | store | 1 |
//! | load or store of N registers | 1 + N, and refill if the PC is among them |
//! | `tbb`, `tbh` | 2 + refill |
//! | `mul` | 1; `mla`, `mls` 2 |
//! | long multiply | 4, with accumulation 5 |
//! | divide | 2 + one per 4 bits of the quotient, 12 at most |
//! | special registers, `cps` | 2 |
//! | barriers | 4 |
//! | exception entry | 12 |
//! | exception return | 10 |
//! | tail-chaining | 6 |

/// Cycles to refill the pipeline after a taken branch.
pub const REFILL: u32 = 2;
/// Cycles from the decision to enter an exception to its first instruction.
pub const ENTRY: u32 = 12;
/// Cycles from the return instruction to the first instruction after it.
pub const RETURN: u32 = 10;
/// Cycles from one handler's return to the next one's first instruction.
pub const TAIL_CHAIN: u32 = 6;

/// Cycles of a division with this quotient.
#[must_use]
pub const fn divide(quotient: u32) -> u32 {
    let bits = 32 - quotient.leading_zeros();
    let cycles = 2 + bits.div_ceil(4);
    if cycles > 12 { 12 } else { cycles }
}
