//! What truly happened: handlers that interrupt and follow each other, tasks, spans, samples. Known here, measured nowhere.

use crate::chance::Chance;
use std::ops::Range;

/// Addresses of functions of the image that the program is said to run.
pub(crate) const SINE: u32 = 0x0800_0a08;
pub(crate) const IDLE: u32 = 0x0800_00e0;
/// The handlers of exceptions 16 and further.
const HANDLERS: [u32; 4] = [0x0800_10fc, 0x0800_13f8, 0x0800_1370, 0x0800_13a0];

/// Something that the trace unit reports.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum What {
    Enter(u16),
    Leave(u16),
    Resume(u16),
    SpanBegins(u16),
    SpanEnds(u16),
    Ready(u16),
    Runs(u16),
    Stops(u16),
    Sample(u32),
    Value(i32),
}

/// From its beginning to its end, and how long it ran itself. One that never ended ends with the life.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Run {
    pub(crate) began: u64,
    pub(crate) ended: u64,
    /// When it had the core.
    pub(crate) pieces: Vec<Range<u64>>,
}

/// Once that a task had something to do: from when it was ready.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Turn {
    pub(crate) ready: u64,
    pub(crate) run: Run,
}

/// The number of the quantity that the firmware states.
pub(crate) const QUANTITY: u16 = 7;

/// The number of the first task.
pub(crate) const FIRST_TASK: u16 = 3;

/// One life of a core.
pub(crate) struct Life {
    pub(crate) events: Vec<(u64, What)>,
    /// By interrupt: 16 and further.
    pub(crate) runs: Vec<Vec<Run>>,
    pub(crate) spans: Vec<Run>,
    /// By task.
    pub(crate) tasks: Vec<Vec<Turn>>,
    /// What the firmware stated of a quantity, and when.
    pub(crate) values: Vec<(u64, i32)>,
    /// When `SINE` had the core.
    pub(crate) sine: Vec<Range<u64>>,
    pub(crate) sampling: u64,
    pub(crate) end: u64,
}

/// How a program behaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Habit {
    Usual,
    /// All interrupts fall silent after a tenth of the time.
    FallsSilent,
    /// Many short runs one after the other, somewhere.
    Storms,
    /// Bursts of work begin a fixed time after an interrupt whose period is that of the samples, or nearly.
    KeepsStep,
}

struct Source {
    period: u64,
    jitter: u64,
    length: u64,
    due: u64,
    pending: bool,
}

struct Active {
    source: usize,
    left: u64,
    since: u64,
    run: Run,
}

/// Cycles from a handler's end to what goes on then.
pub(crate) const TAIL: u64 = 6;

impl Life {
    /// A life in which no two things happen in one cycle.
    pub(crate) fn new(chance: &mut Chance, habit: Habit) -> Self {
        loop {
            let life = Self::any(chance, habit);
            if life.events.windows(2).all(|pair| pair[0].0 < pair[1].0) {
                return life;
            }
        }
    }

    /// A life in which nothing but work in thread mode happens, and samples.
    pub(crate) fn working(
        chance: &mut Chance,
        sine: Vec<Range<u64>>,
        sampling: u64,
        end: u64,
    ) -> Self {
        let (events, runs, spans, tasks) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let values = Vec::new();
        let mut life = Self { events, runs, spans, tasks, values, sine, sampling, end };
        life.samples(chance);
        life
    }

    fn any(chance: &mut Chance, habit: Habit) -> Self {
        let end = chance.within(3_000_000, 6_000_000);
        let sampling = chance.one_of(&[4093, 8191, 2048]);
        let mut sources: Vec<Source> = (0..chance.within(2, 5)).map(|_| source(chance)).collect();
        if habit == Habit::KeepsStep {
            let near = [0, 1, 3, sampling];
            sources[0].period = sampling * 4 + chance.one_of(&near);
            (sources[0].jitter, sources[0].due) = (chance.one_of(&[1, 200]), 1000);
        }
        let quiet = if habit == Habit::FallsSilent { end / 10 } else { end };
        let storm = (habit == Habit::Storms).then(|| chance.within(end / 4, end / 2));
        let mut life = Self {
            events: Vec::new(),
            runs: sources.iter().map(|_| Vec::new()).collect(),
            spans: Vec::new(),
            tasks: Vec::new(),
            values: Vec::new(),
            sine: Vec::new(),
            sampling,
            end,
        };
        life.interrupts(chance, &mut sources, quiet, storm);
        life.span(chance);
        life.schedule(chance, quiet);
        let starts: Vec<u64> = life.runs[0].iter().map(|run| run.began).collect();
        life.work(chance, habit, &starts, sources[0].period);
        life.state(chance, quiet);
        life.samples(chance);
        life.events.sort_by_key(|(at, _)| *at);
        life
    }

    fn interrupts(
        &mut self,
        chance: &mut Chance,
        sources: &mut [Source],
        quiet: u64,
        storm: Option<u64>,
    ) {
        let mut stack: Vec<Active> = Vec::new();
        let (mut now, mut stormy) = (0_u64, storm.map(|at| (at, 60_u64)));
        loop {
            let due = sources.iter().filter(|s| !s.pending && s.due < quiet).map(|s| s.due).min();
            let done = stack.last().map(|active| now + active.left);
            let Some(next) = due.into_iter().chain(done).min().filter(|next| *next < self.end)
            else {
                break;
            };
            let next = next.max(now + 1);
            if let Some(active) = stack.last_mut() {
                active.left -= (next - now).min(active.left);
            }
            now = next;
            for (place, source) in sources.iter_mut().enumerate() {
                if !source.pending && source.due <= now && source.due < quiet {
                    source.pending = true;
                    source.due += source.period + chance.within(0, source.jitter);
                    if let Some((at, left)) = &mut stormy
                        && place == 0
                        && now > *at
                        && *left > 0
                    {
                        (source.due, *left) = (now + 40, *left - 1);
                    }
                }
            }
            let ended = stack.last().is_some_and(|active| active.left == 0);
            if ended && let Some(mut active) = stack.pop() {
                active.run.pieces.push(active.since..now);
                active.run.ended = now;
                self.events.push((now, What::Leave(16 + active.source as u16)));
                self.runs[active.source].push(active.run);
                now += TAIL;
            }
            let running = stack.last().map_or(usize::MAX, |active| active.source);
            let wanted = sources.iter().position(|source| source.pending);
            match wanted.filter(|wanted| *wanted < running) {
                Some(wanted) => {
                    if let (false, Some(active)) = (ended, stack.last_mut()) {
                        active.run.pieces.push(active.since..now);
                    }
                    sources[wanted].pending = false;
                    let is_storm = stormy.is_some_and(|(at, left)| now > at && left > 0);
                    let usual = sources[wanted].length;
                    let left = if is_storm && wanted == 0 {
                        20
                    } else if chance.once_in(20) {
                        usual * 3
                    } else {
                        usual + chance.within(0, usual / 4 + 1)
                    };
                    self.events.push((now, What::Enter(16 + wanted as u16)));
                    let run = Run { began: now, ended: u64::MAX, pieces: Vec::new() };
                    stack.push(Active { source: wanted, left, since: now, run });
                }
                None if ended => {
                    let below = stack.last_mut().map_or(0, |active| {
                        active.since = now;
                        16 + active.source as u16
                    });
                    self.events.push((now, What::Resume(below)));
                }
                None => {}
            }
        }
        // Whatever runs when the life ends does so to its end.
        let top = stack.len();
        for (depth, mut active) in stack.into_iter().enumerate() {
            if depth + 1 == top {
                active.run.pieces.push(active.since..self.end);
            }
            self.runs[active.source].push(active.run);
        }
    }

    fn span(&mut self, chance: &mut Chance) {
        let (period, length) = (chance.within(20_000, 90_000), chance.within(500, 15_000));
        let mut at = chance.within(100, period);
        while at < self.end {
            let ended = at + length + chance.within(0, length);
            self.events.push((at, What::SpanBegins(5)));
            let mut run = Run { began: at, ended: u64::MAX, pieces: Vec::new() };
            if ended < self.end {
                self.events.push((ended, What::SpanEnds(5)));
                run.ended = ended;
            }
            self.spans.push(run);
            at = ended + 50 + period + chance.within(0, period / 8);
        }
    }

    /// A quantity that goes up and down, and sometimes stays.
    fn state(&mut self, chance: &mut Chance, quiet: u64) {
        let (period, step) = (chance.within(10_000, 80_000), chance.within(1, 60));
        let (mut at, mut value) = (chance.within(100, period), chance.within(0, 200) as i32 - 100);
        while at < self.end.min(quiet) {
            self.events.push((at, What::Value(value)));
            self.values.push((at, value));
            if !chance.once_in(6) {
                value += chance.within(0, 2 * step + 1) as i32 - step as i32;
            }
            at += period + chance.within(0, period);
        }
    }

    /// When handlers run, and the core goes in and out of them.
    fn busy(&self) -> Vec<Range<u64>> {
        let mut busy: Vec<Range<u64>> = Vec::new();
        let mut since = None;
        for &(at, what) in &self.events {
            match what {
                What::Enter(_) => {
                    since.get_or_insert(at);
                }
                What::Resume(0) => busy.extend(since.take().map(|since| since..at)),
                _ => {}
            }
        }
        busy.extend(since.map(|since| since..u64::MAX));
        busy
    }

    /// Two tasks, the first of which pre-empts the second.
    fn schedule(&mut self, chance: &mut Chance, quiet: u64) {
        let busy = self.busy();
        let mut tasks: Vec<Task> = (0..2).map(|_| Task::new(chance)).collect();
        self.tasks = vec![Vec::new(); tasks.len()];
        let (mut now, mut running) = (0_u64, None::<usize>);
        loop {
            let due = (0..tasks.len()).filter(|&t| tasks[t].due < quiet).map(|t| (tasks[t].due, t));
            let due = due.min();
            let done = running.map(|task| after(&busy, now, tasks[task].left));
            let stops = done.is_some_and(|done| due.is_none_or(|(due, _)| done < due));
            let at = if stops { done } else { due.map(|(due, _)| due) };
            let Some(at) = at.filter(|at| *at + 200 < self.end) else { break };
            if stops && let Some(task) = running.take() {
                self.events.push((at, What::Stops(FIRST_TASK + task as u16)));
                let turn = tasks[task].turn.take().unwrap();
                self.tasks[task].push(turn.ended(at, &busy));
                now = at;
            } else if let Some((_, task)) = due {
                let period = tasks[task].period;
                tasks[task].due += period + chance.within(0, period / 6);
                if tasks[task].turn.is_some() {
                    continue;
                }
                self.events.push((at, What::Ready(FIRST_TASK + task as u16)));
                tasks[task].left = tasks[task].length + chance.within(0, tasks[task].length / 3);
                tasks[task].turn = Some(Open { ready: at, began: None, pieces: Vec::new() });
                if let Some(running) = running {
                    tasks[running].left -=
                        thread_time(&(now..at), &busy).min(tasks[running].left - 1);
                }
                now = at;
            }
            // The first that has something to do runs, a little later.
            let next = (0..tasks.len()).find(|&task| tasks[task].turn.is_some());
            if next == running {
                continue;
            }
            let Some(next) = next else { continue };
            let at = after(&busy, now, 9 + chance.within(0, 20));
            // Whoever is ready before that decides anew.
            let sooner = tasks.iter().any(|task| task.due <= at && task.due < quiet);
            if sooner || at + 100 > self.end {
                continue;
            }
            if let Some(before) = running {
                tasks[before].left -= thread_time(&(now..at), &busy).min(tasks[before].left - 1);
                tasks[before].away(at);
            }
            self.events.push((at, What::Runs(FIRST_TASK + next as u16)));
            tasks[next].back(at);
            (running, now) = (Some(next), at);
        }
        for (task, state) in tasks.into_iter().enumerate() {
            if let Some(turn) = state.turn {
                self.tasks[task].push(turn.cut(self.end, &busy));
            }
        }
    }

    /// Thread mode works now and then.
    fn work(&mut self, chance: &mut Chance, habit: Habit, starts: &[u64], period: u64) {
        let mut at = chance.within(0, 10_000);
        if habit == Habit::KeepsStep {
            let (after, length) = (period / 3, period / chance.within(8, 20));
            self.sine = starts.iter().map(|start| start + after..start + after + length).collect();
            return;
        }
        let (busy, idle) = (chance.within(500, 40_000), chance.within(2_000, 60_000));
        while at < self.end {
            let until = (at + chance.within(busy / 2, busy * 2)).min(self.end);
            self.sine.push(at..until);
            at = until + chance.within(idle / 2, idle * 2);
        }
    }

    fn samples(&mut self, chance: &mut Chance) {
        // Thread mode works only where no handler runs.
        let mut handlers: Vec<Range<u64>> =
            self.runs.iter().flatten().map(|run| run.began..run.ended.min(self.end)).collect();
        handlers.sort_by_key(|range| range.start);
        self.sine = without(&self.sine, &handlers);
        let inside = |ranges: &[Range<u64>], at: u64| {
            let place = ranges.partition_point(|range| range.end <= at);
            ranges.get(place).is_some_and(|range| range.contains(&at))
        };
        let mut pieces: Vec<(Range<u64>, usize)> = (0..)
            .zip(&self.runs)
            .flat_map(|(source, runs)| runs.iter().map(move |run| (source, run)))
            .flat_map(|(source, run)| run.pieces.iter().map(move |piece| (piece.clone(), source)))
            .collect();
        pieces.sort_by_key(|(piece, _)| piece.start);
        let running = |at: u64| {
            let place = pieces.partition_point(|(piece, _)| piece.end <= at);
            pieces.get(place).filter(|(piece, _)| piece.contains(&at)).map(|(_, source)| *source)
        };
        let mut at = chance.within(1, self.sampling);
        while at < self.end {
            let pc = match (running(at), inside(&self.sine, at)) {
                (Some(source), _) => HANDLERS[source],
                (_, true) => SINE,
                _ => IDLE,
            };
            self.events.push((at, What::Sample(pc)));
            at += self.sampling;
        }
    }
}

struct Task {
    period: u64,
    length: u64,
    due: u64,
    left: u64,
    turn: Option<Open>,
}

/// A turn that is not over: its pieces, the last of which has no end while it runs.
struct Open {
    ready: u64,
    began: Option<u64>,
    pieces: Vec<(u64, Option<u64>)>,
}

impl Task {
    fn new(chance: &mut Chance) -> Self {
        let period = chance.within(30_000, 200_000);
        let (length, due) = (chance.within(500, period / 6), chance.within(100, period));
        Self { period, length, due, left: 0, turn: None }
    }

    /// It has the core from now on.
    fn back(&mut self, at: u64) {
        if let Some(turn) = &mut self.turn {
            turn.began.get_or_insert(at);
            turn.pieces.push((at, None));
        }
    }

    /// Another has it.
    fn away(&mut self, at: u64) {
        if let Some((_, until)) = self.turn.as_mut().and_then(|turn| turn.pieces.last_mut()) {
            until.get_or_insert(at);
        }
    }
}

impl Open {
    fn ended(self, at: u64, busy: &[Range<u64>]) -> Turn {
        let turn = self.cut(at, busy);
        Turn { run: Run { ended: at, ..turn.run }, ..turn }
    }

    fn cut(self, end: u64, busy: &[Range<u64>]) -> Turn {
        let pieces: Vec<Range<u64>> =
            self.pieces.iter().map(|&(from, until)| from..until.unwrap_or(end)).collect();
        let pieces = without(&pieces, busy);
        let began = self.began.unwrap_or(u64::MAX);
        Turn { ready: self.ready, run: Run { began, ended: u64::MAX, pieces } }
    }
}

/// How much of a range is spent in thread mode.
fn thread_time(range: &Range<u64>, busy: &[Range<u64>]) -> u64 {
    without(std::slice::from_ref(range), busy).iter().map(|piece| piece.end - piece.start).sum()
}

/// When so many cycles of thread mode have passed since `now`.
fn after(busy: &[Range<u64>], now: u64, cycles: u64) -> u64 {
    let (mut at, mut left) = (now, cycles);
    for range in &busy[busy.partition_point(|range| range.end <= now)..] {
        let free = range.start.saturating_sub(at);
        if left < free {
            break;
        }
        left -= free;
        at = at.max(range.end);
        if at == u64::MAX {
            return at / 2;
        }
    }
    at + left + 1
}

fn source(chance: &mut Chance) -> Source {
    let period = chance.within(4_000, 60_000);
    let (jitter, length) = (1 + chance.within(0, period / 8), chance.within(60, period / 8));
    Source { period, jitter, length, due: chance.within(50, period), pending: false }
}

fn joined(ranges: Vec<Range<u64>>) -> Vec<Range<u64>> {
    let mut all: Vec<Range<u64>> = Vec::new();
    for range in ranges {
        match all.last_mut() {
            Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
            _ => all.push(range),
        }
    }
    all
}

fn without(ranges: &[Range<u64>], holes: &[Range<u64>]) -> Vec<Range<u64>> {
    let holes = joined(holes.to_vec());
    let mut left = Vec::new();
    for range in ranges {
        let mut from = range.start;
        for hole in &holes[holes.partition_point(|hole| hole.end <= range.start)..] {
            if hole.start >= range.end {
                break;
            }
            if hole.start > from {
                left.push(from..hole.start);
            }
            from = from.max(hole.end);
        }
        if from < range.end {
            left.push(from..range.end);
        }
    }
    left
}
