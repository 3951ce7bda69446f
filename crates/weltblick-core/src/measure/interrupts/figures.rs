//! Figures of every exception: how often, how long, how regular, how late.

use super::grid::{GridFit, Late};
use super::nesting::{Cut, Open, Run, Runner, THREAD, Watcher, between};
use crate::event::Parked;
use crate::measure::bridges::Bridges;
use crate::measure::earlier::Earlier;
use crate::measure::worst::{Bad, Worst};
use crate::stats::{Spread, Ticks};
use crate::time::Window;

/// Exception numbers of a core: 9 bits.
const EXCEPTIONS: usize = 512;
/// The place of an exception that was not seen.
const NO_ROW: u16 = u16::MAX;
/// Runs listed one by one at most.
pub const MOST_EACH: usize = 200_000;
/// Exceptions with percentiles at most: it bounds the memory, whatever a stream says.
const MOST_DETAILED: usize = 64;

/// Figures of one exception, in ticks.
#[derive(Debug, Clone)]
pub struct Figures {
    /// The core on which its handler ran.
    pub core: u8,
    /// Its number.
    pub exception: u16,
    /// How often its handler was entered.
    pub entries: u64,
    /// Runs without a duration: something is missing inside.
    pub cut: u64,
    /// Of these, open when the recording began, and when it ended.
    pub open: [u64; 2],
    /// The longest that was seen of an open one, from start to end.
    pub open_elapsed: u64,
    /// The longest that an open one was seen to run itself, without what pre-empted it.
    pub open_own: u64,
    /// From the last start to the end of the recording, in ticks: no start came in that time.
    pub silence: Ticks,
    /// Without what pre-empted it.
    pub own: Spread,
    /// From start to end.
    pub elapsed: Spread,
    /// From start to start.
    pub period: Spread,
    /// From one such period to the next, the difference.
    pub jitter: Spread,
    /// From request to start, where the firmware stated the request.
    pub stated_pending: Spread,
    /// From request to end, where the firmware stated the request.
    pub stated_response: Spread,
    /// From request to start of tail-chained runs, as far as what ran before bounds it.
    pub chained_pending: Spread,
    /// Latency against the grid of requests.
    pub grid: GridFit,
    /// Ticks in which it ran, runs without a duration included.
    pub busy: u64,
    /// Runs that followed another handler without a return in between.
    pub chained: u64,
    /// Runs that were pre-empted.
    pub preempted: u64,
    /// Handlers inside it, one in the other, at most.
    pub depth: u16,
    /// The longest runs.
    pub worst_elapsed: Worst,
    /// The latest starts, by what the firmware stated.
    pub worst_stated: Worst,
    /// The latest starts, by the grid.
    pub worst_late: Worst,
    /// The longest from request to end, by the firmware, else by the grid.
    pub worst_response: [Worst; 2],
    /// Across gaps, from start to start.
    pub bridges: Bridges,
    /// What it held up.
    pub over: Vec<Preemption>,
    /// Every run, where that was asked for.
    pub each: Option<Vec<Bad>>,
    /// When the first run began, and ended.
    first: Option<[Window; 2]>,
    last: Option<Window>,
    last_period: Option<Ticks>,
    runs: u64,
}

impl Figures {
    fn new(core: u8, exception: u16, detailed: bool, keep: usize) -> Self {
        let spread = || Spread::new(detailed);
        Self {
            core,
            exception,
            entries: 0,
            cut: 0,
            open: [0; 2],
            open_elapsed: 0,
            open_own: 0,
            silence: Ticks::default(),
            own: spread(),
            elapsed: spread(),
            period: spread(),
            jitter: spread(),
            stated_pending: spread(),
            stated_response: spread(),
            chained_pending: spread(),
            grid: GridFit::new(detailed),
            busy: 0,
            chained: 0,
            preempted: 0,
            depth: 0,
            worst_elapsed: Worst::new(keep),
            worst_stated: Worst::new(keep),
            worst_late: Worst::new(keep),
            worst_response: [Worst::new(keep), Worst::new(keep)],
            bridges: Bridges::default(),
            over: Vec::new(),
            each: None,
            first: None,
            last: None,
            last_period: None,
            runs: 0,
        }
    }

    #[inline(always)]
    fn entered(&mut self, time: Option<Window>) {
        self.entries += 1;
        let Some((last, now)) = self.last.zip(time) else {
            time.iter().for_each(|now| self.bridges.reach(*now));
            self.last = time;
            return;
        };
        let period = between(last, now);
        self.period.add(period);
        if let Some(before) = self.last_period {
            self.jitter.add(period.difference(before));
        }
        self.last_period = Some(period);
        self.last = time;
    }

    #[inline]
    fn ran(&mut self, run: &Run) {
        let number = self.runs;
        self.runs += 1;
        if number == 0 {
            self.first = run.began.zip(run.ended).map(|(began, ended)| [began, ended]);
        }
        self.depth = self.depth.max(run.depth);
        self.preempted += u64::from(run.preempted > 0);
        self.chained += u64::from(run.chained.is_some());
        let elapsed = run.elapsed().unwrap_or_default();
        if let Some(below) = run.below {
            self.held_up(below, run.chained.is_some(), elapsed.doubled() / 2);
        }
        let (Some(began), Some(ended)) = (run.began, run.ended) else { return };
        self.own.add(run.own);
        self.elapsed.add(elapsed);
        let core = self.core;
        let bad = |ticks| Bad { core, ticks, number, requested: run.requested, began, ended };
        self.worst_elapsed.add(elapsed, bad);
        if let Some(each) = &mut self.each
            && each.len() < MOST_EACH
        {
            each.push(bad(elapsed));
        }
        // Nothing is served before it is asked for: a statement that says so is no request.
        if let Some(requested) = run.requested.filter(|at| at.earliest <= began.latest) {
            self.stated(number, requested, began, ended);
        }
        let Self { core, grid, worst_late, worst_response: [_, worst_response], each, .. } = self;
        let mut late = Remember { core: *core, worst_late, worst_response, each };
        grid.add(number, began, ended, |run| late.take(run));
    }

    /// It ran, and something below had to wait.
    #[inline]
    fn held_up(&mut self, below: u16, followed: bool, ticks: u64) {
        let at = self.over.iter().position(|over| over.below == below).unwrap_or_else(|| {
            self.over.push(Preemption { below, ..Preemption::default() });
            self.over.len() - 1
        });
        let over = &mut self.over[at];
        over.count += u64::from(!followed);
        over.followed += u64::from(followed);
        over.ticks = over.ticks.saturating_add(ticks);
    }

    #[inline(never)]
    fn stated(&mut self, number: u64, requested: Window, began: Window, ended: Window) {
        let core = self.core;
        let bad = |ticks| Bad { core, ticks, number, requested: Some(requested), began, ended };
        let (pending, response) = (between(requested, began), between(requested, ended));
        self.stated_pending.add(pending);
        self.stated_response.add(response);
        self.worst_stated.add(pending, bad);
        self.worst_response[0].add(response, bad);
    }

    /// Something is missing here. As long as no time is, a grid goes on.
    fn gap(&mut self, keeps_time: bool) {
        let (last, period) = (self.last.take(), self.last_period.take());
        if keeps_time {
            self.bridges.cut(last, period);
            return self.grid.gap();
        }
        self.bridges.lose();
        self.settle();
    }

    /// What waits for a grid gets one.
    fn settle(&mut self) {
        let Self { core, grid, worst_late, worst_response: [_, worst_response], each, .. } = self;
        let mut late = Remember { core: *core, worst_late, worst_response, each };
        grid.settle(|run| late.take(run));
    }
}

/// Receives the runs that a grid dates.
struct Remember<'a> {
    core: u8,
    worst_late: &'a mut Worst,
    worst_response: &'a mut Worst,
    each: &'a mut Option<Vec<Bad>>,
}

impl Remember<'_> {
    #[inline]
    fn take(&mut self, late: Late) {
        let Late { number, due, began, ended, pending, response } = late;
        let core = self.core;
        let bad = |ticks| Bad { core, ticks, number, requested: Some(due), began, ended };
        self.worst_late.add(pending, bad);
        self.worst_response.add(response, bad);
        // The list may lack runs without times: it is sorted by number all the same.
        if let Some(each) = self.each
            && let Ok(at) = each.binary_search_by_key(&number, |bad| bad.number)
        {
            each[at].requested = each[at].requested.or(Some(due));
        }
    }
}

/// How one handler held up another, or thread mode.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Preemption {
    /// What was held up.
    pub below: u16,
    /// How often it interrupted it.
    pub count: u64,
    /// How often it followed another handler before that one could go on.
    pub followed: u64,
    /// How long it ran then, in ticks.
    pub ticks: u64,
}

/// What is known of one core.
#[derive(Debug, Clone)]
struct OfCore {
    /// Where each exception's row is, or [`NO_ROW`].
    places: Box<[u16; EXCEPTIONS]>,
    /// Ticks in thread mode.
    thread: u64,
    /// Ticks between a handler's end and what came after.
    switching: u64,
    /// Gaps in the recording.
    gaps: u64,
    /// Entries, exits and returns that contradict each other.
    contradictions: u64,
    /// A run of which something is missing lasted so many ticks at most; `u64::MAX`: nothing tells.
    hidden: u64,
    /// Of an exception that was not seen so far.
    unseen: Bridges,
}

impl OfCore {
    fn new() -> Self {
        Self {
            places: Box::new([NO_ROW; EXCEPTIONS]),
            thread: 0,
            switching: 0,
            gaps: 0,
            contradictions: 0,
            hidden: 0,
            unseen: Bridges::default(),
        }
    }
}

/// Figures of all exceptions, of each core by itself.
#[derive(Debug, Clone)]
pub struct InterruptFigures {
    /// In the order in which they were first seen.
    rows: Vec<Figures>,
    /// The core whose events come now.
    core: u8,
    now: OfCore,
    others: Parked<OfCore>,
    keep: usize,
    /// Exceptions whose runs are wanted one by one.
    each: Vec<u16>,
    /// Deepest nesting: handlers active at once.
    pub deepest: u16,
}

impl InterruptFigures {
    /// Nothing seen yet; of the worst, so many are kept.
    #[must_use]
    pub fn new(keep: usize) -> Self {
        Self {
            rows: Vec::new(),
            core: 0,
            now: OfCore::new(),
            others: Parked::default(),
            keep,
            each: Vec::new(),
            deepest: 0,
        }
    }

    #[inline(always)]
    fn row(&mut self, exception: u16) -> Option<&mut Figures> {
        let place = *self.now.places.get(usize::from(exception))?;
        let place = if place == NO_ROW { self.new_row(exception) } else { place };
        self.rows.get_mut(usize::from(place))
    }

    #[cold]
    fn new_row(&mut self, exception: u16) -> u16 {
        let place = self.rows.len() as u16;
        let detailed = self.rows.len() < MOST_DETAILED;
        let mut figures = Figures::new(self.core, exception, detailed, self.keep);
        figures.each = self.each.contains(&exception).then(Vec::new);
        figures.bridges = self.now.unseen;
        self.rows.push(figures);
        self.now.places[usize::from(exception)] = place;
        place
    }

    /// Every run of these exceptions is wanted one by one, up to [`MOST_EACH`].
    pub fn list_each(&mut self, exceptions: impl IntoIterator<Item = u16>) {
        self.each.extend(exceptions);
    }

    /// What counts the runs before the first of each handler, by core and exception.
    #[must_use]
    pub fn earlier(&self) -> Earlier {
        let first = |row: &Figures| Some(((row.core, row.exception.into()), row.first?));
        Earlier::than(self.rows.iter().filter_map(first))
    }

    /// Runs have the numbers that they have in the whole recording.
    pub fn renumber(&mut self, earlier: &Earlier) {
        for row in &mut self.rows {
            let before = earlier.count((row.core, row.exception.into()));
            let [stated, late] = &mut row.worst_response;
            for worst in
                [&mut row.worst_elapsed, &mut row.worst_stated, &mut row.worst_late, stated, late]
            {
                worst.renumber(before);
            }
            row.each.iter_mut().flatten().for_each(|bad| bad.number += before);
        }
    }

    /// Figures of every exception that was seen.
    pub fn rows(&self) -> impl Iterator<Item = &Figures> {
        self.rows.iter().filter(|row| row.entries + row.cut > 0)
    }

    /// Figures of one exception, on each core that took it.
    pub fn of(&self, exception: u16) -> impl Iterator<Item = &Figures> {
        self.rows().filter(move |row| row.exception == exception)
    }

    /// Figures of the exception of another row, on the same core.
    #[must_use]
    pub fn same_as(&self, row: &Figures) -> Option<&Figures> {
        self.rows.iter().find(|other| (other.core, other.exception) == (row.core, row.exception))
    }

    /// Exceptions without percentiles, for there are too many.
    #[must_use]
    pub const fn undetailed(&self) -> usize {
        self.rows.len().saturating_sub(MOST_DETAILED)
    }

    /// Whether an exception was seen to interrupt another (or thread mode).
    #[must_use]
    pub fn interrupts(&self, above: &Figures, below: u16) -> bool {
        let over = || above.over.iter().find(|over| over.below == below);
        below == THREAD || over().is_some_and(|over| over.count > 0)
    }

    fn cores(&self) -> impl Iterator<Item = (u8, &OfCore)> {
        self.others.iter().chain([(self.core, &self.now)])
    }

    /// Ticks of which it is known what a core did.
    #[must_use]
    pub fn known_on(&self, core: u8) -> u64 {
        let rows = self.rows().filter(|row| row.core == core).map(|row| row.busy);
        rows.chain(self.on(core).map(|of| of.thread + of.switching)).sum()
    }

    /// What is known of one core.
    fn on(&self, core: u8) -> Option<&OfCore> {
        self.cores().find(|(number, _)| *number == core).map(|(_, of)| of)
    }

    /// Ticks of which it is known what ran, on all cores together.
    #[must_use]
    pub fn known(&self) -> u64 {
        let cores = self.cores().map(|(_, of)| of.thread + of.switching);
        cores.chain(self.rows().map(|row| row.busy)).sum()
    }

    /// Ticks in thread mode, on all cores together.
    #[must_use]
    pub fn thread(&self) -> u64 {
        self.cores().map(|(_, of)| of.thread).sum()
    }

    /// Gaps in the recording, and entries, exits and returns that contradict each other (losses that nothing told),
    /// on one core.
    #[must_use]
    pub fn gaps_on(&self, core: u8) -> u64 {
        self.on(core).map_or(0, |of| of.gaps + of.contradictions)
    }

    /// Gaps in the recording.
    #[must_use]
    pub fn gaps(&self) -> u64 {
        self.cores().map(|(_, of)| of.gaps).sum()
    }

    /// Entries, exits and returns that contradict each other: losses that nothing told.
    #[must_use]
    pub fn contradictions(&self) -> u64 {
        self.cores().map(|(_, of)| of.contradictions).sum()
    }

    /// A run on this core of which something is missing lasted so many ticks at most; `u64::MAX`: nothing tells.
    #[must_use]
    pub fn hidden_on(&self, core: u8) -> u64 {
        self.on(core).map_or(0, |of| of.hidden)
    }

    /// The longest run of any core of which something is missing, in ticks at most.
    #[must_use]
    pub fn hidden(&self) -> u64 {
        self.cores().map(|(_, of)| of.hidden).max().unwrap_or(0)
    }

    /// The recording has ended: what waits for a grid gets one.
    pub fn finish(&mut self) {
        self.rows.iter_mut().for_each(Figures::settle);
    }

    /// The recording ended at this tick: from the last starts to there nothing started.
    pub fn ended_at(&mut self, end: Option<Window>) {
        let Some(end) = end else { return };
        for row in &mut self.rows {
            row.silence = row.bridges.silence(row.last, end);
        }
    }
}

impl Watcher for InterruptFigures {
    #[cold]
    fn turns_to(&mut self, core: u8) {
        self.others.exchange(self.core, &mut self.now, core, OfCore::new);
        self.core = core;
    }

    #[inline]
    fn ran(&mut self, run: &Run) {
        self.deepest = self.deepest.max(run.depth + 1);
        let waited = self.chained(run);
        let Some(row) = self.row(run.exception) else { return };
        if let Some(waited) = waited {
            row.chained_pending.add(waited);
        }
        row.ran(run);
    }

    #[inline(always)]
    fn entered(&mut self, exception: u16, time: Option<Window>) {
        if let Some(row) = self.row(exception) {
            row.entered(time);
        }
    }

    #[inline(always)]
    fn did(&mut self, runner: Runner, from: Window, until: Window) {
        // Latest ends only: the stretches then add up to all of the time.
        let ticks = until.latest.saturating_sub(from.latest);
        match runner {
            Runner::Exception(THREAD) => self.now.thread += ticks,
            Runner::Exception(number) => {
                if let Some(row) = self.row(number) {
                    row.busy += ticks;
                }
            }
            Runner::Switching => self.now.switching += ticks,
            Runner::Unknown => {}
        }
    }

    fn open(&mut self, exception: u16, open: Open) {
        if let Some(row) = self.row(exception) {
            row.open[usize::from(!open.at_start)] += 1;
            row.open_elapsed = row.open_elapsed.max(open.elapsed);
            row.open_own = row.open_own.max(open.own);
        }
    }

    fn cut(&mut self, why: Cut) {
        match why {
            Cut::Run(exception) => {
                if let Some(row) = self.row(exception) {
                    row.cut += 1;
                }
                return;
            }
            Cut::Gap | Cut::Slip => self.now.gaps += 1,
            Cut::GapGoesOn => {}
            Cut::Contradiction => self.now.contradictions += 1,
        }
        self.mine().for_each(|row| row.gap(why.keeps_time()));
        match why {
            Cut::Gap | Cut::GapGoesOn => self.now.unseen.cut(None, None),
            _ => self.now.unseen.lose(),
        }
    }

    fn missing(&mut self, gap: Window) {
        self.mine().for_each(|row| row.bridges.missing(gap));
        self.now.unseen.missing(gap);
    }

    fn was(&mut self, exception: u16, ticks: u64) {
        if exception == THREAD {
            self.now.thread += ticks;
        } else if let Some(row) = self.row(exception) {
            row.busy += ticks;
        }
    }

    fn hid(&mut self, longest: u64) {
        self.now.hidden = self.now.hidden.max(longest);
    }
}

impl InterruptFigures {
    /// Rows of the core whose events come now.
    fn mine(&mut self) -> impl Iterator<Item = &mut Figures> {
        let core = self.core;
        self.rows.iter_mut().filter(move |row| row.core == core)
    }

    /// How long a tail-chained run had waited: at least since the handler before it ended, at most
    /// since something ran that its exception interrupts.
    #[inline]
    fn chained(&self, run: &Run) -> Option<Ticks> {
        let chained = run.chained?;
        let place = *self.now.places.get(usize::from(run.exception))?;
        let row = self.rows.get(usize::from(place))?;
        let (began, since, below_until) = (run.began?, chained.since?, chained.below_until?);
        self.interrupts(row, run.below?).then(|| Ticks {
            low: began.earliest.saturating_sub(since.latest),
            high: began.latest.saturating_sub(below_until.earliest),
        })
    }
}
