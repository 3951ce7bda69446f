//! Who runs: exception entries, exits and returns to runs of handlers, one inside the other.
//!
//! A core that takes an exception says *entered*, one that ends it says *left*; then it says
//! *resumed* with what goes on below (DDI 0403E, table D4-6), or *entered* again if the next
//! exception follows without a return in between (tail-chaining). Whatever does not fit this is a
//! contradiction: packets were lost and nothing said so. After a loss or a contradiction nothing
//! that had begun gets a duration, and what lies below is unknown until the core says it.

use crate::event::Parked;
use crate::event::{Event, LossReason, Position, Sink, Statement};
use crate::measure::dissection::{Actor, Dissection};
use crate::measure::gap::GapWatch;
use crate::stats::Ticks;
use crate::time::Window;

/// Thread mode, as *resumed* numbers it.
pub const THREAD: u16 = 0;

/// A handler that starts more core cycles after another one's end does not follow it.
const LONGEST_CHAIN: f64 = 256.0;

/// How long from one moment to another.
#[must_use]
pub fn between(from: Window, to: Window) -> Ticks {
    Ticks {
        low: to.earliest.saturating_sub(from.latest),
        high: to.latest.saturating_sub(from.earliest),
    }
}

/// What the core does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Runner {
    /// Runs a handler, or thread mode (0).
    Exception(u16),
    /// Saves or restores registers, between a handler's end and what comes after.
    Switching,
    /// Nothing says what.
    Unknown,
}

/// A handler's run that was seen from its beginning to its end.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Run {
    /// Which exception.
    pub exception: u16,
    /// When its handler started; absent without timestamps.
    pub began: Option<Window>,
    /// When it ended.
    pub ended: Option<Window>,
    /// When the hardware had asked for it, if the firmware stated that.
    pub requested: Option<Window>,
    /// How long it ran, without what pre-empted it.
    pub own: Ticks,
    /// What it interrupted: an exception, or thread mode; unknown after a gap.
    pub below: Option<u16>,
    /// Handlers that ran inside it, deepest nesting of them.
    pub depth: u16,
    /// How often it was pre-empted.
    pub preempted: u32,
    /// It started right after another handler's end.
    pub chained: Option<Chained>,
}

impl Run {
    /// Of which nothing is known yet.
    const fn of(exception: u16) -> Self {
        Self {
            exception,
            began: None,
            ended: None,
            requested: None,
            own: Ticks { low: 0, high: 0 },
            below: None,
            depth: 0,
            preempted: 0,
            chained: None,
        }
    }

    /// From its start to its end; `None` without timestamps.
    #[must_use]
    pub fn elapsed(&self) -> Option<Ticks> {
        Some(between(self.began?, self.ended?))
    }
}

/// How a tail-chained handler came to run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Chained {
    /// The handler that ended just before: the exception waited at least since then.
    pub behind: u16,
    /// When that one ended.
    pub since: Option<Window>,
    /// What was interrupted below when the chain began: if the exception may pre-empt that, it did
    /// not wait longer than since then.
    pub below: Option<u16>,
    /// When that was.
    pub below_until: Option<Window>,
}

/// Sees what the core does, in order.
pub trait Watcher {
    /// What comes next is of this core; before that, of core 0.
    #[inline]
    fn turns_to(&mut self, _core: u8) {}
    /// A handler's run is complete.
    #[inline]
    fn ran(&mut self, _run: &Run) {}
    /// A handler starts.
    #[inline]
    fn entered(&mut self, _exception: u16, _time: Option<Window>) {}
    /// From `from` to `until` the core did this.
    #[inline]
    fn did(&mut self, _runner: Runner, _from: Window, _until: Window) {}
    /// A run is open at an edge of the recording: this much of it was seen.
    fn open(&mut self, _exception: u16, _open: Open) {}
    /// What is told next to be missing may be so since this tick.
    fn lacks_since(&mut self, _earliest: u64) {}
    /// Something is missing here; so many runs that had begun have no end, or the reverse.
    fn cut(&mut self, _why: Cut) {}
    /// The gap that was told before, which loses no time, lies in this window.
    fn missing(&mut self, _gap: Window) {}
    /// So many ticks of which nothing was known before were this exception's, or thread mode's (0).
    fn was(&mut self, _exception: u16, _ticks: u64) {}
    /// A run of which something is missing lasted so many ticks at most.
    fn hid(&mut self, _longest: u64) {}
}

/// What was seen of a run that the recording does not hold from its beginning to its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Open {
    /// It had begun before the recording; otherwise it had not ended when the recording did.
    pub at_start: bool,
    /// From start to end it took at least so many ticks.
    pub elapsed: u64,
    /// Without what pre-empted it at least so many.
    pub own: u64,
}

/// Why a run has no duration.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cut {
    /// It had begun before a gap, or it ended after one.
    Run(u16),
    /// A gap in the recording that loses no time: packets were dropped.
    Gap,
    /// The gap before goes on, though something was told in between.
    GapGoesOn,
    /// A gap in the recording that loses time too, or something left out by choice.
    Slip,
    /// Entries, exits and returns contradict each other.
    Contradiction,
}

impl Cut {
    /// Nothing is missing but events: times on both sides can be compared.
    #[must_use]
    pub const fn keeps_time(self) -> bool {
        matches!(self, Self::Gap | Self::GapGoesOn)
    }
}

#[derive(Debug, Clone, Copy)]
struct Frame {
    /// What is known of it so far.
    run: Run,
    /// Its beginning was seen.
    whole: bool,
    /// It runs since then, or was interrupted then.
    since: Option<Window>,
}

/// A handler that ended, before what follows is known.
#[derive(Debug, Clone, Copy)]
struct Ended {
    exception: u16,
    at: Option<Window>,
}

/// When an event happened, in a type that says whether that is known: a window then goes from hand to
/// hand in registers. As an option it went through memory, written in words and read in pairs, which
/// costs as much as adding up a figure.
trait When: Copy {
    fn window(self) -> Option<Window>;
}

impl When for Window {
    fn window(self) -> Option<Window> {
        Some(self)
    }
}

/// Nothing tells when.
impl When for () {
    fn window(self) -> Option<Window> {
        None
    }
}

/// What is known of one core.
#[derive(Debug, Clone)]
struct Core {
    stack: Vec<Frame>,
    /// What lies below the stack is thread mode, not something unseen.
    grounded: bool,
    /// Thread mode, or the unknown, runs since then or was interrupted then.
    ground_since: Option<Window>,
    /// Ticks below the stack, as long as it is not known whose they are.
    ground_unknown: u64,
    ended: Option<Ended>,
    gaps: GapWatch,
    /// Since a gap something may run that began then, or later, unseen.
    hidden_since: Option<u64>,
    /// Nothing was missing so far.
    whole: bool,
}

impl Core {
    fn new() -> Self {
        Self {
            stack: Vec::with_capacity(16),
            grounded: false,
            ground_since: None,
            ground_unknown: 0,
            ended: None,
            gaps: GapWatch::default(),
            hidden_since: None,
            whole: true,
        }
    }

    /// The exception that runs now; 0 is thread mode; `None` if it is not known.
    fn running(&self) -> Option<u16> {
        match self.stack.last() {
            _ if self.ended.is_some() => None,
            Some(frame) => Some(frame.run.exception),
            None => self.grounded.then_some(THREAD),
        }
    }
}

/// Follows entries and exits, on each core by itself; hands on what it finds.
#[derive(Debug, Clone)]
pub struct Nesting<W> {
    /// The core whose events come now: mostly there is no other, and nothing is looked up.
    now: Core,
    number: u8,
    /// The other cores.
    others: Parked<Core>,
    /// Of the origin's clock.
    ticks_per_cycle: f64,
    /// Who looks on.
    pub watcher: W,
}

impl<W: Watcher> Nesting<W> {
    /// Nothing is known yet. The origin's clock ticks so many times in a core cycle.
    pub fn new(ticks_per_cycle: f64, watcher: W) -> Self {
        Self { ticks_per_cycle, now: Core::new(), number: 0, others: Parked::default(), watcher }
    }

    /// What comes next is of this core.
    #[inline(always)]
    pub(crate) fn turn_to(&mut self, core: u8) {
        if core != self.number {
            self.exchange(core);
        }
    }

    #[cold]
    fn exchange(&mut self, core: u8) {
        self.others.exchange(self.number, &mut self.now, core, Core::new);
        self.number = core;
        self.watcher.turns_to(core);
    }

    /// The exception that runs now; 0 is thread mode; `None` if it is not known.
    #[must_use]
    pub fn running(&self) -> Option<u16> {
        self.now.running()
    }

    /// Since when thread mode runs, if it does.
    #[must_use]
    pub fn thread_since(&self) -> Option<Window> {
        self.now.ground_since.filter(|_| self.running() == Some(THREAD))
    }

    fn below(&self) -> Option<u16> {
        let frame = self.now.stack.last().map(|frame| frame.run.exception);
        frame.or(self.now.grounded.then_some(THREAD))
    }

    fn enter(&mut self, exception: u16, now: impl When) {
        let now = now.window();
        if self.now.stack.iter().any(|frame| frame.run.exception == exception) {
            // No exception interrupts itself.
            self.forget(Cut::Contradiction);
        }
        let ended = self.now.ended.take();
        let below = self.below();
        let chained = if let Some(ended) = ended {
            self.did(Runner::Switching, ended.at, now);
            let follows = self.follows(&ended, now);
            follows.then(|| self.chained(ended, below))
        } else {
            self.pause(now);
            None
        };
        self.watcher.entered(exception, now);
        let run = Run { began: now, below, chained, ..Run::of(exception) };
        self.now.stack.push(Frame { run, whole: true, since: now });
    }

    /// Whether a handler that starts now follows the one that ended without anything in between. A core takes
    /// some ten cycles for that (and waits for the bus): after a longer time it slept on exit.
    fn follows(&self, ended: &Ended, now: Option<Window>) -> bool {
        ended.at.zip(now).is_none_or(|(ended, now)| {
            let apart = now.earliest.saturating_sub(ended.latest) as f64;
            apart <= LONGEST_CHAIN * self.ticks_per_cycle.max(1.0 / LONGEST_CHAIN)
        })
    }

    fn chained(&self, ended: Ended, below: Option<u16>) -> Chained {
        let below_until = match self.now.stack.last() {
            Some(frame) => frame.since,
            None => self.now.ground_since,
        };
        Chained { behind: ended.exception, since: ended.at, below, below_until }
    }

    #[inline]
    fn did(&mut self, runner: Runner, from: Option<Window>, until: Option<Window>) {
        if let (Some(from), Some(until)) = (from, until) {
            self.watcher.did(runner, from, until);
        }
    }

    /// What runs is interrupted.
    #[inline]
    fn pause(&mut self, now: Option<Window>) {
        if let Some(frame) = self.now.stack.last_mut() {
            frame.run.preempted += 1;
            let since = std::mem::replace(&mut frame.since, now);
            if let (Some(since), Some(now)) = (since, now) {
                frame.run.own += between(since, now);
                self.watcher.did(Runner::Exception(frame.run.exception), since, now);
            }
        } else {
            let since = std::mem::replace(&mut self.now.ground_since, now);
            if self.now.grounded {
                self.did(Runner::Exception(THREAD), since, now);
            } else {
                self.pause_unknown(since, now);
            }
        }
    }

    /// What runs below is interrupted, and is not known yet: whatever the core resumes later.
    #[cold]
    fn pause_unknown(&mut self, since: Option<Window>, now: Option<Window>) {
        let first = || self.now.gaps.first().filter(|_| self.now.whole).map(Window::exact);
        if let Some((since, now)) = since.or_else(first).zip(now) {
            self.now.ground_unknown += now.latest.saturating_sub(since.latest);
            self.watcher.did(Runner::Unknown, since, now);
        }
    }

    fn leave(&mut self, exception: u16, now: impl When) {
        let now = now.window();
        match self.now.stack.last_mut() {
            Some(frame) if frame.run.exception == exception && self.now.ended.is_none() => {
                frame.run.ended = now;
                if let (Some(since), Some(now)) = (frame.since, now) {
                    frame.run.own += between(since, now);
                    self.watcher.did(Runner::Exception(exception), since, now);
                }
                let (whole, depth, own) = (frame.whole, frame.run.depth + 1, frame.run.own.low);
                if whole {
                    self.watcher.ran(&frame.run);
                }
                self.now.stack.truncate(self.now.stack.len() - 1);
                if let Some(around) = self.now.stack.last_mut() {
                    around.run.depth = around.run.depth.max(depth);
                }
                if !whole {
                    self.began_before(exception, own, now);
                    self.cut_run(exception, now);
                }
            }
            _ => self.leave_unexpected(exception, now),
        }
        self.now.ended = Some(Ended { exception, at: now });
    }

    /// After a gap an exit without an entry is what one expects, once nothing else runs.
    #[cold]
    fn leave_unexpected(&mut self, exception: u16, now: Option<Window>) {
        if !self.now.stack.is_empty() || self.now.grounded || self.now.ended.is_some() {
            self.forget(Cut::Contradiction);
        }
        // Nothing came between: all that was seen of it is its own.
        let seen =
            self.now.gaps.first().zip(now).map(|(first, now)| now.earliest.saturating_sub(first));
        let own = if self.now.ground_since.is_none() { seen.unwrap_or(0) } else { 0 };
        self.began_before(exception, own, now);
        self.cut_run(exception, now);
    }

    /// A run ended that had begun before the recording, unless it began in a gap.
    #[cold]
    fn began_before(&mut self, exception: u16, own: u64, now: Option<Window>) {
        if let (true, Some(first), Some(now)) = (self.now.whole, self.now.gaps.first(), now) {
            let elapsed = now.earliest.saturating_sub(first);
            self.watcher.open(exception, Open { at_start: true, elapsed, own });
        }
    }

    /// A run ended of which something is missing.
    #[cold]
    fn cut_run(&mut self, exception: u16, now: Option<Window>) {
        self.watcher.cut(Cut::Run(exception));
        self.hid_until(now);
    }

    fn resume(&mut self, exception: u16, now: impl When) {
        let now = now.window();
        let top = self.below();
        let fits = match top {
            Some(top) => {
                top == exception && (self.now.ended.is_some() || self.now.stack.is_empty())
            }
            // Nothing was known: now it is.
            None => true,
        };
        if !fits {
            self.forget(Cut::Contradiction);
        }
        if let Some(ended) = self.now.ended.take() {
            self.did(Runner::Switching, ended.at, now);
        } else if top.is_some() && fits {
            // Thread mode went on already: nothing new.
            return;
        }
        if self.now.stack.is_empty() && self.now.ground_unknown > 0 {
            let ticks = std::mem::take(&mut self.now.ground_unknown);
            self.watcher.was(exception, ticks);
        }
        match self.now.stack.last_mut() {
            Some(frame) => frame.since = now,
            None if exception == THREAD => {
                self.now.grounded = true;
                self.now.ground_since = now;
                self.now.hidden_since = None;
            }
            None => {
                self.now.stack.push(Frame { run: Run::of(exception), whole: false, since: now });
            }
        }
    }

    /// The exception that runs had been requested so many core cycles before `now`.
    #[cold]
    fn requested(&mut self, cycles_ago: u32, now: Option<Window>) {
        let ago = (f64::from(cycles_ago) * self.ticks_per_cycle).round() as u64;
        let running = self.now.stack.last_mut().filter(|_| self.now.ended.is_none());
        if let (Some(frame), Some(now)) = (running, now) {
            let at = |cycle: u64| cycle.saturating_sub(ago);
            frame.run.requested =
                Some(Window { earliest: at(now.earliest), latest: at(now.latest) });
        }
    }

    /// What ran unseen since a gap ran up to here at most.
    fn hid_until(&mut self, now: Option<Window>) {
        if let Some(since) = self.now.hidden_since {
            self.watcher.hid(now.map_or(u64::MAX, |now| now.latest.saturating_sub(since)));
        }
    }

    /// Nothing has a time so far, and nothing was seen to run.
    fn is_before_all(&self) -> bool {
        self.now.gaps.first().is_none()
            && self.now.stack.is_empty()
            && !self.now.grounded
            && self.now.ended.is_none()
    }

    /// An event without a time, where others have times: it lies somewhere between those around it, as if it
    /// had been lost. Whether that is so.
    #[cold]
    pub(crate) fn undated(&mut self) -> bool {
        let has_times = self.now.gaps.first().is_some();
        if has_times {
            let last = Window::exact(self.now.gaps.last());
            self.lose(Cut::Gap, Some(last));
        }
        has_times
    }

    /// The core sleeps right behind a handler (sleep on exit): whatever comes next was not waiting meanwhile.
    #[cold]
    fn slept(&mut self) {
        self.now.ended = None;
        if let Some(frame) = self.now.stack.last_mut() {
            frame.since = None;
        } else {
            self.now.ground_since = None;
        }
    }

    /// Something is missing between the event before this one and the one after.
    #[cold]
    fn lose(&mut self, why: Cut, now: Option<Window>) {
        let (true, Some(now)) = (why.keeps_time(), now) else { return self.forget(Cut::Slip) };
        let earliest = self.now.gaps.begin(now);
        let began = self.now.stack.iter().filter_map(|frame| frame.run.began);
        let began = began.map(|began| began.earliest).chain(self.now.hidden_since);
        self.now.hidden_since = Some(began.fold(earliest, u64::min));
        self.watcher.lacks_since(earliest);
        self.forget(why);
    }

    /// The event comes first after a gap.
    #[cold]
    fn end_gap(&mut self, gap: Window) {
        self.watcher.missing(gap);
        self.hid_until(Some(gap));
        if self.now.stack.is_empty() && !self.now.grounded {
            self.now.ground_since = Some(Window::exact(gap.latest));
        }
    }

    /// What has begun gets no end, and nothing is known of what runs.
    #[cold]
    fn forget(&mut self, why: Cut) {
        self.now.whole = false;
        if !why.keeps_time() {
            self.watcher.hid(u64::MAX);
        }
        for frame in self.now.stack.drain(..) {
            self.watcher.cut(Cut::Run(frame.run.exception));
        }
        self.now.grounded = false;
        self.now.ground_since = None;
        self.now.ground_unknown = 0;
        self.now.ended = None;
        self.watcher.cut(why);
    }

    /// What runs does so up to the end of the recording, unless something is missing there.
    fn reach_end(&mut self, end: Option<u64>) {
        let runs = self.now.ended.is_none() && self.now.gaps.at_end().is_none();
        let since = self.now.stack.last().map_or(self.now.ground_since, |frame| frame.since);
        if let (true, Some(since), Some(end)) = (runs, since, end.map(Window::exact)) {
            let runner = match self.now.stack.last() {
                Some(frame) => Runner::Exception(frame.run.exception),
                None if self.now.grounded => Runner::Exception(THREAD),
                None => Runner::Unknown,
            };
            self.watcher.did(runner, since, end);
        }
    }

    /// The recording ends: what still runs has no end.
    pub fn finish(self) -> W {
        self.finish_at(None)
    }

    /// The same, and it ended at this tick, if that is known.
    #[must_use]
    pub fn finish_at(mut self, end: Option<u64>) -> W {
        for core in self.cores() {
            self.turn_to(core);
            self.finish_core(self.end_of_core(end));
        }
        self.watcher
    }

    /// All cores, by number.
    pub(crate) fn cores(&self) -> Vec<u8> {
        let others = self.others.iter().map(|(core, _)| core);
        let mut cores: Vec<u8> = others.chain([self.number]).collect();
        cores.sort_unstable();
        cores
    }

    /// Up to where the core was watched whose events came last: of several each up to its own last event.
    pub(crate) fn end_of_core(&self, end: Option<u64>) -> Option<u64> {
        if self.others.is_empty() { end } else { end.map(|end| end.min(self.now.gaps.last())) }
    }

    /// The core that is looked at does nothing more.
    fn finish_core(&mut self, end: Option<u64>) {
        self.reach_end(end);
        if let Some(gap) = self.now.gaps.at_end() {
            self.watcher.missing(gap);
        }
        if self.now.hidden_since.is_some() {
            self.watcher.hid(u64::MAX);
        }
        let top = self.running();
        let first = self.now.gaps.first().filter(|_| self.now.whole);
        for frame in self.now.stack.drain(..) {
            // Of one that began before the recording, all of that is a part.
            let began = frame.run.began.map(|began| began.latest).or(first);
            if let (Some(began), Some(end)) = (began, end) {
                // The innermost runs until the end.
                let runs = top.filter(|top| *top == frame.run.exception).and(frame.since);
                let since = runs.map_or(0, |since| end.saturating_sub(since.latest));
                let own = frame.run.own.low.saturating_add(since);
                let elapsed = end.saturating_sub(began);
                self.watcher.open(frame.run.exception, Open { at_start: false, elapsed, own });
            }
            self.watcher.cut(Cut::Run(frame.run.exception));
        }
    }
}

impl<W: Watcher> Sink for Nesting<W> {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        self.turn_to(position.core);
        if let Some(gap) = self.now.gaps.pass(position, event) {
            self.end_gap(gap);
        }
        match *event {
            Event::Entered { exception } => match position.time {
                Some(now) => self.enter(exception, now),
                None if self.undated() => self.watcher.entered(exception, None),
                None => self.enter(exception, ()),
            },
            Event::Left { exception } => match position.time {
                Some(now) => self.leave(exception, now),
                None if self.undated() => {}
                None => self.leave(exception, ()),
            },
            Event::Resumed { exception } => match position.time {
                Some(now) => self.resume(exception, now),
                None if self.undated() => {}
                None => self.resume(exception, ()),
            },
            Event::Asleep if self.now.ended.is_some() => self.slept(),
            // Before the first moment and behind the last nothing is missing of the recording.
            Event::Lost { why, .. }
                if why.is_end() || position.time.is_none() && self.is_before_all() => {}
            Event::Lost { why: LossReason::Shared, .. } => {
                self.lose(Cut::GapGoesOn, position.time);
            }
            Event::Lost { why, .. } => {
                let why = if why.loses_bytes() { Cut::Slip } else { Cut::Gap };
                self.lose(why, position.time);
            }
            Event::Unwatched => self.forget(Cut::Slip),
            Event::LeftOut => {
                // What runs did so up to here.
                if self.now.ended.is_none() {
                    self.pause(position.time);
                }
                self.forget(Cut::Slip);
            }
            Event::Stated(Statement::Requested { cycles_ago }) => {
                self.requested(cycles_ago, position.time);
            }
            _ => {}
        }
    }
}

/// Nobody looks on.
impl Watcher for () {}

/// Looks into the stretches of a [`Dissection`]: nothing tells tasks apart.
impl Watcher for Dissection {
    fn turns_to(&mut self, core: u8) {
        self.turn_to(core);
    }

    #[inline]
    fn did(&mut self, runner: Runner, from: Window, until: Window) {
        let actor = match runner {
            Runner::Exception(number) => Actor::Exception(number),
            Runner::Switching => Actor::Switching,
            Runner::Unknown => return,
        };
        Self::did(self, actor, from, until);
    }
}
