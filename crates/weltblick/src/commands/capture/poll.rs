//! What a debug stub is asked while the target runs: program counters and variables.

use super::registers::{NO_PC, PC_SAMPLE};
use super::session::{Next, Session};
use crate::sources::stub::StubError;
use std::fmt::Write as _;
use std::time::{Duration, Instant};
use weltblick_core::image::Kind;

/// Names of variables are told every so many times that they are read.
const NAMED_EVERY: u64 = 256;

impl Session {
    fn name_variables(&self) {
        for (watch, variable) in self.questions.variables.iter().enumerate() {
            let kind = match variable.element.kind {
                Kind::Unsigned => 'u',
                Kind::Signed => 's',
                Kind::Float => 'f',
                Kind::Other => 'o',
            };
            let (size, address) = (variable.element.size.max(1), variable.address);
            self.preface(format!("n {watch} {size} {kind} {address:x} {}\n", variable.name));
        }
    }

    /// When the next sample is due: after an exponential time, so that no period of the target is
    /// met again and again.
    pub(super) fn next_sample(&mut self) -> Instant {
        let mean = self.questions.sample_every.unwrap_or_default().as_secs_f64();
        self.noise = self
            .noise
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        let uniform = ((self.noise >> 11) as f64 + 1.0) / (1_u64 << 53) as f64;
        let wait = (-mean * uniform.ln()).clamp(0.0, 20.0 * mean);
        Instant::now() + Duration::from_secs_f64(wait)
    }

    /// One program counter.
    pub(super) fn sample(&mut self) -> Result<Next, StubError> {
        let sent = self.now();
        if !self.questions.stops {
            let pc = self.client.word(PC_SAMPLE)?;
            let received = self.now();
            // A core that stands at a point tells none: that is no sample of what it does.
            if pc == NO_PC && self.client.wait_until_stopped(Duration::from_millis(1))? {
                return self.stopped();
            }
            self.write(match pc {
                NO_PC => format!("z {sent} {received}\n"),
                pc => format!("p {sent} {received} {:x}\n", pc & !1),
            });
            return Ok(Next::On);
        }
        self.client.stop()?;
        let pc = self.client.program_counter()? & !1;
        let received = self.now();
        // At a point it has stopped by itself, or would have at once: that is no moment by chance.
        if !self.questions.breaks().contains(&pc) {
            self.write(format!("h {sent} {received} {pc:x}\n"));
        }
        self.resume()
    }

    pub(super) fn read_variables(&mut self) -> Result<Next, StubError> {
        // Their names are told again and again: the oldest part of the stream may be let go.
        if self.reads.is_multiple_of(NAMED_EVERY) {
            self.name_variables();
        }
        self.reads += 1;
        if self.questions.stops {
            self.client.stop()?;
        }
        for watch in 0..self.questions.variables.len() {
            let (address, size) = {
                let variable = &self.questions.variables[watch];
                (variable.address, variable.size as usize)
            };
            let sent = self.now();
            let bytes = self.client.read(address, size)?;
            let received = self.now();
            let mut line = format!("v {sent} {received} {watch} ");
            for byte in bytes {
                let _ = write!(line, "{byte:02x}");
            }
            line.push('\n');
            self.write(line);
        }
        if self.questions.stops { self.resume() } else { Ok(Next::On) }
    }
}
