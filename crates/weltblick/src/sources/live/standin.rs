//! The stand-in microcontroller in this process, as a source.

use super::{Message, Outbox};
use anyhow::{Context as _, Result};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{self, sleep};
use std::time::{Duration, Instant};
use weltblick_core::capture::What;
use weltblick_core::plan::Write;
use weltblick_standin::machine::Setup;
use weltblick_standin::{Machine, Model, Program, Stop};

/// The target runs this long between two looks at the clock on the wall.
const TURN: Duration = Duration::from_millis(2);

/// A stand-in that is held in reset.
pub(crate) struct StandIn {
    machine: Machine,
    core_clock: u64,
}

impl StandIn {
    /// Loads firmware.
    pub(crate) fn load(firmware: &Path, core_clock: Option<f64>, model: Model) -> Result<Self> {
        let name = || firmware.display().to_string();
        let bytes = std::fs::read(firmware).with_context(name)?;
        let program = Program::parse(&bytes).with_context(name)?;
        let mut setup = Setup { model, ..Setup::default() };
        if let Some(clock) = core_clock {
            setup.core_clock = clock as u64;
        }
        let machine = Machine::new(&program, setup).with_context(name)?;
        Ok(Self { machine, core_clock: setup.core_clock })
    }

    /// Writes registers, as a debugger does.
    pub(crate) fn write(&mut self, writes: &[Write]) -> Result<()> {
        for Write { name, address, value, mask } in writes {
            let kept = self.machine.peek(*address, 4).unwrap_or(0) & !mask;
            self.machine
                .poke(*address, 4, kept | value & mask)
                .with_context(|| format!("{name}: the stand-in has no such register"))?;
        }
        Ok(())
    }

    /// Runs as time passes on the wall, on a thread of its own, until `stop`.
    pub(crate) fn start(mut self, stream: usize, outbox: Outbox, stop: Arc<AtomicBool>) {
        thread::spawn(move || {
            let _ =
                outbox.send(Message::Happened { stream: None, what: What::Released, detail: None });
            let error = self.run(stream, &outbox, &stop);
            let _ = outbox.send(Message::Ended { error });
        });
    }

    fn run(&mut self, stream: usize, outbox: &Outbox, stop: &AtomicBool) -> Option<String> {
        let began = Instant::now();
        while !stop.load(Ordering::Relaxed) {
            let due = (began.elapsed().as_secs_f64() * self.core_clock as f64) as u64;
            let stopped = self.machine.run(due);
            let bytes = self.machine.trace_mut().take();
            if !bytes.is_empty() && outbox.send(Message::Bytes { stream, bytes }).is_err() {
                return None;
            }
            match stopped {
                Stop::Limit => sleep(TURN),
                Stop::Reset => self.machine.reset(),
                other => return Some(format!("the firmware stopped: {other}")),
            }
        }
        let bytes = self.machine.take_trace();
        let _ = outbox.send(Message::Bytes { stream, bytes });
        None
    }
}
