//! `stand-in`: the stand-in microcontroller as a server.

use crate::cli::duration;
use crate::outcome::Outcome;
use crate::show;
use anyhow::{Context as _, Result};
use std::io::Write;
use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;
use weltblick_core::time::{Frequency, parse_bit_rate};
use weltblick_standin::machine::Setup;
use weltblick_standin::serve::{Fault, Options, serve};
use weltblick_standin::{Machine, Model, Program};

/// The demo's firmware.
static FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");

/// The stand-in microcontroller as a server: raw trace on one port, a debug stub on another
///
/// It runs firmware as a Cortex-M3 does, whichever core it passes for, and sends what its trace registers ask
/// for: nothing until they are written.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The firmware; absent: the demo's
    #[arg(value_name = "FIRMWARE.elf")]
    firmware: Option<PathBuf>,
    /// Where to send raw trace
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:5001")]
    trace: SocketAddr,
    /// Where to listen for debuggers (GDB Remote Serial Protocol)
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:5002")]
    stub: SocketAddr,
    /// The core clock
    #[arg(long, value_name = "FREQUENCY", default_value = "47.972352MHz")]
    core_clock: Frequency,
    /// The bit rate at which the trace is listened to; at any other it is noise
    #[arg(long, value_name = "RATE", value_parser = parse_bit_rate, default_value = "4Mbit/s")]
    bit_rate: f64,
    /// The core that it passes for: cortex-m3, cortex-m4 (ETMv3), cortex-m7, cortex-m33 (ETMv4)
    #[arg(long, value_name = "CORE", default_value_t = Model::default())]
    core: Model,
    /// Something that goes wrong: drop, corrupt, stall, disconnect, clock, late
    #[arg(long, value_name = "FAULT")]
    fault: Option<Fault>,
    /// Run at once, without waiting for a debugger
    #[arg(long)]
    run: bool,
    /// As fast as the trace is taken away, not as time passes
    #[arg(long)]
    hurry: bool,
    /// End after so long
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    time: Option<Duration>,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    let program = match &args.firmware {
        None => Program::parse(FIRMWARE)?,
        Some(path) => {
            let name = || path.display().to_string();
            Program::parse(&std::fs::read(path).with_context(name)?).with_context(name)?
        }
    };
    let core_clock = args.core_clock.hertz() as u64;
    let setup = Setup { model: args.core, core_clock, ..Setup::default() };
    let mut machine = Machine::new(&program, setup)?;
    let trace = TcpListener::bind(args.trace).with_context(|| args.trace.to_string())?;
    let stub = TcpListener::bind(args.stub).with_context(|| args.stub.to_string())?;
    writeln!(out, "trace on tcp:{}", trace.local_addr()?)?;
    writeln!(out, "debug stub on stub:{}", stub.local_addr()?)?;
    let state = if args.run { "running" } else { "held in reset until a debugger lets it run" };
    let what = args
        .firmware
        .as_ref()
        .map_or_else(|| "the demo's firmware".into(), |path| path.display().to_string());
    writeln!(out, "{}: {state}", show::plain(&what))?;
    out.flush()?;
    let stop = Arc::new(AtomicBool::new(false));
    let seen = Arc::clone(&stop);
    ctrlc::set_handler(move || seen.store(true, Ordering::Relaxed)).context("signals")?;
    if let Some(time) = args.time {
        let stop = Arc::clone(&stop);
        thread::spawn(move || {
            thread::sleep(time);
            stop.store(true, Ordering::Relaxed);
        });
    }
    let options = Options {
        core_clock,
        bit_rate: Some(args.bit_rate),
        fault: args.fault,
        real_time: !args.hurry,
        runs: args.run,
    };
    serve(&mut machine, options, &trace, &stub, &stop)?;
    Ok(Outcome::Done)
}
