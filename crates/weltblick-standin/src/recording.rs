//! A whole recording: firmware in, trace and truth out.

use crate::machine::{Machine, Setup, Stop};
use crate::program::{Program, ProgramError};
use thiserror::Error;

/// What is traced, in the terms of the debug registers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TraceSetup {
    /// `DWT_CTRL.POSTPRESET`, 0 to 15: samples every (this + 1) taps of the cycle counter.
    pub sample_reload: u32,
    /// A tap every 1024 cycles instead of every 64.
    pub slow_tap: bool,
    /// PC samples.
    pub samples: bool,
    /// Exception trace.
    pub exceptions: bool,
    /// Local timestamps: `ITM_TCR.TSPrescale` 0 to 3 for 1, 4, 16 or 64 cycles; `None`: off.
    pub timestamps: Option<u32>,
    /// Stimulus ports 0 to 31, one bit each.
    pub ports: u32,
    /// Global timestamps beside each synchronisation.
    pub global: bool,
    /// What comparators watch.
    pub watches: [Watch; 4],
}

/// What a comparator watches: `DWT_COMPn`, `DWT_MASKn`, `DWT_FUNCTIONn`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Watch {
    /// The address.
    pub address: u32,
    /// Low bits of it that do not count.
    pub mask: u32,
    /// What is sent; 0: nothing.
    pub function: u32,
}

impl Watch {
    /// Sends what is written to so many bytes, and the instruction that wrote (DDI 0403E, table C1-14).
    #[must_use]
    pub const fn writes(address: u32, bytes: u32) -> Self {
        Self { address, mask: bytes.trailing_zeros(), function: 0b1111 }
    }
}

impl Default for TraceSetup {
    fn default() -> Self {
        Self {
            sample_reload: 3,
            slow_tap: true,
            samples: true,
            exceptions: true,
            timestamps: Some(0),
            // Text, and marks with their arguments.
            ports: 1 | 0b11 << 16,
            global: true,
            watches: [Watch::default(); 4],
        }
    }
}

impl TraceSetup {
    /// Core cycles between samples.
    #[must_use]
    pub const fn sample_period(&self) -> u64 {
        (if self.slow_tap { 1024 } else { 64 }) * (self.sample_reload as u64 + 1)
    }

    /// The register writes that set it up, in order (DDI 0403E, C1.6 to C1.8).
    #[must_use]
    pub fn registers(&self) -> Vec<(u32, u32)> {
        let control = 1
            | self.sample_reload << 1
            | u32::from(self.slow_tap) << 9
            | 1 << 10
            | u32::from(self.samples) << 12
            | u32::from(self.exceptions) << 16;
        let trace = 1
            | u32::from(self.timestamps.is_some()) << 1
            | 1 << 2
            | 1 << 3
            | self.timestamps.unwrap_or(0) << 8
            | u32::from(self.global) << 10
            | 1 << 16;
        let mut writes = vec![
            (0xe000_edfc, 1 << 24),
            (0xe000_0fb0, 0xc5ac_ce55),
            (0xe000_0e00, self.ports),
            (0xe000_0e80, trace),
        ];
        let used = (0_u32..).zip(&self.watches).filter(|(_, watch)| watch.function != 0);
        for (number, &Watch { address, mask, function }) in used {
            let base = 0xe000_1020 + 16 * number;
            writes.extend([(base, address), (base + 4, mask), (base + 8, function)]);
        }
        // The DWT starts last.
        writes.push((0xe000_1000, control));
        writes
    }
}

/// Why a recording failed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RecordError {
    /// The firmware cannot be loaded.
    #[error(transparent)]
    Program(#[from] ProgramError),
    /// The firmware stopped.
    #[error("the firmware stopped: {0}")]
    Stopped(Stop),
}

/// Runs `program` for so many cycles from reset, traced from the first.
///
/// # Errors
///
/// If the firmware does not fit, or stops by itself.
pub fn record(
    program: &Program,
    setup: Setup,
    trace: TraceSetup,
    cycles: u64,
) -> Result<(Machine, Vec<u8>), RecordError> {
    let mut machine = Machine::new(program, setup)?;
    for (address, value) in trace.registers() {
        machine.poke(address, 4, value).expect("debug registers answer");
    }
    match machine.run(cycles) {
        Stop::Limit => {}
        stop => return Err(RecordError::Stopped(stop)),
    }
    let bytes = machine.take_trace();
    Ok((machine, bytes))
}
