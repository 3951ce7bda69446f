//! Records the demo capture: runs the wave buoy's firmware on the stand-in and writes its trace.
//!
//! `cargo run --release -p weltblick-standin --example record-demo -- FIRMWARE.elf SWO.bin SECONDS`

use std::time::Instant;
use weltblick_standin::Program;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, record};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let [firmware, out, seconds] = std::env::args()
        .skip(1)
        .collect::<Vec<_>>()
        .try_into()
        .map_err(|_| "usage: record-demo FIRMWARE.elf SWO.bin SECONDS")?;
    let program = Program::parse(&std::fs::read(firmware)?)?;
    let setup = Setup::default();
    let cycles = (seconds.parse::<f64>()? * setup.core_clock as f64) as u64;
    let started = Instant::now();
    let (machine, bytes) = record(&program, setup, TraceSetup::default(), cycles)?;
    std::fs::write(out, &bytes)?;
    let truth = machine.truth();
    println!(
        "{} bytes, {} packets, {} dropped; {} instructions, asleep {:.1} %, in {:.2?}",
        bytes.len(),
        machine.trace().sent,
        machine.trace().dropped,
        truth.instructions,
        100.0 * truth.asleep as f64 / truth.total as f64,
        started.elapsed(),
    );
    Ok(())
}
