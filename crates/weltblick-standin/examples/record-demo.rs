//! Records the demo capture: runs the wave buoy's firmware on the stand-in and writes its trace.
//!
//! `cargo run --release -p weltblick-standin --example record-demo -- FIRMWARE.elf SWO.bin SECONDS
//! [ADDRESS:BYTES]...`: comparators watch writes to these addresses.

use std::time::Instant;
use weltblick_standin::Program;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, Watch, record};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [firmware, out, seconds, watched @ ..] = arguments.as_slice() else {
        return Err("usage: record-demo FIRMWARE.elf SWO.bin SECONDS [ADDRESS:BYTES]...".into());
    };
    let mut trace = TraceSetup::default();
    for (slot, text) in trace.watches.iter_mut().zip(watched) {
        let (address, bytes) = text.split_once(':').ok_or("write ADDRESS:BYTES")?;
        let address = u32::from_str_radix(address.trim_start_matches("0x"), 16)?;
        *slot = Watch::writes(address, bytes.parse()?);
    }
    let program = Program::parse(&std::fs::read(firmware)?)?;
    let setup = Setup::default();
    let cycles = (seconds.parse::<f64>()? * setup.core_clock as f64) as u64;
    let started = Instant::now();
    let (machine, bytes) = record(&program, setup, trace, cycles)?;
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
