//! Points in the code at which a debug stub stops the target: laps, windows, the end.

use super::progress::say;
use super::registers::{BEFORE_EVERY_TAP, CYCLE_COUNTER, DEMCR, DWT_CONTROL, TRACE_ENABLE};
use super::session::{Next, Session};
use crate::sources::live::Message;
use crate::sources::stub::StubError;
use std::thread;
use std::time::{Duration, Instant};
use weltblick_core::capture::What;

/// A stop is looked for so long at least, whatever is due.
const SHORTEST: Duration = Duration::from_micros(50);
/// How long trace that was sent before a stop may be on its way.
const ON_THE_WAY: Duration = Duration::from_millis(20);

impl Session {
    /// Sets the breakpoints, and opens what is open from the beginning.
    pub(super) fn begin_points(&mut self) -> Result<(), StubError> {
        for address in self.questions.breaks() {
            self.client.set_break(address, true)?;
        }
        if self.questions.windows.is_open() {
            let _ = self.outbox.send(Message::Watch(true));
        }
        self.start_counter()
    }

    /// The same after a broken connection. What was passed meanwhile nobody knows: windows that have
    /// a start are closed.
    pub(super) fn begin_points_again(&mut self) -> Result<(), StubError> {
        for address in self.questions.breaks() {
            self.client.set_break(address, true)?;
        }
        if !self.questions.windows.is_empty() {
            self.questions.windows.forget();
            let _ = self.outbox.send(Message::Watch(self.questions.windows.is_open()));
        }
        Ok(())
    }

    /// Laps are timed by the cycle counter, which must run.
    fn start_counter(&mut self) -> Result<(), StubError> {
        if self.questions.laps.is_empty() {
            return Ok(());
        }
        self.counts = self.switch_counter_on().unwrap_or(false);
        if !self.counts {
            let detail = "this core has no cycle counter: laps have the host's times only";
            self.happened(What::Diagnosed, Some(detail.into()));
            say(&format!("? {detail}"));
        }
        Ok(())
    }

    /// Whether it runs then. A core that has none refuses, or takes no notice.
    fn switch_counter_on(&mut self) -> Result<bool, StubError> {
        let power = self.client.word(DEMCR)?;
        self.client.write_word(DEMCR, power | TRACE_ENABLE)?;
        let control = self.client.word(DWT_CONTROL)?;
        self.client.write_word(DWT_CONTROL, control | 1)?;
        Ok(self.client.word(DWT_CONTROL)? & 1 == 1)
    }

    /// Takes the breakpoints away again; the target runs on.
    pub(super) fn end_points(&mut self) -> Result<(), StubError> {
        if self.questions.breaks().is_empty() {
            return Ok(());
        }
        self.client.stop()?;
        self.clear_points()?;
        self.client.go_on()
    }

    /// Takes the breakpoints of a target that stands away.
    pub(super) fn clear_points(&mut self) -> Result<(), StubError> {
        for address in self.questions.breaks() {
            self.client.set_break(address, false)?;
        }
        Ok(())
    }

    /// Waits, and looks whether the target stopped.
    pub(super) fn wait(&mut self, until: Instant) -> Result<Next, StubError> {
        let left = until.saturating_duration_since(Instant::now());
        if self.client.wait_until_stopped(left.max(SHORTEST))? {
            self.stopped()
        } else {
            Ok(Next::On)
        }
    }

    /// The target stopped by itself: at one of the points, or for good.
    pub(super) fn stopped(&mut self) -> Result<Next, StubError> {
        let received = self.now();
        let pc = self.client.program_counter()? & !1;
        if self.questions.breaks().contains(&pc) {
            return self.at_point(pc, received);
        }
        self.happened(What::Halted, Some(format!("at {pc:#010x}")));
        self.read_out_halted()?;
        let _ = self.outbox.send(Message::Stop(format!("the target stopped at {pc:#010x}")));
        Ok(Next::End)
    }

    /// Lets a target go on that was stopped for a question. It may have come to a point by itself.
    pub(super) fn resume(&mut self) -> Result<Next, StubError> {
        self.stood = true;
        let breaks = self.questions.breaks();
        if !breaks.is_empty() {
            let received = self.now();
            let pc = self.client.program_counter()? & !1;
            if breaks.contains(&pc) {
                return self.at_point(pc, received);
            }
        }
        self.client.go_on()?;
        Ok(Next::On)
    }

    /// The target stands at one of the points, and goes on unless it is the last.
    fn at_point(&mut self, pc: u64, received: u64) -> Result<Next, StubError> {
        self.stood = true;
        if self.questions.until == Some(pc) {
            return self.reached();
        }
        let lap = self.lap(pc, received)?;
        // A lap at a window's edge belongs into it.
        let was_open = self.questions.windows.is_open();
        if was_open {
            lap.iter().for_each(|line| self.write(line.clone()));
        }
        let opened = self.pass_windows(pc)?;
        if !was_open {
            lap.into_iter().for_each(|line| self.write(line));
        }
        if opened && self.has_trace {
            self.step_with_synchronisation(pc)?;
        } else {
            self.step_over(pc)?;
        }
        self.client.go_on()?;
        Ok(Next::On)
    }

    /// What is written down of a lap point; `None` if it is none.
    fn lap(&mut self, pc: u64, received: u64) -> Result<Option<String>, StubError> {
        let Some(lap) = self.questions.laps.iter().position(|lap| lap.address == pc) else {
            return Ok(None);
        };
        let cycles = match self.counts {
            true => self.client.word(CYCLE_COUNTER)?.to_string(),
            false => "-".into(),
        };
        Ok(Some(format!("l {received} {} {lap} {cycles}\n", self.now())))
    }

    /// The place at which the capture ends.
    fn reached(&mut self) -> Result<Next, StubError> {
        self.happened(What::Halted, Some("at the point that was asked for".into()));
        self.read_out_halted()?;
        self.clear_points()?;
        let _ = self.outbox.send(Message::Stop("the point that was asked for is reached".into()));
        Ok(Next::End)
    }

    /// Opens and closes windows at the place where the target stands. Whether one was opened.
    fn pass_windows(&mut self, pc: u64) -> Result<bool, StubError> {
        let before = self.questions.windows.is_open();
        self.questions.windows.pass(pc);
        let after = self.questions.windows.is_open();
        if before == after {
            return Ok(false);
        }
        if before {
            self.read_out_halted()?;
        }
        if self.has_trace {
            // While the core stands nothing new is sent: what was sent belongs to what was before.
            thread::sleep(ON_THE_WAY);
        }
        let _ = self.outbox.send(Message::Watch(after));
        if let Some(read_out) = self.questions.read_out.filter(|_| after) {
            read_out.start(&mut self.client)?;
        }
        Ok(after)
    }

    /// The same, and the trace synchronises: readers find their feet where a window opens.
    ///
    /// Synchronisations follow bits of the cycle counter, so for one step it stands just before all
    /// of them change. It is put back afterwards: the program and the sampler see nothing of it.
    fn step_with_synchronisation(&mut self, pc: u64) -> Result<(), StubError> {
        let counter = self.client.word(CYCLE_COUNTER)?;
        self.client.write_word(CYCLE_COUNTER, BEFORE_EVERY_TAP)?;
        self.step_over(pc)?;
        let took = self.client.word(CYCLE_COUNTER)?.wrapping_sub(BEFORE_EVERY_TAP);
        self.client.write_word(CYCLE_COUNTER, counter.wrapping_add(took))
    }

    /// Over the breakpoint.
    fn step_over(&mut self, pc: u64) -> Result<(), StubError> {
        self.client.set_break(pc, false)?;
        self.client.step()?;
        self.client.set_break(pc, true)
    }
}
