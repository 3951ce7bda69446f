//! Figures of every task: how often, how long, how late, how much stack, and what it waited for.

use super::loads::{LoadFigures, Loads};
use super::tracking::{Activation, Spell, State, Watcher};
use crate::event::{CoreSet, Parked};
use crate::event::{Name, Statement, Stop, Thing};
use crate::measure::bridges::Bridges;
use crate::measure::dissection::{Actor, Dissection};
use crate::measure::earlier::Earlier;
use crate::measure::interrupts::{Cut as Interruption, GridFit, Late, MOST_EACH, between};
use crate::measure::worst::{Bad, Worst};
use crate::stats::{Spread, Ticks};
use crate::time::Window;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// Tasks with percentiles at most: it bounds the memory, whatever a stream says.
const MOST_DETAILED: usize = 64;
/// Exception numbers of a core: 9 bits.
const EXCEPTIONS: usize = 512;
/// Names kept at most.
const MOST_NAMES: usize = 16_384;
/// Objects that one task waits for, at most.
const MOST_OBJECTS: usize = 256;

/// How much of a stack was used.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Stack {
    /// The lowest address, and how many bytes there are.
    pub extent: Option<(u64, u32)>,
    /// The deepest that was stated or seen at a switch, in bytes.
    pub used: Option<u64>,
    /// The firmware stated the deepest.
    pub stated: bool,
    /// The stack pointer lay outside.
    pub left: bool,
    /// Something was lost since the deepest was last stated.
    pub missed: bool,
}

impl Stack {
    fn pointer(&mut self, pointer: u64) {
        let Some((base, size)) = self.extent else { return };
        let end = base + u64::from(size);
        if pointer < base || pointer > end {
            self.left = true;
            return;
        }
        self.used = self.used.max(Some(end - pointer));
    }
}

/// Waiting for one object.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Waiting {
    /// How often.
    pub count: u64,
    /// How long in all, in ticks.
    pub sum: u64,
    /// How long at most.
    pub most: Ticks,
}

/// Figures of one task, in ticks.
#[derive(Debug, Clone)]
pub struct Figures {
    /// Its number.
    pub task: u32,
    /// The cores on which it ran.
    pub cores: CoreSet,
    /// The one on which it ran last.
    on: Option<u8>,
    /// Its priority as the kernel counts.
    pub priority: Option<u8>,
    /// Its stack.
    pub stack: Stack,
    /// Its number was another task's, too: figures are of both.
    pub reused: bool,
    /// So often it was stated to be ready while it ran.
    pub ready_again: u64,
    /// Activations without a duration: something is missing inside.
    pub cut: u64,
    /// Of these, open when the recording began, and when it ended.
    pub open: [u64; 2],
    /// The longest that was seen of an open one, in ticks.
    pub open_elapsed: u64,
    /// The longest that was seen, in ticks, of those that were open when the recording began.
    pub open_at_start: u64,
    /// How many had not begun to run when the recording ended, and how long the longest of them had waited.
    pub waiting: (u64, u64),
    /// From the last start to the end of the recording, in ticks: no activation came in that time.
    pub silence: Ticks,
    /// Without handlers and other tasks.
    pub own: Spread,
    /// From the first run to the stop.
    pub elapsed: Spread,
    /// From ready to the first run.
    pub pending: Spread,
    /// From ready to the stop.
    pub response: Spread,
    /// From ready to ready, else from start to start.
    pub period: Spread,
    /// From one such period to the next, the difference.
    pub jitter: Spread,
    /// Whether it is activated periodically, and what it missed.
    pub grid: GridFit,
    /// Across gaps, from ready to ready, else from start to start.
    pub bridges: Bridges,
    /// An activation of which something is missing lasted so many ticks at most; `u64::MAX`: nothing
    /// tells.
    pub hidden: u64,
    /// Ticks in which it ran, activations without a duration included.
    pub busy: u64,
    /// Its load over time.
    pub loads: Loads,
    /// Ticks in each state.
    pub states: BTreeMap<State, u64>,
    /// By object: how long it waited.
    pub waits: BTreeMap<Option<u32>, Waiting>,
    /// How often another task took the core from it.
    pub preempted: u64,
    /// How often it gave the core away.
    pub yielded: u64,
    /// How often it lost it, and nothing told why: its activations are turns on the core.
    pub lost_core: u64,
    /// The longest from ready to the first run.
    pub worst_pending: Worst,
    /// The longest from ready to the stop.
    pub worst_response: Worst,
    /// The longest from the first run to the stop.
    pub worst_elapsed: Worst,
    /// Every activation, where that was asked for.
    pub each: Option<Vec<Bad>>,
    /// When the first activation began, and ended.
    first: Option<[Window; 2]>,
    last: Option<Window>,
    last_period: Option<Ticks>,
    /// Activations that were complete.
    pub activations: u64,
}

impl Figures {
    fn new(task: u32, detailed: bool, settings: Settings) -> Self {
        let spread = || Spread::new(detailed);
        let worst = || Worst::new(settings.keep);
        Self {
            task,
            cores: CoreSet::NONE,
            on: None,
            priority: None,
            stack: Stack::default(),
            reused: false,
            ready_again: 0,
            cut: 0,
            open: [0; 2],
            open_elapsed: 0,
            open_at_start: 0,
            waiting: (0, 0),
            silence: Ticks::default(),
            own: spread(),
            elapsed: spread(),
            pending: spread(),
            response: spread(),
            period: spread(),
            jitter: spread(),
            grid: GridFit::new(false),
            bridges: Bridges::default(),
            hidden: 0,
            busy: 0,
            loads: Loads::new(settings.window),
            states: BTreeMap::new(),
            waits: BTreeMap::new(),
            preempted: 0,
            yielded: 0,
            lost_core: 0,
            worst_pending: worst(),
            worst_response: worst(),
            worst_elapsed: worst(),
            each: settings.each.then(Vec::new),
            first: None,
            last: None,
            last_period: None,
            activations: 0,
        }
    }

    /// It runs on another core from now on: on which it did meanwhile is of no matter to how long.
    #[cold]
    fn moved_to(&mut self, core: u8) {
        self.on = Some(core);
        self.cores.add(core);
    }

    fn activated(&mut self, activation: &Activation) {
        let number = self.activations;
        self.activations += 1;
        let Activation { ready, began, ended, own, core, .. } = *activation;
        if number == 0 {
            self.first = began.zip(ended).map(|(began, ended)| [began, ended]);
        }
        let (Some(began), Some(ended)) = (began, ended) else { return };
        if let Some(own) = own {
            self.own.add(own);
        }
        let elapsed = between(began, ended);
        let bad = |ticks| Bad { core, ticks, number, requested: ready, began, ended };
        self.elapsed.add(elapsed);
        self.worst_elapsed.add(elapsed, bad);
        if let Some(ready) = ready {
            let response = between(ready, ended);
            self.response.add(response);
            self.worst_response.add(response, bad);
        }
        if let Some(each) = &mut self.each
            && each.len() < MOST_EACH
        {
            each.push(bad(elapsed));
        }
        let start = ready.unwrap_or(began);
        self.started(start);
        self.grid.add(number, start, ended, |_: Late| {});
    }

    /// It begins to run on this core; whether it ends does not matter to how long it had been ready.
    fn began(&mut self, core: u8, ready: Window, began: Window) {
        let pending = between(ready, began);
        self.pending.add(pending);
        let number = self.activations;
        let bad = |ticks| Bad { core, ticks, number, requested: Some(ready), began, ended: began };
        self.worst_pending.add(pending, bad);
    }

    fn started(&mut self, now: Window) {
        let Some(last) = self.last.replace(now) else { return self.bridges.reach(now) };
        let period = between(last, now);
        self.period.add(period);
        if let Some(before) = self.last_period.replace(period) {
            self.jitter.add(period.difference(before));
        }
    }

    fn gap(&mut self, why: Interruption) {
        self.stack.missed = true;
        let (last, period) = (self.last.take(), self.last_period.take());
        match why {
            Interruption::Gap | Interruption::GapGoesOn => self.bridges.cut(last, period),
            _ => self.bridges.lose(),
        }
        match why {
            // Time is missing: the next grid is a new one.
            Interruption::Slip => self.grid.settle(|_| {}),
            _ => self.grid.gap(),
        }
    }
}

/// How figures are kept.
#[derive(Debug, Clone, Copy)]
pub struct Settings {
    /// Of the worst cases, so many are kept.
    pub keep: usize,
    /// Ticks of the window of a load.
    pub window: u64,
    /// Every activation is kept, up to [`MOST_EACH`].
    pub each: bool,
}

/// What is known of one core.
#[derive(Debug, Clone, Copy, Default)]
struct OfCore {
    /// Up to where it is known who had it; absent before the recording's first moment.
    until: Option<u64>,
    /// Ticks of which that is known.
    known: u64,
    /// Ticks between those.
    unknown: u64,
}

/// Figures of all tasks.
#[derive(Debug, Clone)]
pub struct TaskFigures {
    settings: Settings,
    /// In the order in which they were first seen.
    rows: Vec<Figures>,
    /// Where each task's row is.
    places: FxHashMap<u32, usize>,
    /// The task that was asked for last, and where its row is: mostly it is asked for again.
    recent: Option<(u32, usize)>,
    /// What is known of a task of which nothing was stated.
    unseen: Figures,
    /// The core whose events come now.
    core: u8,
    now: OfCore,
    others: Parked<OfCore>,
    /// The recording's first moment.
    first: Option<u64>,
    /// What things are called.
    pub names: FxHashMap<Thing, Name>,
    /// Ticks by exception.
    exceptions: Box<[u64; EXCEPTIONS]>,
    kernel: u64,
    switching: u64,
    /// Gaps in the recording.
    pub gaps: u64,
    /// From one task to another, how often.
    pub switches: u64,
    /// Activations are turns on the core, for nothing tells more.
    pub only_turns: bool,
    /// The task that is told to be idle.
    pub(super) idle: Option<u32>,
}

impl TaskFigures {
    /// Nothing seen yet.
    #[must_use]
    pub fn new(settings: Settings) -> Self {
        Self {
            settings,
            rows: Vec::new(),
            places: FxHashMap::default(),
            recent: None,
            unseen: Figures::new(0, false, settings),
            core: 0,
            now: OfCore::default(),
            others: Parked::default(),
            first: None,
            names: FxHashMap::default(),
            exceptions: Box::new([0; EXCEPTIONS]),
            kernel: 0,
            switching: 0,
            gaps: 0,
            switches: 0,
            only_turns: false,
            idle: None,
        }
    }

    #[inline]
    fn row(&mut self, task: u32) -> &mut Figures {
        let place = self.place(task);
        &mut self.rows[place]
    }

    #[inline]
    fn place(&mut self, task: u32) -> usize {
        match self.recent {
            Some((recent, place)) if recent == task => place,
            _ => self.find_place(task),
        }
    }

    #[inline(never)]
    fn find_place(&mut self, task: u32) -> usize {
        let Self { rows, places, settings, unseen, .. } = self;
        let place = *places.entry(task).or_insert_with(|| {
            let detailed = rows.len() < MOST_DETAILED;
            let (bridges, loads) = (unseen.bridges, unseen.loads.clone());
            rows.push(Figures { bridges, loads, ..Figures::new(task, detailed, *settings) });
            rows.len() - 1
        });
        self.recent = Some((task, place));
        place
    }

    /// Figures of every task that anything was stated of.
    pub fn rows(&self) -> impl Iterator<Item = &Figures> {
        self.rows.iter()
    }

    /// What counts the activations before the first of each task.
    #[must_use]
    pub fn earlier(&self) -> Earlier {
        let first = |row: &Figures| Some(((0, row.task), row.first?));
        Earlier::than(self.rows.iter().filter_map(first))
    }

    /// Activations have the numbers that they have in the whole recording.
    pub fn renumber(&mut self, earlier: &Earlier) {
        for row in &mut self.rows {
            let before = earlier.count((0, row.task));
            for worst in [&mut row.worst_pending, &mut row.worst_response, &mut row.worst_elapsed] {
                worst.renumber(before);
            }
            row.each.iter_mut().flatten().for_each(|bad| bad.number += before);
        }
    }

    /// Ticks of the window of a load.
    #[must_use]
    pub const fn window(&self) -> u64 {
        self.settings.window
    }

    /// Tasks without percentiles, for there are too many.
    #[must_use]
    pub fn undetailed(&self) -> usize {
        self.rows.len().saturating_sub(MOST_DETAILED)
    }

    /// Ticks of which it is known who had the core, of all cores together.
    #[must_use]
    pub fn known(&self) -> u64 {
        self.cores().map(|core| core.known).sum()
    }

    fn cores(&self) -> impl Iterator<Item = OfCore> {
        self.others.iter().map(|(_, core)| *core).chain([self.now])
    }

    /// Of a recording of so many ticks, those of which it is not known who had the core, on any of so many: a task may
    /// run where it was not seen before.
    #[must_use]
    pub fn unknown(&self, span: u64, cores: u64) -> u64 {
        let seen: u64 = self.cores().map(|core| core.known.min(span)).sum();
        span.saturating_mul(cores).saturating_sub(seen)
    }

    /// Ticks by who had the core, where that is known.
    pub fn busy(&self) -> impl Iterator<Item = (Actor, u64)> {
        let tasks = self.rows.iter().map(|row| (Actor::Task(row.task), row.busy));
        let exceptions = (0..).zip(&*self.exceptions).map(|(n, &t)| (Actor::Exception(n), t));
        let rest = [(Actor::Kernel, self.kernel), (Actor::Switching, self.switching)];
        tasks.chain(exceptions).chain(rest).filter(|(_, ticks)| *ticks > 0)
    }

    /// The loads of one of these tasks, if the recording ends at this tick.
    #[must_use]
    pub fn loads(&self, row: &Figures, end: u64) -> LoadFigures {
        let mut loads = row.loads.clone();
        let only = self.others.is_empty().then_some(self.core);
        let on = row.on.or(only);
        if let Some(on) = on {
            let known = self.known_until(on);
            if known.is_none_or(|known| known < end) {
                loads.unknown(known.unwrap_or(0), end);
            }
        }
        // What the other cores did unseen, they may have done for this task; of one that ran nowhere, all.
        let moves = row.cores.count() > 1;
        let numbered = self.others.iter().chain([(self.core, &self.now)]);
        let others = numbered.filter(|(core, _)| moves || on != Some(*core));
        let unknown = |of: &OfCore| of.unknown + end.saturating_sub(of.until.unwrap_or(0));
        loads.elsewhere(others.map(|(_, of)| unknown(of)).sum());
        loads.at_end(end)
    }

    /// Up to where it is known who had a core.
    fn known_until(&self, core: u8) -> Option<u64> {
        if core == self.core {
            return self.now.until;
        }
        self.others.iter().find(|(number, _)| *number == core)?.1.until
    }

    /// Nothing says who had the core up to this tick.
    #[cold]
    fn unknown_until(&mut self, until: u64) {
        let from = self.now.until.unwrap_or(0);
        self.now.unknown += until.saturating_sub(self.first.unwrap_or(0).max(from));
        let core = self.core;
        let rows = self.rows.iter_mut().chain([&mut self.unseen]);
        rows.filter(|row| row.on.is_none_or(|on| on == core))
            .for_each(|row| row.loads.unknown(from, until));
    }

    /// The recording ended at this tick: from the last starts to there nothing started.
    pub fn ended_at(&mut self, end: Option<Window>) {
        let Some(end) = end else { return };
        for row in &mut self.rows {
            row.silence = row.bridges.silence(row.last, end);
        }
    }

    /// The recording has ended.
    pub fn finish(&mut self) {
        for row in &mut self.rows {
            row.grid.settle(|_| {});
        }
    }

    /// The cases to be explained by a second reading: the worst, and every activation that is listed.
    #[must_use]
    pub fn cases(&self) -> Dissection {
        let mut cases = Vec::new();
        for row in &self.rows {
            let worst = [&row.worst_pending, &row.worst_response, &row.worst_elapsed];
            let worst = worst.into_iter().flat_map(Worst::list);
            let each = row.each.as_deref().unwrap_or_default();
            cases.extend(worst.chain(each).map(|&bad| (Actor::Task(row.task), bad)));
        }
        Dissection::new(cases)
    }
}

impl TaskFigures {
    /// Rows of tasks that may have run on the core whose events come now.
    fn mine(&mut self) -> impl Iterator<Item = &mut Figures> {
        let core = self.core;
        let rows = self.rows.iter_mut().chain([&mut self.unseen]);
        rows.filter(move |row| row.cores.is_empty() || row.cores.has(core))
    }
}

impl Watcher for TaskFigures {
    fn activated(&mut self, activation: &Activation) {
        self.row(activation.task).activated(activation);
    }

    fn turns_to(&mut self, core: u8) {
        let first = self.first;
        let new = || OfCore { until: first, ..OfCore::default() };
        self.others.exchange(self.core, &mut self.now, core, new);
        self.core = core;
    }

    fn started(&mut self, task: u32, ready: Option<Window>, began: Option<Window>) {
        let core = self.core;
        if let Some((ready, began)) = ready.zip(began) {
            self.row(task).began(core, ready, began);
        }
    }

    fn begins(&mut self, first: u64) {
        self.first = Some(first);
        self.now.until = Some(first);
        let rows = self.rows.iter_mut().chain([&mut self.unseen]);
        rows.for_each(|row| row.loads.begin(first));
    }

    fn open(&mut self, task: u32, since: Option<Window>, elapsed: u64, waits: bool) {
        let row = self.row(task);
        if waits {
            row.waiting = (row.waiting.0 + 1, row.waiting.1.max(elapsed));
        }
        if since.is_none() {
            row.open_at_start = row.open_at_start.max(elapsed);
        }
        row.open[usize::from(since.is_some())] += 1;
        row.open_elapsed = row.open_elapsed.max(elapsed);
        if let Some(since) = since {
            row.started(since);
        }
    }

    fn ready_again(&mut self, task: u32) {
        self.row(task).ready_again += 1;
    }

    fn cut(&mut self, task: u32) {
        self.row(task).cut += 1;
    }

    fn cut_since(&mut self, task: u32, since: Window) {
        let row = self.row(task);
        row.cut += 1;
        row.started(since);
    }

    #[inline(always)]
    fn did(&mut self, actor: Actor, from: Window, until: Window) {
        let ticks = until.latest.saturating_sub(from.latest);
        if self.now.until.is_none_or(|known| known < from.latest) {
            self.unknown_until(from.latest);
        }
        self.now.until = self.now.until.max(Some(until.latest));
        self.now.known += ticks;
        match actor {
            Actor::Task(task) => {
                let core = self.core;
                let row = self.row(task);
                row.busy += ticks;
                if row.on != Some(core) {
                    row.moved_to(core);
                }
                row.loads.ran(from, until);
            }
            Actor::Exception(number) => {
                if let Some(busy) = self.exceptions.get_mut(usize::from(number)) {
                    *busy += ticks;
                }
            }
            Actor::Kernel => self.kernel += ticks,
            Actor::Switching => self.switching += ticks,
        }
    }

    fn was(&mut self, task: u32, spell: Spell) {
        let ticks = spell.until.latest.saturating_sub(spell.from.latest);
        let row = self.row(task);
        *row.states.entry(spell.state).or_default() += ticks;
        if let State::Waits(object) = spell.state
            && (row.waits.len() < MOST_OBJECTS || row.waits.contains_key(&object))
        {
            let waiting = row.waits.entry(object).or_default();
            waiting.count += 1;
            waiting.sum += ticks;
            let lasted = between(spell.from, spell.until);
            if lasted.low >= waiting.most.low {
                waiting.most = lasted;
            }
        }
    }

    fn switched(&mut self, from: Option<u32>, preempted: bool, _to: u32) {
        self.switches += 1;
        if let (Some(task), true) = (from, preempted) {
            self.row(task).preempted += 1;
        }
    }

    fn stated(&mut self, statement: &Statement) {
        match *statement {
            Statement::Named(thing, ref name) if self.names.len() < MOST_NAMES => {
                let before = self.names.insert(thing, name.clone());
                if let (Thing::Task(task), Some(before)) = (thing, before)
                    && before != *name
                {
                    self.row(task).reused = true;
                }
                if let Thing::Task(task) = thing {
                    self.row(task);
                }
            }
            Statement::OnlyTurns { idle } => {
                self.only_turns = true;
                self.idle = idle;
            }
            Statement::Created { task, priority, stack } => {
                let row = self.row(task);
                row.priority = priority.or(row.priority);
                row.reused |= row.stack.extent.zip(stack).is_some_and(|(old, new)| old != new);
                row.stack.extent = stack.or(row.stack.extent);
            }
            Statement::Runs { task, stack_pointer: Some(pointer) } => {
                self.row(task).stack.pointer(pointer);
            }
            Statement::StackUsed { task, bytes } => {
                let stack = &mut self.row(task).stack;
                stack.used = stack.used.max(Some(u64::from(bytes)));
                (stack.stated, stack.missed) = (true, false);
            }
            Statement::Preempted { task } => self.row(task).preempted += 1,
            Statement::Stops { task, why: Stop::Untold } => self.row(task).lost_core += 1,
            Statement::Stops { task, .. } => self.row(task).yielded += 1,
            _ => {}
        }
    }

    fn gap(&mut self, why: Interruption) {
        self.gaps += u64::from(why != Interruption::GapGoesOn);
        self.mine().for_each(|row| row.gap(why));
    }

    fn missing(&mut self, gap: Window) {
        self.mine().for_each(|row| row.bridges.missing(gap));
    }

    fn hid(&mut self, task: u32, longest: u64) {
        let row = self.row(task);
        row.hidden = row.hidden.max(longest);
    }
}

/// Looks into the stretches of a [`Dissection`], with tasks told apart.
impl Watcher for Dissection {
    fn turns_to(&mut self, core: u8) {
        self.turn_to(core);
    }

    fn did(&mut self, actor: Actor, from: Window, until: Window) {
        Self::did(self, actor, from, until);
    }
}
