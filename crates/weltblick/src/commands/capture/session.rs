//! One target behind a debug stub: it is let run, asked, and left running, also if the connection
//! breaks in between.

use super::buffer::Content;
use super::questions::Questions;
use super::setup::hold;
use crate::sources::live::{Message, Outbox};
use crate::sources::stub::{Client, StubError};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};
use weltblick_core::capture::What;

/// The stream that a buffer is kept in.
const BUFFER: usize = 0;
/// How long nothing is done at most before somebody looks whether to stop.
const GLANCE: Duration = Duration::from_millis(20);
/// How long to wait before a broken connection is tried again.
const BETWEEN_TRIES: Duration = Duration::from_millis(50);

/// One target's session, on a thread of its own.
pub(super) struct Session {
    pub(super) client: Client,
    /// Where its stub is.
    pub(super) address: String,
    /// How long a broken connection is tried again.
    pub(super) reconnect: Duration,
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
    /// The core stood since it was last looked whether a sample is due.
    pub(super) stood: bool,
    /// How often variables were read.
    pub(super) reads: u64,
}

/// How a session goes on.
pub(super) enum Next {
    On,
    End,
}

/// When what is due.
struct Schedule {
    /// What is asked was kept when it was last looked.
    watched: bool,
    sample: Instant,
    read: Instant,
    read_out: Option<Instant>,
}

impl Session {
    /// Lets the target run, and asks until `stop`. The target runs on afterwards.
    pub(super) fn run(mut self, stop: &AtomicBool) {
        let mut outcome = self.begin().and_then(|()| self.ask_until(stop));
        while let Err(StubError::Io(_) | StubError::Closed) = &outcome
            && !stop.load(Ordering::Relaxed)
            && self.connect_again(stop)
        {
            outcome = self.go_on_again().and_then(|()| self.ask_until(stop));
        }
        if outcome.as_ref().is_err_and(StubError::is_an_answer) {
            self.let_run();
        }
        self.client.leave();
        let error = outcome.err().map(|error| format!("{:#}", anyhow::Error::from(error)));
        let _ = self.outbox.send(Message::Ended { error });
    }

    /// As well as it can be done: no breakpoints, and running.
    fn let_run(&mut self) {
        let _ = hold(&mut self.client).and_then(|()| self.clear_points());
        let _ = self.client.go_on();
    }

    fn begin(&mut self) -> Result<(), StubError> {
        self.begin_points()?;
        if let Some(read_out) = self.questions.read_out {
            read_out.start(&mut self.client)?;
        }
        self.client.go_on()?;
        self.happened(What::Released, None);
        Ok(())
    }

    /// After a broken connection: whether there is a new one.
    fn connect_again(&mut self, stop: &AtomicBool) -> bool {
        self.happened_to_stream(What::Disconnected);
        let until = Instant::now() + self.reconnect;
        while Instant::now() < until && !stop.load(Ordering::Relaxed) {
            if let Ok(client) = Client::connect(&self.address) {
                self.client = client;
                return true;
            }
            thread::sleep(BETWEEN_TRIES);
        }
        false
    }

    /// Whatever the target did meanwhile, and whether or not it stands: it runs, and is asked, again.
    fn go_on_again(&mut self) -> Result<(), StubError> {
        hold(&mut self.client)?;
        self.begin_points_again()?;
        self.happened_to_stream(What::Reconnected);
        self.resume().map(drop)
    }

    fn ask_until(&mut self, stop: &AtomicBool) -> Result<(), StubError> {
        let now = Instant::now();
        let read_out = self.questions.read_out_every.map(|every| now + every);
        let watched = self.is_watched();
        let mut due = Schedule { watched, sample: self.next_sample(), read: now, read_out };
        while !stop.load(Ordering::Relaxed) {
            let next = self.ask_what_is_due(&mut due)?;
            if let Next::End = next {
                return Ok(());
            }
            if let Next::End = self.wait(self.wake(&due))? {
                return Ok(());
            }
        }
        self.note_priorities();
        match self.read_out()? {
            Next::On => self.end_points(),
            Next::End => Ok(()),
        }
    }

    fn ask_what_is_due(&mut self, due: &mut Schedule) -> Result<Next, StubError> {
        let now = Instant::now();
        // What nobody keeps is not asked for.
        let watched = self.is_watched();
        let opened = watched && !std::mem::replace(&mut due.watched, watched);
        if std::mem::take(&mut self.stood) || opened {
            // A sample that fell due while the core stood, or nobody looked, would always find it
            // just after that. The wait has no memory: it begins anew.
            due.sample = self.next_sample();
        }
        if self.questions.sample_every.is_some() && watched && now >= due.sample {
            if let Next::End = self.sample()? {
                return Ok(Next::End);
            }
            due.sample = self.next_sample();
        }
        if !self.questions.variables.is_empty() && watched && now >= due.read {
            if let Next::End = self.read_variables()? {
                return Ok(Next::End);
            }
            due.read = (due.read + self.questions.read_every).max(Instant::now());
        }
        let asked = self.read_out_now.swap(false, Ordering::Relaxed);
        if asked || due.read_out.is_some_and(|at| now >= at) {
            if let Next::End = self.read_out()? {
                return Ok(Next::End);
            }
            due.read_out = self.questions.read_out_every.map(|every| Instant::now() + every);
        }
        Ok(Next::On)
    }

    /// Whether what is asked now is kept. Of its own windows a session knows first.
    fn is_watched(&self) -> bool {
        self.questions.windows.is_open() || self.watched.load(Ordering::Relaxed)
    }

    /// When there is something to do again.
    fn wake(&self, due: &Schedule) -> Instant {
        let mut wake = Instant::now() + GLANCE;
        wake = due.read_out.map_or(wake, |at| wake.min(at));
        if !self.is_watched() {
            return wake;
        }
        if self.questions.sample_every.is_some() {
            wake = wake.min(due.sample);
        }
        if !self.questions.variables.is_empty() {
            wake = wake.min(due.read);
        }
        wake
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

    /// Something that makes a gap in what was asked.
    fn happened_to_stream(&self, what: What) {
        let _ = self.outbox.send(Message::Happened { stream: self.stream, what, detail: None });
    }
}
