//! Events to what happens on lanes.

use super::columns::Columns;
use super::lane::{Doing, Entry, LaneKey, Piece, What};
use crate::event::{CoreSet, Event, Name, Position, Sink, Statement, Thing};
use crate::image::Image;
use crate::measure::console::{Console, Line, Lines, Source, format};
use crate::measure::dissection::Actor;
use crate::measure::execution::OnStack;
use crate::measure::interrupts::{
    Cut, GridFit, Late, Nesting, Run, Runner, THREAD, Watcher as InterruptWatcher,
};
use crate::measure::tasks::{Spell, State, Tracking, Watcher as TaskWatcher};
use crate::time::Window;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// Entries, and pieces, that are kept one by one at most; lanes have columns beyond that.
pub const MOST_ENTRIES: usize = 200_000;
/// Lanes at most.
const MOST_LANES: usize = 256;
/// Names at most.
const MOST_NAMES: usize = 4096;
/// Letters of a text that are kept.
const LONGEST_TEXT: usize = 80;

/// Everything that happens, lane by lane.
pub struct Gather<'a> {
    interrupts: Nesting<Handlers>,
    tasks: Tracking<Turns>,
    console: Console<Texts<'a>>,
    spans: FxHashMap<u32, Window>,
    /// What things are called.
    pub names: FxHashMap<Thing, Name>,
    /// The cores of which something was told.
    pub cores: CoreSet,
    /// What lanes did, by lane.
    pub lanes: BTreeMap<LaneKey, Columns>,
    /// Single stretches, in the order in which they ended.
    pub pieces: Vec<Piece>,
    /// Single moments, in about the order of time.
    pub entries: Vec<Entry>,
    /// What was on the stack, as far as it was there for long enough to be drawn by name.
    pub calls: Vec<OnStack>,
    /// There were more pieces or entries than are kept.
    pub cut: bool,
    /// Where something may be missing.
    pub gaps: Vec<(Window, Window)>,
    /// The first moment, and the last; of the stretch that is looked at, where there is one.
    pub range: Option<(u64, u64)>,
    /// Only this is looked at.
    window: Option<(u64, u64)>,
    /// Where there are too many entries, the last are kept.
    pub keeps_last: bool,
    /// The last moment of each core.
    last: Vec<(u8, Window)>,
}

/// What handlers did since it was last asked.
#[derive(Default)]
struct Handlers {
    core: u8,
    pieces: Vec<Piece>,
    entries: Vec<Entry>,
    /// When periodic ones must have been requested, where the firmware does not say.
    grids: FxHashMap<(u8, u16), GridFit>,
}

impl Handlers {
    /// Fits what waits for its grid: no more comes, or time is missing.
    fn settle(&mut self) {
        let core = self.core;
        let mine = self.grids.iter_mut().filter(|((of, _), _)| *of == core);
        for (&(core, exception), grid) in mine {
            let mut waits = Vec::new();
            let lane = LaneKey::Interrupt(core, exception);
            grid.settle(|late| waits.extend(waited(lane, &late)));
            keep(waits, grid, &mut self.pieces);
        }
    }
}

/// What is not periodic on the whole may seem so for a while: that says nothing.
fn keep(mut waits: Vec<Piece>, grid: &GridFit, pieces: &mut Vec<Piece>) {
    if grid.is_periodic() {
        pieces.append(&mut waits);
    }
}

/// From when an exception was due to its start, if it certainly was late.
fn waited(lane: LaneKey, late: &Late) -> Option<Piece> {
    let &Late { due, began, pending, .. } = late;
    (pending.low > 0).then_some(Piece { lane, doing: Doing::Wants, from: due, until: began })
}

impl InterruptWatcher for Handlers {
    fn turns_to(&mut self, core: u8) {
        self.core = core;
    }

    fn entered(&mut self, exception: u16, time: Option<Window>) {
        if let Some(time) = time {
            let lane = LaneKey::Interrupt(self.core, exception);
            self.entries.push(Entry { time, lane, what: What::Entered });
        }
    }

    fn did(&mut self, runner: Runner, from: Window, until: Window) {
        let lane = match runner {
            Runner::Exception(THREAD) => LaneKey::Thread(self.core),
            Runner::Exception(number) => LaneKey::Interrupt(self.core, number),
            Runner::Switching | Runner::Unknown => return,
        };
        self.pieces.push(Piece { lane, doing: Doing::Runs, from, until });
    }

    fn ran(&mut self, run: &Run) {
        let lane = LaneKey::Interrupt(self.core, run.exception);
        let Some((began, ended)) = run.began.zip(run.ended) else { return };
        let mut piece = |doing, from, until| self.pieces.push(Piece { lane, doing, from, until });
        piece(Doing::Open, began, ended);
        if let Some(requested) = run.requested {
            piece(Doing::Wants, requested, began);
        } else if self.grids.len() < MOST_LANES
            || self.grids.contains_key(&(self.core, run.exception))
        {
            let key = (self.core, run.exception);
            let grid = self.grids.entry(key).or_insert_with(|| GridFit::new(false));
            let mut waits = Vec::new();
            grid.add(0, began, ended, |late| waits.extend(waited(lane, &late)));
            keep(waits, grid, &mut self.pieces);
        }
        self.entries.push(Entry { time: ended, lane, what: What::Left(run.elapsed()) });
    }

    fn cut(&mut self, why: Cut) {
        match why {
            Cut::Run(_) => {}
            // No time is missing: grids go on.
            Cut::Gap | Cut::GapGoesOn => {
                let core = self.core;
                let mine = self.grids.iter_mut().filter(|((of, _), _)| *of == core);
                mine.for_each(|(_, grid)| grid.gap());
            }
            Cut::Slip | Cut::Contradiction => self.settle(),
        }
    }
}

/// What tasks did since it was last asked.
#[derive(Default)]
struct Turns {
    core: u8,
    pieces: Vec<Piece>,
    entries: Vec<Entry>,
}

impl TaskWatcher for Turns {
    fn turns_to(&mut self, core: u8) {
        self.core = core;
    }

    fn did(&mut self, actor: Actor, from: Window, until: Window) {
        let lane = match actor {
            Actor::Task(task) => LaneKey::Task(task),
            Actor::Kernel => LaneKey::Kernel(self.core),
            Actor::Exception(_) | Actor::Switching => return,
        };
        self.pieces.push(Piece { lane, doing: Doing::Runs, from, until });
    }

    fn was(&mut self, task: u32, did: Spell) {
        let lane = LaneKey::Task(task);
        let doing = match did.state {
            State::Runs => Some(Doing::Open),
            State::Ready => Some(Doing::Wants),
            State::Waits(_) => Some(Doing::Waits),
            State::Sleeps | State::Ended | State::Away | State::Unknown => None,
        };
        if let Some(doing) = doing {
            self.pieces.push(Piece { lane, doing, from: did.from, until: did.until });
        }
        // What else it did then was stated.
        if did.state == State::Runs && did.then == State::Ready {
            self.entries.push(Entry { time: did.until, lane, what: What::Preempted });
        }
    }
}

/// Lines since it was last asked.
struct Texts<'a> {
    image: Option<&'a Image>,
    entries: Vec<Entry>,
}

impl Lines for Texts<'_> {
    fn line(&mut self, line: Line<'_>) {
        let Some(time) = line.time else { return };
        let text_at = |address| self.image.and_then(|image| image.text_at(address));
        let (port, text) = match line.source {
            Source::Port(port) => (Some(port), line.written()),
            Source::Text { format: at, arguments } => {
                let text = text_at(at).map(|text| format(&text, arguments.as_slice(), text_at));
                (None, text.unwrap_or_else(|| format!("text at {at:#010x}")))
            }
        };
        let text: String = text.trim_end().chars().take(LONGEST_TEXT).collect();
        let what = What::Said(text.into());
        self.entries.push(Entry { time, lane: LaneKey::Text(port), what });
    }
}

impl<'a> Gather<'a> {
    /// Nothing seen yet; `image` holds formats of texts. All events must come, but only what happens
    /// from the one tick of `window` to the other is gathered.
    #[must_use]
    pub fn new(ticks_per_cycle: f64, image: Option<&'a Image>, window: Option<(u64, u64)>) -> Self {
        Self {
            interrupts: Nesting::new(ticks_per_cycle, Handlers::default()),
            tasks: Tracking::new(Turns::default()),
            console: Console::new(Texts { image, entries: Vec::new() }),
            spans: FxHashMap::default(),
            names: FxHashMap::default(),
            cores: CoreSet::NONE,
            lanes: BTreeMap::new(),
            pieces: Vec::new(),
            entries: Vec::new(),
            calls: Vec::new(),
            cut: false,
            gaps: Vec::new(),
            range: window,
            window,
            keeps_last: false,
            last: Vec::new(),
        }
    }

    /// The recording has ended.
    pub fn finish(&mut self) {
        self.console.finish();
        for core in self.cores.iter() {
            self.interrupts.turn_to(core);
            self.interrupts.watcher.settle();
        }
        self.drain();
        self.entries.sort_by_key(|entry| entry.time.latest);
    }

    /// The moments between which something is looked at.
    fn limits(&self) -> (u64, u64) {
        self.window.unwrap_or((0, u64::MAX))
    }

    fn piece(&mut self, piece: Piece) {
        let (Some((start, _)), (first, last)) = (self.range, self.limits()) else { return };
        if piece.until.latest < first || piece.from.latest > last {
            return;
        }
        let clipped = |time: Window| Window::exact(time.latest.clamp(first, last));
        let outside = piece.from.latest < first || piece.until.latest > last;
        let piece = match outside {
            true => Piece { from: clipped(piece.from), until: clipped(piece.until), ..piece },
            false => piece,
        };
        if let Some(columns) = self.lane(piece.lane) {
            let after = |time: Window| time.latest.saturating_sub(start);
            columns.add(piece.doing, after(piece.from), after(piece.until));
        }
        if self.pieces.len() < MOST_ENTRIES {
            self.pieces.push(piece);
        } else {
            self.cut = true;
        }
    }

    /// A value, or an access, of a signal.
    pub fn add(&mut self, entry: Entry) {
        let Some((start, _)) = self.range else { return };
        self.mark(&entry, start);
        self.entries.push(entry);
    }

    /// Marks the moment on its lane, where that shows moments.
    fn mark(&mut self, entry: &Entry, start: u64) {
        let at = entry.time.latest.saturating_sub(start);
        let has_moments = entry.lane.has_moments();
        if let Some(columns) = self.lane(entry.lane).filter(|_| has_moments) {
            columns.add(Doing::Mark, at, at);
        }
    }

    fn entry(&mut self, entry: Entry) {
        let (Some((start, _)), (first, last)) = (self.range, self.limits()) else { return };
        if !(first..=last).contains(&entry.time.latest) {
            return;
        }
        self.mark(&entry, start);
        if self.entries.len() == MOST_ENTRIES {
            self.cut = true;
            if !self.keeps_last {
                return;
            }
            self.entries.drain(..MOST_ENTRIES / 2);
        }
        self.entries.push(entry);
    }

    /// Something was on the stack; it is kept one by one if it was there for so many ticks.
    pub(super) fn called(&mut self, call: OnStack, long_enough: u64) {
        let Some((start, end)) = self.range else { return };
        let (from, until) = (call.from.latest.max(start), call.until.latest.min(end));
        if from >= until {
            return;
        }
        let lane = LaneKey::Call(call.depth);
        if let Some(columns) = self.lane(lane) {
            columns.add(Doing::Runs, from - start, until - start);
        }
        if until - from >= long_enough {
            let (from, until) = (Window::exact(from), Window::exact(until));
            self.pieces.push(Piece { lane, doing: Doing::Runs, from, until });
            self.calls.push(OnStack { from, until, ..call });
        }
    }

    fn sampled(&mut self, time: Option<Window>, awake: bool) {
        let (Some((start, _)), Some(time)) = (self.range, time) else { return };
        let (first, last) = self.limits();
        if (first..=last).contains(&time.latest)
            && let Some(columns) = self.lane(LaneKey::Load)
        {
            columns.sample(time.latest.saturating_sub(start), awake);
        }
    }

    fn lane(&mut self, key: LaneKey) -> Option<&mut Columns> {
        if self.lanes.len() >= MOST_LANES && !self.lanes.contains_key(&key) {
            self.cut = true;
            return None;
        }
        Some(self.lanes.entry(key).or_default())
    }

    fn stated(&mut self, statement: &Statement, now: Option<Window>) {
        let moment = |lane, what| now.map(|time| Entry { time, lane, what });
        let entry = match *statement {
            Statement::Named(thing, ref name) => {
                if self.names.len() < MOST_NAMES {
                    self.names.insert(thing, name.clone());
                }
                None
            }
            Statement::SpanBegan { span } => {
                if let Some(now) = now.filter(|_| self.spans.len() < MOST_NAMES) {
                    self.spans.insert(span, now);
                }
                moment(LaneKey::Span(span), What::Begins)
            }
            Statement::SpanEnded { span } => {
                let lane = LaneKey::Span(span);
                if let Some((from, until)) = self.spans.remove(&span).zip(now) {
                    self.piece(Piece { lane, doing: Doing::Runs, from, until });
                }
                moment(lane, What::Ends)
            }
            Statement::Ready { task } => moment(LaneKey::Task(task), What::Ready),
            Statement::Runs { task, .. } => moment(LaneKey::Task(task), What::Runs),
            Statement::Stops { task, why } => moment(LaneKey::Task(task), What::Stops(why)),
            Statement::Takes { object } => moment(LaneKey::Object(object), What::Takes),
            Statement::Gives { object } => moment(LaneKey::Object(object), What::Gives),
            _ => None,
        };
        if let Some(entry) = entry {
            self.entry(entry);
        }
    }

    fn lost(&mut self, Position { core, time, .. }: Position) {
        self.spans.clear();
        let Some(now) = time else { return };
        let last = self.last.iter().find(|(of, _)| *of == core).map(|(_, last)| *last);
        let since = last.filter(|last| last.latest <= now.latest).unwrap_or(now);
        let (first, last) = self.limits();
        let inside = since.latest <= last && now.latest >= first;
        if inside && self.gaps.len() < MOST_ENTRIES {
            self.gaps.push((since, now));
        }
        self.entry(Entry { time: now, lane: LaneKey::Recording, what: What::Lost });
    }

    /// This moment of its core has passed.
    fn passed(&mut self, Position { core, time, .. }: Position) {
        let Some(now) = time else { return };
        match self.last.iter_mut().find(|(of, _)| *of == core) {
            Some((_, last)) => *last = now,
            None => self.last.push((core, now)),
        }
    }

    /// What the event ended.
    fn drain(&mut self) {
        let mut pieces = std::mem::take(&mut self.interrupts.watcher.pieces);
        let mut entries = std::mem::take(&mut self.interrupts.watcher.entries);
        pieces.append(&mut self.tasks.watcher_mut().pieces);
        entries.append(&mut self.tasks.watcher_mut().entries);
        entries.append(&mut self.console.tell.entries);
        pieces.drain(..).for_each(|piece| self.piece(piece));
        entries.drain(..).for_each(|entry| self.entry(entry));
        self.interrupts.watcher.pieces = pieces;
        self.interrupts.watcher.entries = entries;
    }
}

impl Sink for Gather<'_> {
    fn event(&mut self, position: Position, event: &Event) {
        self.cores.add(position.core);
        if let (Some(time), None) = (position.time, self.window) {
            let (start, end) = self.range.unwrap_or((time.earliest, time.latest));
            self.range = Some((start.min(time.earliest), end.max(time.latest)));
        }
        if event.is_sample() {
            self.sampled(position.time, *event != Event::Asleep);
            self.passed(position);
            return;
        }
        self.interrupts.event(position, event);
        self.tasks.event(position, event);
        self.console.event(position, event);
        self.drain();
        match event {
            Event::Stated(statement) => self.stated(statement, position.time),
            Event::Lost { .. } | Event::Unwatched | Event::ClockFault(_) => self.lost(position),
            _ => {}
        }
        self.passed(position);
    }
}
