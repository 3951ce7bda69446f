//! The recorder: everything that sources send goes into the folder, at once and in order.

use super::{Message, Store};
use anyhow::Result;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError};
use std::time::{Duration, Instant};
use weltblick_core::capture::What;
use weltblick_core::event::LossReason;

/// How often limits are looked at while nothing comes.
const GLANCE: Duration = Duration::from_millis(10);
/// Sources that read without end are waited for so long.
const FAREWELL: Duration = Duration::from_millis(150);
/// A debug stub reads buffers out at the end; that may take so long.
const READ_OUT: Duration = Duration::from_secs(30);

/// When a capture ends, and what of it is kept.
#[derive(Debug, Clone, Default)]
pub(crate) struct Limits {
    /// After so many bytes of all streams.
    pub(crate) bytes: Option<u64>,
    /// After so long.
    pub(crate) time: Option<Duration>,
    /// Only within these, after the start; none: always.
    pub(crate) windows: Vec<(Duration, Duration)>,
}

/// What the recorder passes on to whoever watches.
#[derive(Debug)]
pub(crate) enum Seen {
    /// Bytes that were kept.
    Bytes {
        /// Of which stream.
        stream: usize,
        /// They.
        bytes: Vec<u8>,
    },
    /// Bytes are missing here, or were not kept by choice.
    Gap {
        /// Of which stream.
        stream: usize,
        /// Why.
        why: Option<LossReason>,
    },
    /// Something that the journal holds too.
    Happened(What),
}

/// How a capture ended.
#[derive(Debug)]
pub(crate) struct Summary {
    /// Why.
    pub(crate) reason: String,
    /// It ended otherwise than was asked for.
    pub(crate) error: Option<anyhow::Error>,
    /// Bytes of each stream.
    pub(crate) bytes: Vec<u64>,
    /// How long it took.
    pub(crate) time: Duration,
}

/// The recorder of one capture.
pub(crate) struct Recorder<'a> {
    store: Store,
    limits: Limits,
    watcher: SyncSender<Seen>,
    stop: &'a AtomicBool,
    streams: usize,
    /// Sources that have not ended.
    open: usize,
    /// One of them is a debug stub, which ends when it is told to.
    has_stub: bool,
    /// When the target was let run; times count from here.
    zero: Instant,
    /// Streams of which whoever watches missed something.
    behind: Vec<bool>,
    watched: bool,
    error: Option<String>,
}

impl<'a> Recorder<'a> {
    /// A recorder for `sources` sources of `streams` streams.
    pub(crate) fn new(
        store: Store,
        limits: Limits,
        watcher: SyncSender<Seen>,
        stop: &'a AtomicBool,
        streams: usize,
        sources: usize,
        has_stub: bool,
    ) -> Self {
        let zero = store.started();
        let watched = limits.windows.is_empty();
        Self {
            store,
            limits,
            watcher,
            stop,
            streams,
            open: sources,
            has_stub,
            zero,
            behind: vec![false; streams],
            watched,
            error: None,
        }
    }

    /// Records until an end. The folder is readable whatever happens.
    pub(crate) fn run(mut self, inbox: &Receiver<Message>) -> Summary {
        let began = self.store.started();
        let outcome = self.record(inbox);
        self.stop.store(true, Ordering::Relaxed);
        let (reason, mut error) = match outcome {
            Ok(reason) => (reason, None),
            Err(error) => (format!("{error:#}"), Some(error)),
        };
        if error.is_none() {
            error = self.drain(inbox).err();
        }
        // A full disk may refuse this too: the folder can be read without it.
        let _ = self.store.note(None, What::Ended, Some(reason.clone()));
        if error.is_none() {
            error = self.error.take().map(anyhow::Error::msg);
        }
        let bytes = (0..self.streams).map(|stream| self.store.offset(stream)).collect();
        Summary { reason, error, bytes, time: began.elapsed() }
    }

    fn record(&mut self, inbox: &Receiver<Message>) -> Result<String> {
        loop {
            if self.stop.load(Ordering::Relaxed) {
                return Ok("stopped".into());
            }
            if let Some(reason) = self.limit() {
                return Ok(reason);
            }
            self.look_at_windows()?;
            match inbox.recv_timeout(GLANCE) {
                Ok(message) => {
                    if let Some(reason) = self.take(message)? {
                        return Ok(reason);
                    }
                }
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return Ok("all sources ended".into()),
            }
        }
    }

    /// Why it is enough.
    fn limit(&self) -> Option<String> {
        if self.limits.time.is_some_and(|time| self.zero.elapsed() >= time) {
            return Some("the time is over".into());
        }
        let all = || (0..self.streams).map(|stream| self.store.offset(stream)).sum::<u64>();
        if self.limits.bytes.is_some_and(|most| all() >= most) {
            return Some("all bytes that were asked for are here".into());
        }
        let full = (0..self.streams).any(|stream| self.store.room(stream) == 0);
        full.then(|| "as much as is kept is here".into())
    }

    /// Switches keeping on and off as windows begin and end.
    fn look_at_windows(&mut self) -> Result<()> {
        if self.limits.windows.is_empty() {
            return Ok(());
        }
        let now = self.zero.elapsed();
        let watched =
            self.limits.windows.iter().any(|(from, until)| (*from..*until).contains(&now));
        if watched == self.watched {
            return Ok(());
        }
        self.watched = watched;
        for stream in 0..self.streams {
            let what = if watched { What::Watched } else { What::Unwatched };
            self.store.note(Some(stream), what, None)?;
            if watched {
                self.show(Seen::Gap { stream, why: None });
            }
        }
        Ok(())
    }

    /// One message. What it says is why it is enough.
    fn take(&mut self, message: Message) -> Result<Option<String>> {
        match message {
            Message::Bytes { stream, bytes } => self.keep(stream, bytes)?,
            Message::Happened { stream, what, detail } => {
                if what == What::Released {
                    self.zero = Instant::now();
                }
                self.store.note(stream, what, detail)?;
                if let (What::ReadOut, Some(stream)) = (what, stream) {
                    self.store.begin_segment(stream)?;
                }
                let why = match what {
                    What::Reconnected => Some(LossReason::Disconnected),
                    What::Overwritten => Some(LossReason::Overwritten),
                    _ => None,
                };
                if let (Some(stream), true) = (stream, why.is_some() || what == What::ReadOut) {
                    self.show(Seen::Gap { stream, why });
                }
                self.show(Seen::Happened(what));
            }
            Message::Ended { error } => {
                self.open = self.open.saturating_sub(1);
                let reason = error.clone().unwrap_or_else(|| "the source came to its end".into());
                self.error = self.error.take().or(error);
                if self.open == 0 {
                    return Ok(Some(reason));
                }
            }
            Message::Stop(reason) => return Ok(Some(reason)),
        }
        Ok(None)
    }

    fn keep(&mut self, stream: usize, mut bytes: Vec<u8>) -> Result<()> {
        if !self.watched {
            return Ok(());
        }
        let room = self.store.room(stream).min(self.limits.bytes.map_or(u64::MAX, |most| {
            let all: u64 = (0..self.streams).map(|stream| self.store.offset(stream)).sum();
            most.saturating_sub(all)
        }));
        bytes.truncate(usize::try_from(room).unwrap_or(usize::MAX));
        self.store.append(stream, &bytes)?;
        if self.behind[stream] {
            let seen = self.watcher.try_send(Seen::Gap { stream, why: None });
            self.behind[stream] = seen.is_err();
        }
        if !self.behind[stream] {
            self.show(Seen::Bytes { stream, bytes });
        }
        Ok(())
    }

    /// Passes something on, unless whoever watches is too slow: nothing is ever kept back for him.
    fn show(&mut self, seen: Seen) {
        if let Err(TrySendError::Full(Seen::Bytes { stream, .. } | Seen::Gap { stream, .. })) =
            self.watcher.try_send(seen)
        {
            self.behind[stream] = true;
        }
    }

    /// What was received before the end still belongs to the capture.
    fn drain(&mut self, inbox: &Receiver<Message>) -> Result<()> {
        let patience = if self.has_stub { READ_OUT } else { FAREWELL };
        let until = Instant::now() + patience;
        while self.open > 0 {
            let left = until.saturating_duration_since(Instant::now());
            match inbox.recv_timeout(left) {
                Ok(message) => drop(self.take(message)?),
                Err(_) => break,
            }
        }
        Ok(())
    }
}
