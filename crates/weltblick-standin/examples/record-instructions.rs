//! Records the demo's instruction trace: runs the wave buoy's firmware on the stand-in and writes
//! what its trace unit sends.
//!
//! `cargo run --release -p weltblick-standin --example record-instructions -- FIRMWARE.elf ETM.bin
//! FROM UNTIL`: seconds after reset.

use weltblick_standin::machine::Setup;
use weltblick_standin::{Machine, Program};

/// `DEMCR`, and registers of the trace unit (IHI 0064).
const DEMCR: u32 = 0xe000_edfc;
const TRCPRGCTLR: u32 = 0xe004_1004;
const TRCCONFIGR: u32 = 0xe004_1010;
const TRCSYNCPR: u32 = 0xe004_1034;
const TRCCCCTLR: u32 = 0xe004_1038;
const TRCVICTLR: u32 = 0xe004_1080;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [firmware, out, from, until] = arguments.as_slice() else {
        return Err("usage: record-instructions FIRMWARE.elf ETM.bin FROM UNTIL".into());
    };
    let program = Program::parse(&std::fs::read(firmware)?)?;
    // A trace port of eight pins, on both edges of half the core clock.
    let setup = Setup { link_bit_rate: 480_000_000, ..Setup::default() };
    let cycle = |seconds: &str| -> Result<u64, std::num::ParseFloatError> {
        Ok((seconds.parse::<f64>()? * setup.core_clock as f64) as u64)
    };
    let mut machine = Machine::new(&program, setup)?;
    machine.run(cycle(from)?);
    for (address, value) in [
        (DEMCR, 1 << 24),
        // Cycle counts, timestamps, return stack.
        (TRCCONFIGR, 1 | 1 << 4 | 1 << 11 | 1 << 12),
        (TRCSYNCPR, 12),
        (TRCCCCTLR, 8),
        (TRCVICTLR, 1 | 1 << 9),
        (TRCPRGCTLR, 1),
    ] {
        machine.poke(address, 4, value).map_err(|fault| fault.to_string())?;
    }
    let before = machine.truth().instructions;
    machine.run(cycle(until)?);
    let bytes = machine.take_trace();
    std::fs::write(out, &bytes)?;
    let instructions = machine.truth().instructions - before;
    println!(
        "{} bytes, {instructions} instructions, {} gaps",
        bytes.len(),
        machine.trace().etm().segments.len() - 1
    );
    Ok(())
}
