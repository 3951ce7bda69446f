//! Records the demo's instruction traces: runs the wave buoy's firmware on the stand-in and writes what
//! one of its trace units sends, or holds.
//!
//! `cargo run --release -p weltblick-standin --example record-instructions -- UNIT FIRMWARE.elf TRACE.bin
//! FROM UNTIL`: `etmv4`, `etmv3`, `mtb`, or `port` for an ETMv4 and the ITM in frames of one trace port;
//! seconds after reset.

use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;
use weltblick_standin::{Machine, Model, Program};

/// `DEMCR`.
const DEMCR: u32 = 0xe000_edfc;
/// Registers of the trace unit, of the micro trace buffer, and where that one writes.
const ETM: u32 = 0xe004_1000;
const MTB: u32 = 0xe004_3000;
/// `TPIU_FFCR`.
const FORMATTER: u32 = 0xe004_0304;
const BUFFER: u32 = 0x2001_0000;
/// 32 KiB.
const BUFFER_SIZE: (u32, u32) = (11, 16 << 11);

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [unit, firmware, out, from, until] = arguments.as_slice() else {
        return Err("usage: record-instructions UNIT FIRMWARE.elf TRACE.bin FROM UNTIL".into());
    };
    let program = Program::parse(&std::fs::read(firmware)?)?;
    // A trace port of eight pins, on both edges of half the core clock.
    let model = if unit == "etmv3" { Model::CortexM3 } else { Model::CortexM7 };
    let setup = Setup { model, link_bit_rate: 480_000_000, ..Setup::default() };
    let cycle = |seconds: &str| -> Result<u64, std::num::ParseFloatError> {
        Ok((seconds.parse::<f64>()? * setup.core_clock as f64) as u64)
    };
    let mut machine = Machine::new(&program, setup)?;
    machine.run(cycle(from)?);
    for (address, value) in registers(unit)? {
        machine.poke(address, 4, value).map_err(|fault| fault.to_string())?;
    }
    let before = machine.truth().instructions;
    machine.run(cycle(until)?);
    let bytes = if unit == "mtb" { branches(&mut machine)? } else { machine.take_trace() };
    std::fs::write(out, &bytes)?;
    let instructions = machine.truth().instructions - before;
    let stretches = machine.trace().etm().segments().len();
    println!("{} bytes, {instructions} instructions, {stretches} stretches", bytes.len());
    Ok(())
}

/// What is written to which register, in order.
fn registers(unit: &str) -> Result<Vec<(u32, u32)>, String> {
    let etmv4 = [
        (DEMCR, 1 << 24),
        // Cycle counts, timestamps, return stack.
        (ETM + 0x010, 1 | 1 << 4 | 1 << 11 | 1 << 12),
        (ETM + 0x034, 12),
        (ETM + 0x038, 8),
        (ETM + 0x040, 2),
        (ETM + 0x080, 1 | 1 << 9),
        (ETM + 0x004, 1),
    ];
    Ok(match unit {
        "etmv4" => etmv4.to_vec(),
        "port" => {
            let frames = [(FORMATTER, 1 << 1)];
            let itm = TraceSetup { global: false, ..TraceSetup::default() }.registers();
            [&frames[..], &itm, &etmv4].concat()
        }
        // Cycles with every instruction.
        "etmv3" => vec![(DEMCR, 1 << 24), (ETM + 0x020, 0x6f), (ETM, 1 << 12)],
        "mtb" => vec![(MTB, BUFFER - 0x2000_0000), (MTB + 4, 1 << 31 | BUFFER_SIZE.0)],
        other => return Err(format!("`{other}` is none of etmv4, etmv3, mtb and port")),
    })
}

/// What the micro trace buffer holds, the oldest branch first.
fn branches(machine: &mut Machine) -> Result<Vec<u8>, String> {
    let size = BUFFER_SIZE.1;
    let mut peek = |address| machine.peek(address, 4).map_err(|fault| fault.to_string());
    let position = peek(MTB)?;
    let written = (position & !7) - (BUFFER - 0x2000_0000);
    let (start, length) = if position & 4 != 0 { (written, size) } else { (0, written) };
    let mut bytes = Vec::new();
    for at in (0..length).step_by(4) {
        bytes.extend(peek(BUFFER + (start + at) % size)?.to_le_bytes());
    }
    Ok(bytes)
}
