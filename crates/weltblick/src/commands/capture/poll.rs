//! What a debug stub is asked while the target runs: program counters, variables, lap points.

use super::points::Windows;
use super::readout::{Content, ReadOut};
use crate::sources::live::{Message, Outbox};
use crate::sources::stub::{Client, StubError};
use std::fmt::Write as _;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use weltblick_core::capture::{LapPoint, What};
use weltblick_core::image::{Kind, Variable};

/// `DWT_PCSR`: the program counter of the running core (DDI 0403E, C1.8.6).
const PC_SAMPLE_REGISTER: u64 = 0xe000_101c;
/// What it reads as while the core stands or may not be observed.
const NO_PC: u32 = 0xffff_ffff;
/// The stream that a buffer is kept in.
const BUFFER: usize = 0;
/// Names of variables are told every so many times that they are read.
const NAMED_EVERY: u64 = 256;
/// How long nothing is done at most before somebody looks whether to stop.
const GLANCE: Duration = Duration::from_millis(20);

/// What is asked, and how often.
#[derive(Debug, Clone, Default)]
pub(super) struct Questions {
    /// Mean time between samples of the program counter.
    pub(super) sample_every: Option<Duration>,
    /// Variables, and how often they are read.
    pub(super) variables: Vec<Variable>,
    pub(super) read_every: Duration,
    /// A buffer, and how often it is read out while the target runs.
    pub(super) read_out: Option<ReadOut>,
    pub(super) read_out_every: Option<Duration>,
    /// Code points whose passing is timed.
    pub(super) laps: Vec<LapPoint>,
    /// Code points between which is recorded.
    pub(super) windows: Windows,
    /// A code point at which the capture ends.
    pub(super) until: Option<u64>,
    /// The core must be stopped for every answer.
    pub(super) stops: bool,
}

impl Questions {
    /// Whether memory is read while the target runs.
    pub(super) const fn reads(&self) -> bool {
        self.sample_every.is_some() || !self.variables.is_empty() || self.read_out.is_some()
    }

    /// An address that is read anyhow: where it is tried out whether that works.
    pub(super) fn probe(&self) -> u64 {
        match (self.sample_every, self.variables.first(), self.read_out) {
            (None, Some(variable), _) => variable.address,
            (None, None, Some(read_out)) => read_out.probe(),
            _ => PC_SAMPLE_REGISTER,
        }
    }

    /// Whether the stub is needed for more than the set-up.
    pub(super) fn any(&self) -> bool {
        self.polls() || self.read_out.is_some() || !self.windows.is_empty()
    }

    /// Whether the core stands now and then because of them: its timing is not its own.
    pub(super) fn disturb(&self) -> bool {
        let reads = self.sample_every.is_some() || !self.variables.is_empty();
        let reads = reads || self.read_out_every.is_some();
        self.stops && reads || !self.laps.is_empty() || !self.windows.is_empty()
    }

    /// Whether there is anything to be written down.
    pub(super) fn polls(&self) -> bool {
        self.sample_every.is_some() || !self.variables.is_empty() || !self.laps.is_empty()
    }
}

/// One target's session, on a thread of its own.
pub(super) struct Session {
    pub(super) client: Client,
    pub(super) questions: Questions,
    /// The stream of what it writes down.
    pub(super) stream: Option<usize>,
    pub(super) outbox: Outbox,
    /// Times count from here.
    pub(super) epoch: Instant,
    pub(super) noise: u64,
    /// Somebody wants the buffer read out.
    pub(super) read_out_now: Arc<AtomicBool>,
    /// The target sends trace of its own beside.
    pub(super) has_trace: bool,
    /// What is asked now is kept.
    pub(super) watched: Arc<AtomicBool>,
    /// The core counts cycles.
    pub(super) counts: bool,
    /// How often variables were read.
    pub(super) reads: u64,
}

/// How a session goes on.
pub(super) enum Next {
    On,
    End,
}

impl Session {
    /// Lets the target run, and asks until `stop`. The target runs on afterwards.
    pub(super) fn run(mut self, stop: &AtomicBool) {
        let error = self.ask_all(stop).err().map(|error| error.to_string());
        self.client.leave();
        let _ = self.outbox.send(Message::Ended { error });
    }

    fn ask_all(&mut self, stop: &AtomicBool) -> Result<(), StubError> {
        self.begin_points()?;
        if let Some(read_out) = self.questions.read_out {
            read_out.start(&mut self.client)?;
        }
        self.client.go_on()?;
        self.happened(What::Released, None);
        let (mut sample_at, mut read_at) = (self.next_sample(), Instant::now());
        let mut read_out_at = self.questions.read_out_every.map(|every| Instant::now() + every);
        while !stop.load(Ordering::Relaxed) {
            let now = Instant::now();
            let samples = self.questions.sample_every.is_some();
            // What nobody keeps is not asked for.
            let watched = self.watched.load(Ordering::Relaxed);
            if samples && watched && now >= sample_at {
                if let Next::End = self.sample()? {
                    return Ok(());
                }
                sample_at = self.next_sample();
            }
            if !self.questions.variables.is_empty() && watched && now >= read_at {
                if let Next::End = self.read_variables()? {
                    return Ok(());
                }
                read_at += self.questions.read_every;
                read_at = read_at.max(Instant::now());
            }
            let asked = self.read_out_now.swap(false, Ordering::Relaxed);
            if asked || read_out_at.is_some_and(|at| now >= at) {
                if let Next::End = self.read_out()? {
                    return Ok(());
                }
                read_out_at = self.questions.read_out_every.map(|every| Instant::now() + every);
            }
            let mut wake = now + GLANCE;
            wake = read_out_at.map_or(wake, |at| wake.min(at));
            if samples && watched {
                wake = wake.min(sample_at);
            }
            if !self.questions.variables.is_empty() && watched {
                wake = wake.min(read_at);
            }
            if let Next::End = self.wait(wake)? {
                return Ok(());
            }
        }
        match self.read_out()? {
            Next::On => self.end_points(),
            Next::End => Ok(()),
        }
    }

    /// Reads the buffer out; then it takes trace again.
    fn read_out(&mut self) -> Result<Next, StubError> {
        let Some(read_out) = self.questions.read_out else { return Ok(Next::On) };
        let stops = !self.client.non_stop && self.questions.stops;
        if stops {
            self.client.stop()?;
        }
        self.read_out_halted()?;
        read_out.go_on(&mut self.client)?;
        if stops { self.resume() } else { Ok(Next::On) }
    }

    /// The same of a target that stands, and stays so: one dated segment.
    pub(super) fn read_out_halted(&mut self) -> Result<(), StubError> {
        let Some(read_out) = self.questions.read_out else { return Ok(()) };
        let (Content { bytes, wrapped }, what) = read_out.take(&mut self.client)?;
        if what == What::Drained && bytes.is_empty() {
            return Ok(());
        }
        let happened = |what, detail| Message::Happened { stream: Some(BUFFER), what, detail };
        let _ = self.outbox.send(happened(what, Some(format!("{} bytes", bytes.len()))));
        if wrapped {
            let _ = self.outbox.send(happened(What::Overwritten, None));
        }
        let _ = self.outbox.send(Message::Bytes { stream: BUFFER, bytes });
        Ok(())
    }

    pub(super) fn happened(&self, what: What, detail: Option<String>) {
        let _ = self.outbox.send(Message::Happened { stream: None, what, detail });
    }

    pub(super) fn now(&self) -> u64 {
        u64::try_from(self.epoch.elapsed().as_nanos()).unwrap_or(u64::MAX)
    }

    pub(super) fn write(&self, line: String) {
        if let Some(stream) = self.stream {
            let _ = self.outbox.send(Message::Bytes { stream, bytes: line.into_bytes() });
        }
    }

    /// Something that explains later lines.
    pub(super) fn preface(&self, line: String) {
        if let Some(stream) = self.stream {
            let _ = self.outbox.send(Message::Preface { stream, bytes: line.into_bytes() });
        }
    }

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
    fn next_sample(&mut self) -> Instant {
        let mean = self.questions.sample_every.unwrap_or(GLANCE).as_secs_f64();
        self.noise = self
            .noise
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        let uniform = ((self.noise >> 11) as f64 + 1.0) / (1_u64 << 53) as f64;
        let wait = (-mean * uniform.ln()).clamp(0.0, 20.0 * mean);
        Instant::now() + Duration::from_secs_f64(wait)
    }

    /// One program counter.
    fn sample(&mut self) -> Result<Next, StubError> {
        let sent = self.now();
        if !self.questions.stops {
            let pc = self.client.word(PC_SAMPLE_REGISTER)?;
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
        let pc = self.client.program_counter()?;
        let received = self.now();
        self.write(format!("h {sent} {received} {:x}\n", pc & !1));
        self.resume()
    }

    fn read_variables(&mut self) -> Result<Next, StubError> {
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
