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
    /// Only within these, after the start.
    pub(crate) windows: Vec<(Duration, Duration)>,
    /// Only while a source says so ([`Message::Watch`]); with both, while either is the case.
    pub(crate) waits_for_points: bool,
}

impl Limits {
    /// Whether everything is kept that comes.
    const fn keeps_always(&self) -> bool {
        self.windows.is_empty() && !self.waits_for_points
    }
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
        /// Bytes that were kept, but that whoever watches was too slow for.
        unseen: u64,
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

/// Who sends to a recorder.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Sources {
    /// How many streams there are.
    pub(crate) streams: usize,
    /// How many sources will say that they ended.
    pub(crate) open: usize,
    /// One of them is a debug stub, which ends when it is told to.
    pub(crate) has_stub: bool,
}

/// What whoever watches missed of a stream. A loss outweighs what he was merely too slow for.
#[derive(Debug, Clone, Copy, Default)]
struct Missed {
    why: Option<LossReason>,
    bytes: u64,
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
    /// What whoever watches missed, by stream: the gap that he must be told of before he sees more.
    missed: Vec<Option<Missed>>,
    /// A source says that what comes now is to be kept.
    between_points: bool,
    /// What comes now is kept. Sources look at it too: what nobody keeps need not be asked for.
    watched: &'a AtomicBool,
    error: Option<String>,
}

impl<'a> Recorder<'a> {
    /// A recorder; it ends at `stop`, and says in `watched` whether it keeps what comes.
    pub(crate) fn new(
        store: Store,
        limits: Limits,
        watcher: SyncSender<Seen>,
        sources: Sources,
        stop: &'a AtomicBool,
        watched: &'a AtomicBool,
    ) -> Self {
        let Sources { streams, open, has_stub } = sources;
        let zero = store.started();
        let from_zero = limits.windows.iter().any(|(from, _)| from.is_zero());
        watched.store(limits.keeps_always() || from_zero, Ordering::Relaxed);
        Self {
            store,
            limits,
            watcher,
            stop,
            streams,
            open,
            has_stub,
            zero,
            missed: vec![None; streams],
            between_points: false,
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
        if self.limits.keeps_always() {
            return Ok(());
        }
        let now = self.zero.elapsed();
        let in_time =
            self.limits.windows.iter().any(|(from, until)| (*from..*until).contains(&now));
        let watched = in_time || self.between_points;
        if self.watched.swap(watched, Ordering::Relaxed) == watched {
            return Ok(());
        }
        for stream in 0..self.streams {
            let what = if watched { What::Watched } else { What::Unwatched };
            self.store.note(Some(stream), what, None)?;
            if watched {
                self.show(Seen::Gap { stream, why: None, unseen: 0 });
            }
        }
        Ok(())
    }

    /// One message. What it says is why it is enough.
    fn take(&mut self, message: Message) -> Result<Option<String>> {
        match message {
            Message::Bytes { stream, bytes } => {
                if self.watched.load(Ordering::Relaxed) {
                    self.keep(stream, bytes)?;
                }
            }
            Message::Preface { stream, bytes } => self.keep(stream, bytes)?,
            Message::Watch(on) => {
                self.between_points = on;
                self.look_at_windows()?;
            }
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
                    self.show(Seen::Gap { stream, why, unseen: 0 });
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
        let room = self.store.room(stream).min(self.limits.bytes.map_or(u64::MAX, |most| {
            let all: u64 = (0..self.streams).map(|stream| self.store.offset(stream)).sum();
            most.saturating_sub(all)
        }));
        bytes.truncate(usize::try_from(room).unwrap_or(usize::MAX));
        self.store.append(stream, &bytes)?;
        self.show(Seen::Bytes { stream, bytes });
        Ok(())
    }

    /// Passes something on, unless whoever watches is too slow: nothing is ever kept back for him.
    fn show(&mut self, seen: Seen) {
        let (stream, why, length) = match &seen {
            Seen::Bytes { stream, bytes } => (*stream, None, bytes.len() as u64),
            Seen::Gap { stream, why, .. } => (*stream, *why, 0),
            Seen::Happened(_) => {
                let _ = self.watcher.try_send(seen);
                return;
            }
        };
        if let Some(Missed { why, bytes }) = self.missed[stream]
            && self.watcher.try_send(Seen::Gap { stream, why, unseen: bytes }).is_ok()
        {
            self.missed[stream] = None;
        }
        let is_behind = self.missed[stream].is_some();
        if is_behind || matches!(self.watcher.try_send(seen), Err(TrySendError::Full(_))) {
            let missed = self.missed[stream].get_or_insert_default();
            missed.why = missed.why.or(why);
            missed.bytes += length;
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

#[cfg(test)]
mod tests {
    use super::super::{Keep, Outbox};
    use super::*;
    use crate::sources::Place;
    use std::sync::mpsc::sync_channel;
    use std::thread;
    use tempfile::TempDir;
    use weltblick_core::capture::{ItmSettings, Manifest, StreamSpec, parse_journal};

    const ONE: Sources = Sources { streams: 1, open: 1, has_stub: false };

    /// Records what `send` sends; the bytes that were kept, the summary, what was seen, and the
    /// journal's words.
    fn recorded(
        limits: Limits,
        most_seen: usize,
        send: impl FnOnce(Outbox) + Send,
    ) -> (Vec<u8>, Summary, Vec<Seen>, Vec<What>) {
        let temporary = TempDir::new().unwrap();
        let folder = temporary.path().join("run");
        let stream = StreamSpec::itm(Vec::new(), ItmSettings::default());
        let stream = StreamSpec { segments: Some("trace".into()), ..stream };
        let manifest = Manifest { streams: vec![stream], ..Manifest::default() };
        let store = Store::create(&folder, Place::New, &manifest, None, Keep::All).unwrap();
        let (outbox, inbox) = sync_channel(4);
        let (watcher, seen) = sync_channel(most_seen);
        let (stop, watched) = (AtomicBool::new(false), AtomicBool::new(true));
        let summary = thread::scope(|scope| {
            scope.spawn(move || send(outbox));
            Recorder::new(store, limits, watcher, ONE, &stop, &watched).run(&inbox)
        });
        let bytes = std::fs::read(folder.join("trace.000000.bin")).unwrap();
        let journal = std::fs::read_to_string(folder.join("journal.jsonl")).unwrap();
        let words = parse_journal(&journal).unwrap().into_iter().map(|entry| entry.what);
        (bytes, summary, seen.try_iter().collect(), words.collect())
    }

    fn bytes(text: &str) -> Message {
        Message::Bytes { stream: 0, bytes: text.as_bytes().to_vec() }
    }

    #[test]
    fn keeps_everything_until_the_source_ends() {
        let (kept, summary, seen, words) = recorded(Limits::default(), 8, |outbox| {
            outbox.send(bytes("abc")).unwrap();
            outbox.send(bytes("def")).unwrap();
            outbox.send(Message::Ended { error: None }).unwrap();
        });
        assert_eq!((kept.as_slice(), summary.bytes), (b"abcdef".as_slice(), vec![6]));
        assert!(summary.error.is_none() && summary.reason.contains("came to its end"));
        assert_eq!((seen.len(), words), (2, vec![What::Ended]));
    }

    #[test]
    fn stops_at_the_byte_that_was_asked_for() {
        let limits = Limits { bytes: Some(4), ..Limits::default() };
        let (kept, summary, ..) = recorded(limits, 8, |outbox| {
            for _ in 0..10 {
                if outbox.send(bytes("abc")).is_err() {
                    return;
                }
            }
        });
        assert_eq!((kept.as_slice(), summary.bytes), (b"abca".as_slice(), vec![4]));
    }

    #[test]
    fn a_break_is_noted_and_shown_and_an_error_is_told() {
        let (_, summary, seen, words) = recorded(Limits::default(), 8, |outbox| {
            let happened = |what| Message::Happened { stream: Some(0), what, detail: None };
            outbox.send(bytes("abc")).unwrap();
            outbox.send(happened(What::Disconnected)).unwrap();
            outbox.send(happened(What::Reconnected)).unwrap();
            outbox.send(Message::Ended { error: Some("gone".into()) }).unwrap();
        });
        assert_eq!(words, [What::Disconnected, What::Reconnected, What::Ended]);
        let gaps = seen
            .iter()
            .filter(|seen| matches!(seen, Seen::Gap { why: Some(LossReason::Disconnected), .. }));
        assert_eq!((gaps.count(), summary.error.unwrap().to_string().as_str()), (1, "gone"));
    }

    #[test]
    fn nothing_is_kept_back_for_a_view_that_is_too_slow() {
        let (kept, _, seen, _) = recorded(Limits::default(), 2, |outbox| {
            for _ in 0..50 {
                outbox.send(bytes("abc")).unwrap();
            }
            outbox.send(Message::Ended { error: None }).unwrap();
        });
        assert_eq!((kept.len(), seen.len()), (150, 2));
    }

    #[test]
    fn a_loss_that_a_slow_view_missed_is_told_before_it_sees_more() {
        let temporary = TempDir::new().unwrap();
        let stream = StreamSpec::itm(Vec::new(), ItmSettings::default());
        let stream = StreamSpec { segments: Some("trace".into()), ..stream };
        let manifest = Manifest { streams: vec![stream], ..Manifest::default() };
        let folder = temporary.path().join("run");
        let store = Store::create(&folder, Place::New, &manifest, None, Keep::All).unwrap();
        let (watcher, seen) = sync_channel(2);
        let stop = AtomicBool::new(false);
        let watched = AtomicBool::new(true);
        let mut recorder = Recorder::new(store, Limits::default(), watcher, ONE, &stop, &watched);
        let gap = |why| Seen::Gap { stream: 0, why, unseen: 0 };
        let bytes = || Seen::Bytes { stream: 0, bytes: vec![1] };
        recorder.show(bytes());
        recorder.show(bytes());
        // No room: bytes, a loss and more bytes are missed.
        recorder.show(bytes());
        recorder.show(gap(Some(LossReason::Disconnected)));
        recorder.show(bytes());
        assert_eq!(seen.try_iter().count(), 2);
        recorder.show(bytes());
        let told: Vec<Seen> = seen.try_iter().collect();
        assert!(
            matches!(
                told[..],
                [
                    Seen::Gap { why: Some(LossReason::Disconnected), unseen: 2, .. },
                    Seen::Bytes { .. }
                ]
            ),
            "{told:?}"
        );
    }

    #[test]
    fn between_points_is_kept_what_comes_and_explanations_always() {
        let limits = Limits { waits_for_points: true, ..Limits::default() };
        let (kept, _, seen, words) = recorded(limits, 16, |outbox| {
            let preface = |text: &str| Message::Preface { stream: 0, bytes: text.into() };
            outbox.send(preface("names,")).unwrap();
            for text in ["before,", "between,", "after,", "again,"] {
                let on = !matches!(text, "before," | "after,");
                outbox.send(Message::Watch(on)).unwrap();
                outbox.send(bytes(text)).unwrap();
            }
            outbox.send(Message::Ended { error: None }).unwrap();
        });
        assert_eq!(String::from_utf8(kept).unwrap(), "names,between,again,");
        assert_eq!(words, [What::Watched, What::Unwatched, What::Watched, What::Ended]);
        let gaps = seen.iter().filter(|seen| matches!(seen, Seen::Gap { why: None, .. })).count();
        assert_eq!(gaps, 2, "{seen:?}");
    }

    #[test]
    fn a_window_that_begins_with_the_capture_makes_no_gap() {
        let window = (Duration::ZERO, Duration::from_secs(100));
        let limits = Limits { windows: vec![window], ..Limits::default() };
        let (kept, .., words) = recorded(limits, 8, |outbox| {
            outbox.send(bytes("abc")).unwrap();
            outbox.send(Message::Ended { error: None }).unwrap();
        });
        assert_eq!((kept.as_slice(), words), (b"abc".as_slice(), vec![What::Ended]));
    }

    #[test]
    fn outside_windows_nothing_is_kept() {
        let window = (Duration::from_secs(100), Duration::from_secs(200));
        let limits = Limits { windows: vec![window], ..Limits::default() };
        let (kept, ..) = recorded(limits, 8, |outbox| {
            outbox.send(bytes("abc")).unwrap();
            outbox.send(Message::Stop("enough".into())).unwrap();
        });
        assert!(kept.is_empty());
    }
}
