//! Which task has the core, and what each of them does meanwhile: statements and exceptions to
//! activations.
//!
//! An *activation* of a task begins to wait when the task becomes ready, starts when it first runs,
//! and ends when it stops by its own will. Whoever runs instead in between, tasks or handlers,
//! pre-empts it. After a loss no task's state is known until something is stated of it, and what had
//! begun gets no end.
//!
//! Tasks are of all cores, who has the core is of each. A loss on one core touches the tasks that ran there, or
//! nowhere yet; of the others it hides at most that they became ready, or ran where they never did before.

use crate::event::{CoreSet, Parked};
use crate::event::{Event, Position, Sink, Statement, Stop};
use crate::measure::dissection::Actor;
use crate::measure::interrupts::{
    Cut, Nesting, Open as OpenRun, Run, Runner, THREAD, Watcher as InterruptWatcher, between,
};
use crate::stats::Ticks;
use crate::time::Window;
use rustc_hash::FxHashMap;

/// Tasks at most: statements about others are left out, and told.
const MOST_TASKS: usize = 4096;

/// Intervals of thread mode that are kept at most until it is known whose they are.
const MOST_UNOWNED: usize = 4096;

/// What a task does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum State {
    /// Nothing tells.
    Unknown,
    /// It has the core.
    Runs,
    /// It could run.
    Ready,
    /// It waits for a time.
    Sleeps,
    /// It waits for an object; `None` where nothing tells which.
    Waits(Option<u32>),
    /// It has ended.
    Ended,
    /// Another task has the core, and nothing tells whether this one could run.
    Away,
}

impl State {
    /// What it is called in results.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Unknown => "unknown",
            Self::Runs => "runs",
            Self::Ready => "ready",
            Self::Sleeps => "sleeps",
            Self::Waits(_) => "waits",
            Self::Ended => "ended",
            Self::Away => "away",
        }
    }
}

impl From<Stop> for State {
    fn from(why: Stop) -> Self {
        match why {
            Stop::Sleeps => Self::Sleeps,
            Stop::Waits(object) => Self::Waits(Some(object)),
            Stop::WaitsForSomething => Self::Waits(None),
            Stop::Ended => Self::Ended,
            Stop::Untold => Self::Away,
        }
    }
}

/// What a task did for a while.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spell {
    /// What.
    pub state: State,
    /// Since when.
    pub from: Window,
    /// Until when.
    pub until: Window,
    /// What it did then.
    pub then: State,
}

/// An activation that was seen from its start to its end.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Activation {
    /// Whose.
    pub task: u32,
    /// When the task became ready; absent where nothing told.
    pub ready: Option<Window>,
    /// When it started to run.
    pub began: Option<Window>,
    /// When it stopped.
    pub ended: Option<Window>,
    /// It stopped on this core.
    pub core: u8,
    /// How long it ran itself, without handlers and other tasks; absent where it is not known all
    /// the time whether a handler ran.
    pub own: Option<Ticks>,
}

/// Sees what tasks do, in order.
pub trait Watcher {
    /// What comes next is of this core; before that, of core 0.
    fn turns_to(&mut self, _core: u8) {}
    /// An activation begins to run; it was ready before, where that was stated.
    fn started(&mut self, _task: u32, _ready: Option<Window>, _began: Option<Window>) {}
    /// An activation is complete.
    fn activated(&mut self, _activation: &Activation) {}
    /// The first moment of the recording.
    fn begins(&mut self, _first: u64) {}
    /// An activation is open at an edge of the recording, and so much of it was seen: since it was ready, or
    /// else began, where it had not ended when the recording did; absent where it had begun before it. `waits`: it had
    /// not begun to run.
    fn open(&mut self, _task: u32, _since: Option<Window>, _elapsed: u64, _waits: bool) {}
    /// A task that runs was said to be ready.
    fn ready_again(&mut self, _task: u32) {}
    /// An activation had begun, or was to begin, and something is missing inside.
    fn cut(&mut self, _task: u32) {}
    /// The same, and that is known: when it was ready, else when it began.
    fn cut_since(&mut self, task: u32, _since: Window) {
        self.cut(task);
    }
    /// The actor had the core from the one to the other.
    fn did(&mut self, _actor: Actor, _from: Window, _until: Window) {}
    /// A task did this, and then something else.
    fn was(&mut self, _task: u32, _did: Spell) {}
    /// The core went from one task to another; the first was pre-empted, or had stopped.
    fn switched(&mut self, _from: Option<u32>, _preempted: bool, _to: u32) {}
    /// Something else was stated.
    fn stated(&mut self, _statement: &Statement) {}
    /// Something is missing here, on this core.
    fn gap(&mut self, _why: Cut) {}
    /// The gap that was told before, which loses no time, lies in this window.
    fn missing(&mut self, _gap: Window) {}
    /// An activation of which something is missing lasted so many ticks at most.
    fn hid(&mut self, _task: u32, _longest: u64) {}
}

/// What is known of one task.
#[derive(Debug, Clone, Copy)]
struct Task {
    state: State,
    since: Option<Window>,
    open: Option<Open>,
    /// The cores on which it ran.
    cores: CoreSet,
    /// The one on which it ran last.
    on: Option<u8>,
    /// Since a gap an activation may go on that began then, or later, unseen.
    hidden_since: Option<u64>,
}

impl Task {
    const UNKNOWN: Self = Self {
        state: State::Unknown,
        since: None,
        open: None,
        cores: CoreSet::NONE,
        on: None,
        hidden_since: None,
    };

    /// Whether a loss on this core may have swallowed what it did: it ran there, or is not known to run anywhere.
    fn may_run_on(&self, core: u8) -> bool {
        let is_elsewhere = self.state == State::Runs && self.on.is_some_and(|on| on != core);
        !is_elsewhere && (self.cores.is_empty() || self.cores.has(core))
    }
}

/// An activation that has not ended.
#[derive(Debug, Clone, Copy)]
struct Open {
    ready: Option<Window>,
    began: Option<Window>,
    started: bool,
    own: Option<Ticks>,
}

impl Open {
    const fn new(ready: Option<Window>) -> Self {
        Self { ready, began: None, started: false, own: Some(Ticks::exact(0)) }
    }
}

/// Who has thread mode.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Owner {
    Unknown,
    Task(u32),
    Kernel,
}

/// Who has the core.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holder {
    /// A handler; thread mode (0) where nothing tells of tasks.
    Handler(u16),
    /// A task.
    Task(u32),
    /// The kernel, between tasks.
    Kernel,
    /// Nothing tells.
    Unknown,
}

/// What the core does while something is stated.
#[derive(Debug, Clone, Copy)]
enum Core {
    /// It is in thread mode, since then if that is known.
    Thread(Option<Window>),
    /// Exceptions are not traced: all time counts as thread mode.
    Untraced,
    /// It runs a handler.
    Handler,
    /// Exceptions are traced, and still nothing tells whether a handler runs: since a gap.
    Unseen,
}

/// Follows tasks; hands on what it finds. Somebody else may look on at exceptions meanwhile, so that
/// they are followed once.
#[derive(Debug, Clone)]
pub struct Tracking<W, I = ()> {
    nesting: Nesting<Tasks<W, I>>,
    /// Exceptions are traced: own times are without handlers.
    pub exceptions: bool,
}

impl<W: Watcher> Tracking<W> {
    /// Nothing is known yet.
    pub fn new(watcher: W) -> Self {
        Self::beside(1.0, watcher, ())
    }

    /// The recording has ended: what still runs has no end.
    pub fn finish(self) -> W {
        self.finish_both().0
    }
}

impl<W: Watcher, I: InterruptWatcher> Tracking<W, I> {
    /// Nothing is known yet; `interrupts` looks on at exceptions. The origin's clock ticks so many
    /// times in a core cycle.
    pub fn beside(ticks_per_cycle: f64, watcher: W, interrupts: I) -> Self {
        let tasks = Tasks {
            tasks: FxHashMap::default(),
            core: 0,
            now: OfCore::default(),
            others: Parked::default(),
            lacks_since: u64::MAX,
            turns: false,
            unfollowed: 0,
            hidden: None,
            watcher,
            interrupts,
        };
        Self { nesting: Nesting::new(ticks_per_cycle, tasks), exceptions: false }
    }

    /// Who looks on at tasks.
    pub const fn watcher(&self) -> &W {
        &self.nesting.watcher.watcher
    }

    /// The same, to take from it what it has seen so far.
    pub const fn watcher_mut(&mut self) -> &mut W {
        &mut self.nesting.watcher.watcher
    }

    /// Who looks on at exceptions.
    pub const fn interrupts(&self) -> &I {
        &self.nesting.watcher.interrupts
    }

    /// Statements about more tasks than are followed.
    pub const fn unfollowed(&self) -> u64 {
        self.nesting.watcher.unfollowed
    }

    /// The recording has ended: what still runs has no end. Returns both who looked on.
    pub fn finish_both(self) -> (W, I) {
        self.finish_both_at(None)
    }

    /// The same, and it ended at this tick, if that is known.
    pub fn finish_both_at(mut self, end: Option<u64>) -> (W, I) {
        let mut first_end = end;
        for core in self.nesting.cores() {
            self.nesting.turn_to(core);
            let end = self.nesting.end_of_core(end);
            // Where exceptions are traced thread mode has an end of its own.
            if let (Core::Untraced, Some(end)) = (self.core(), end) {
                self.nesting.watcher.settle(Core::Untraced, Some(Window::exact(end)));
            }
            if self.nesting.watcher.now.lacks.is_some() {
                self.nesting.watcher.end_gap();
            }
            self.nesting.watcher.finish_at(Some(core), end);
            first_end = first_end.min(end);
        }
        // Those that ran nowhere so far.
        self.nesting.watcher.finish_at(None, first_end);
        let tasks = self.nesting.finish_at(end);
        (tasks.watcher, tasks.interrupts)
    }

    /// What is asked next is of this core.
    pub fn turn_to(&mut self, core: u8) {
        self.nesting.turn_to(core);
    }

    /// Who has the core now whose events came last.
    #[must_use]
    pub fn holder(&self) -> Holder {
        let tasks = &self.nesting.watcher;
        match (self.nesting.running(), tasks.now.owner) {
            (Some(number), _) if number != THREAD => Holder::Handler(number),
            // Exceptions are traced, and still nothing tells whether a handler runs.
            (None, _) if self.exceptions => Holder::Unknown,
            (_, Owner::Task(task)) => Holder::Task(task),
            (_, Owner::Kernel) => Holder::Kernel,
            (Some(_), Owner::Unknown) if tasks.tasks.is_empty() => Holder::Handler(THREAD),
            (_, Owner::Unknown) => Holder::Unknown,
        }
    }

    fn core(&self) -> Core {
        match self.nesting.running() {
            Some(THREAD) => Core::Thread(self.nesting.thread_since()),
            _ if !self.exceptions => Core::Untraced,
            Some(_) => Core::Handler,
            None => Core::Unseen,
        }
    }
}

impl<W: Watcher, I: InterruptWatcher> Sink for Tracking<W, I> {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        self.nesting.turn_to(position.core);
        if let (false, Some(first)) = (self.nesting.watcher.now.begun, position.time) {
            self.nesting.watcher.begins(first.latest);
        }
        if self.nesting.watcher.now.lacks.is_some() && !matches!(event, Event::Lost { .. }) {
            self.nesting.watcher.end_gap();
        }
        match event {
            Event::Entered { .. } | Event::Left { .. } | Event::Resumed { .. } => {
                if !std::mem::replace(&mut self.exceptions, true) {
                    self.nesting.watcher.exceptions_begin();
                }
                self.nesting.event(position, event);
            }
            Event::Stated(statement) => {
                let is_of_task = matches!(
                    statement,
                    Statement::Ready { .. }
                        | Statement::Runs { .. }
                        | Statement::Preempted { .. }
                        | Statement::Stops { .. }
                );
                if is_of_task && position.time.is_none() {
                    self.nesting.undated();
                }
                // A request belongs to the handler that runs.
                self.nesting.event(position, event);
                let core = self.core();
                self.nesting.watcher.stated(statement, core, position.time);
            }
            _ => self.nesting.event(position, event),
        }
    }
}

/// Who has thread mode of one core.
#[derive(Debug, Clone)]
struct OfCore {
    owner: Owner,
    /// How long the owner ran itself since it got thread mode; absent where that is not known all
    /// the time.
    own: Option<Ticks>,
    /// Thread mode belongs to its owner only since then.
    split: Option<Window>,
    /// The first moment of the core was seen.
    begun: bool,
    /// Since when nothing was missing, if nothing was so far.
    whole_since: Option<u64>,
    /// When thread mode ran since a gap, as long as it is not known whose time that is.
    unowned: Vec<(Window, Window)>,
    /// Something is missing since then, and nothing came since. What others tell meanwhile of tasks that run here is not
    /// all. `u64::MAX`: nothing says how much, and that was told of all tasks.
    lacks: Option<u64>,
}

impl Default for OfCore {
    fn default() -> Self {
        Self {
            owner: Owner::Unknown,
            own: None,
            split: None,
            begun: false,
            whole_since: None,
            unowned: Vec::new(),
            lacks: None,
        }
    }
}

/// Tasks, and who of them has thread mode. Looks on at exceptions.
#[derive(Debug, Clone)]
struct Tasks<W, I> {
    tasks: FxHashMap<u32, Task>,
    /// The core whose events come now.
    core: u8,
    now: OfCore,
    others: Parked<OfCore>,
    /// What is told next to be missing may be so since then.
    lacks_since: u64,
    /// Nothing tells why tasks stop.
    turns: bool,
    unfollowed: u64,
    /// Of a task of which nothing was stated so far: since when an activation may go on unseen, and
    /// how long one lasted at most.
    hidden: Option<(u64, u64)>,
    watcher: W,
    interrupts: I,
}

impl<W: Watcher, I> Tasks<W, I> {
    #[cold]
    fn begins(&mut self, first: u64) {
        self.now.begun = true;
        self.now.whole_since = Some(first);
        if self.others.iter().all(|(_, other)| !other.begun) {
            self.watcher.begins(first);
        }
    }

    /// The task has another core, too, by what was stated: what was stated of that one is missing.
    #[cold]
    fn leave_other_core(&mut self, task: u32) {
        let is_there = |other: &&mut OfCore| other.owner == Owner::Task(task);
        let Some(other) = self.others.iter_mut().find(is_there) else { return };
        (other.owner, other.own, other.split) = (Owner::Unknown, None, None);
        if let Some(open) = self.tasks.get_mut(&task).and_then(|task| task.open.as_mut()) {
            open.own = None;
        }
    }

    /// Of the tasks that ran on this core last nothing more is known behind `end`.
    fn finish_at(&mut self, core: Option<u8>, end: Option<u64>) {
        for (&number, task) in self.tasks.iter_mut().filter(|(_, task)| task.on == core) {
            if task.hidden_since.is_some() {
                self.watcher.hid(number, u64::MAX);
            }
            if let Some(open) = task.open.take() {
                if let Some((since, end)) = open.ready.or(open.began).zip(end) {
                    let elapsed = end.saturating_sub(since.latest);
                    self.watcher.open(number, Some(since), elapsed, !open.started);
                }
                self.watcher.cut(number);
            } else if let (State::Runs, Some(since), Some(end)) = (task.state, task.since, end) {
                // It had begun before the recording, or in a gap: nothing else was seen of it.
                self.watcher.open(number, None, end.saturating_sub(since.latest), false);
            }
        }
    }

    /// What was stated before the first of them may have been stated in a handler.
    #[cold]
    fn exceptions_begin(&mut self) {
        for core in self.others.iter_mut().chain([&mut self.now]) {
            (core.own, core.split) = (None, None);
        }
    }

    fn task(&mut self, task: u32) -> Option<&mut Task> {
        if !self.tasks.contains_key(&task) {
            if self.tasks.len() >= MOST_TASKS {
                self.unfollowed += 1;
                return None;
            }
            let hidden_since = self.hidden.map(|(since, _)| since);
            let hidden_since = hidden_since.or(self.hidden_now());
            self.tasks.insert(task, Task { hidden_since, ..Task::UNKNOWN });
            if let Some((_, longest)) = self.hidden {
                self.watcher.hid(task, longest);
            }
        }
        self.tasks.get_mut(&task)
    }

    /// Since when a core lacks something now: a task may have run there, unseen.
    fn hidden_now(&self) -> Option<u64> {
        let others = self.others.iter().filter_map(|(_, other)| other.lacks);
        others.chain(self.now.lacks).min()
    }

    /// A task does something else from now on.
    fn enter(&mut self, task: u32, state: State, now: Option<Window>) {
        let Some(known) = self.task(task) else { return };
        let (was, since) = (known.state, known.since);
        (known.state, known.since) = (state, now);
        if let (Some(since), Some(now)) = (since, now)
            && was != State::Unknown
        {
            self.watcher.was(task, Spell { state: was, from: since, until: now, then: state });
        }
    }

    fn ready(&mut self, task: u32, now: Option<Window>) {
        let hidden_now = self.hidden_now();
        let Some(known) = self.task(task) else { return };
        match known.state {
            // It is told twice.
            State::Ready => return,
            // For what comes when it has stopped, or for nothing.
            State::Runs => return self.watcher.ready_again(task),
            _ => {}
        }
        known.open = Some(Open::new(now));
        // Before that it had stopped.
        let hidden = std::mem::replace(&mut known.hidden_since, hidden_now);
        // A gap that still lasts: what it hides of one that had begun before ended here at the latest.
        if let (Some(since), Some(_)) = (hidden, hidden_now) {
            self.watcher.hid(task, now.map_or(u64::MAX, |now| now.latest.saturating_sub(since)));
        }
        self.enter(task, State::Ready, now);
        self.may_run_unseen(task);
    }

    /// Whether a core lacks something now on which the task ran before.
    fn is_seen_badly(&self, task: u32) -> bool {
        let others = self.others.iter().map(|(core, other)| (core, other.lacks));
        let all = others.chain([(self.core, self.now.lacks)]);
        let mut cores = all.filter(|(_, lacks)| lacks.is_some());
        let ran = self.tasks.get(&task).map_or(CoreSet::NONE, |task| task.cores);
        cores.any(|(core, _)| ran.has(core))
    }

    /// A task that waits for a core may get one that lacks something now: what has begun may end there.
    fn may_run_unseen(&mut self, task: u32) {
        if self.hidden_now().is_none() {
            return;
        }
        if let Some(known) = self.tasks.get_mut(&task) {
            let since = known.open.and_then(|open| open.ready.or(open.began));
            let since = since.map_or(u64::MAX, |since| since.earliest);
            known.hidden_since = Some(known.hidden_since.unwrap_or(u64::MAX).min(since));
        }
    }

    fn runs(&mut self, task: u32, core: Core, now: Option<Window>) {
        let before = match self.now.owner {
            Owner::Task(before) if before == task => return,
            Owner::Task(before) => Some(before),
            Owner::Kernel | Owner::Unknown => None,
        };
        self.settle(core, now);
        self.retire();
        self.now.unowned.clear();
        let on = self.tasks.get(&task).and_then(|task| task.on);
        if on.is_some_and(|on| on != self.core) {
            self.leave_other_core(task);
        }
        if let Some(before) = before {
            self.enter(before, State::Ready, now);
            self.may_run_unseen(before);
        }
        if self.hidden_now().is_some() && self.is_seen_badly(task) {
            self.give_up(task);
        }
        if self.now.owner != Owner::Unknown {
            self.watcher.switched(before, before.is_some(), task);
        }
        let rested = self.tasks.get(&task).is_some_and(|task| {
            matches!(task.state, State::Sleeps | State::Waits(_) | State::Ended | State::Away)
        });
        // Where turns are all that is told, one that is seen to begin is an activation.
        let rested = rested || (self.turns && self.now.owner != Owner::Unknown);
        self.enter(task, State::Runs, now);
        self.now.owner = Owner::Task(task);
        self.now.own = Some(Ticks::exact(0)).filter(|_| !matches!(core, Core::Unseen));
        if let Some(known) = self.tasks.get_mut(&task) {
            known.on = Some(self.core);
            known.cores.add(self.core);
            // What it did unseen on another core has ended, or goes on here. Of one that nobody said was ready it is
            // not known since when it was.
            if let Some(since) = known.hidden_since.filter(|since| *since < u64::MAX)
                && known.open.is_some_and(|open| open.ready.is_some())
            {
                known.hidden_since = None;
                let longest = now.map_or(u64::MAX, |now| now.latest.saturating_sub(since));
                self.watcher.hid(task, longest);
            }
        }
        // Nobody said that it was ready, but it had stopped: this is an activation too.
        if let Some(known) = self.tasks.get_mut(&task).filter(|task| rested && task.open.is_none())
        {
            known.open = Some(Open::new(None));
        }
        if let Some(open) = self.tasks.get_mut(&task).and_then(|task| task.open.as_mut())
            && !open.started
        {
            (open.started, open.began) = (true, now);
            let ready = open.ready;
            self.watcher.started(task, ready, now);
        }
    }

    /// A task loses the core to another, or to the kernel: it has not stopped.
    fn preempted(&mut self, task: u32, core: Core, now: Option<Window>) {
        self.take_off(task, core, now);
        self.enter(task, State::Ready, now);
        self.ran_unseen(task, now);
        self.may_run_unseen(task);
    }

    /// A task lost the core of which nothing said that it ran: it began before, where something is missing.
    fn ran_unseen(&mut self, task: u32, now: Option<Window>) {
        let core = self.core;
        let Some(known) = self.tasks.get_mut(&task) else { return };
        known.cores.add(core);
        known.on = Some(core);
        let Some(open) = known.open.as_mut().filter(|open| !open.started) else { return };
        let ready = open.ready;
        let earliest = ready.map_or(0, |ready| ready.earliest);
        let began = now.map(|now| Window { earliest, ..now });
        (open.started, open.began, open.own) = (true, began, None);
        self.watcher.started(task, ready, began);
    }

    /// The task no longer has the core, if it had it.
    fn take_off(&mut self, task: u32, core: Core, now: Option<Window>) {
        let is_elsewhere = self
            .tasks
            .get(&task)
            .is_some_and(|task| task.state == State::Runs && task.on != Some(self.core));
        if is_elsewhere {
            self.leave_other_core(task);
        } else if self.now.owner == Owner::Unknown {
            self.own_up(task, core, now);
        } else if self.now.owner == Owner::Task(task) {
            self.settle(core, now);
            self.retire();
            self.now.owner = Owner::Kernel;
        }
    }

    /// The task that has thread mode loses it: how long it ran goes to its activation.
    fn retire(&mut self) {
        if let Owner::Task(task) = self.now.owner
            && let Some(open) = self.tasks.get_mut(&task).and_then(|task| task.open.as_mut())
        {
            let both = open.own.zip(self.now.own);
            open.own = both.map(|(before, now)| before + now);
        }
    }

    fn stops(&mut self, task: u32, why: Stop, core: Core, now: Option<Window>) {
        self.turns |= why == Stop::Untold;
        self.take_off(task, core, now);
        self.enter(task, why.into(), now);
        let hidden_now = self.hidden_now();
        let hidden = self.tasks.get_mut(&task).map(|task| &mut task.hidden_since);
        if let Some(since) = hidden.and_then(|hidden| std::mem::replace(hidden, hidden_now)) {
            self.watcher.hid(task, now.map_or(u64::MAX, |now| now.latest.saturating_sub(since)));
        }
        let Some(open) = self.tasks.get_mut(&task).and_then(|task| task.open.take()) else {
            // It ran when the recording began, or since a gap.
            if let Some((first, now)) = self.now.whole_since.zip(now) {
                self.watcher.open(task, None, now.earliest.saturating_sub(first), false);
            }
            return self.watcher.cut(task);
        };
        if !open.started {
            return self.watcher.cut(task);
        }
        self.watcher.activated(&Activation {
            task,
            ready: open.ready,
            began: open.began,
            ended: now,
            core: self.core,
            own: open.own,
        });
    }

    /// A task stops of which it was not known that it ran. Had it begun since the last gap, that would have been
    /// stated: all of thread mode's time since then is its own.
    fn own_up(&mut self, task: u32, core: Core, now: Option<Window>) {
        self.settle(core, now);
        if self.now.unowned.len() < MOST_UNOWNED {
            for (from, until) in std::mem::take(&mut self.now.unowned) {
                self.watcher.did(Actor::Task(task), from, until);
            }
        }
        self.now.unowned.clear();
        self.now.owner = Owner::Kernel;
    }

    /// Thread mode, if it runs now, is its owner's up to here.
    fn settle(&mut self, core: Core, now: Option<Window>) {
        let since = match core {
            Core::Thread(since) => since,
            Core::Untraced => None,
            Core::Handler => return,
            Core::Unseen => {
                self.now.own = None;
                return;
            }
        };
        let from = self.owned_since(since);
        if let (Some(from), Some(now)) = (from, now) {
            self.attribute(from, now);
        }
        self.now.split = now;
    }

    /// Since when thread mode, which runs since `since`, is its owner's: a change before that says
    /// nothing.
    fn owned_since(&self, since: Option<Window>) -> Option<Window> {
        match (self.now.split, since) {
            (Some(split), Some(since)) if split.latest < since.latest => Some(since),
            (split, since) => split.or(since),
        }
    }

    /// Time in thread mode goes to whoever has it.
    fn attribute(&mut self, from: Window, until: Window) {
        // What is stated late was so before thread mode went on.
        if until.latest < from.latest {
            return;
        }
        match self.now.owner {
            Owner::Unknown if self.now.unowned.len() < MOST_UNOWNED => {
                self.now.unowned.push((from, until))
            }
            Owner::Unknown => {}
            Owner::Kernel if until.latest == from.latest => {}
            Owner::Kernel => self.watcher.did(Actor::Kernel, from, until),
            Owner::Task(task) => {
                if let Some(own) = &mut self.now.own {
                    *own += between(from, until);
                }
                self.watcher.did(Actor::Task(task), from, until);
            }
        }
    }

    /// Nothing is known of any task.
    #[cold]
    fn forget(&mut self, why: Cut) {
        let lacks_since = std::mem::replace(&mut self.lacks_since, u64::MAX);
        for (&number, task) in &mut self.tasks {
            let mut hidden_since = task.hidden_since.unwrap_or(u64::MAX).min(lacks_since);
            if !task.may_run_on(self.core) {
                // It runs on, or waits to; it may have run here meanwhile, where it was not seen before.
                if task.state != State::Runs {
                    let open = task.open.and_then(|open| open.ready.or(open.began));
                    let began = open.map_or(u64::MAX, |began| began.earliest);
                    task.hidden_since = Some(hidden_since.min(began));
                }
                continue;
            }
            if let Some(open) = task.open {
                match open.ready.or(open.began) {
                    Some(began) => {
                        hidden_since = hidden_since.min(began.earliest);
                        self.watcher.cut_since(number, began);
                    }
                    None => self.watcher.cut(number),
                }
            }
            let hidden_since = Some(hidden_since);
            *task = Task { hidden_since, cores: task.cores, on: task.on, ..Task::UNKNOWN };
        }
        self.now.lacks = Some(lacks_since);
        self.now.owner = Owner::Unknown;
        self.now.unowned.clear();
        self.now.split = None;
        self.now.whole_since = None;
        self.watcher.gap(why);
    }

    /// The first event of the core after a gap. Another core may have stated meanwhile that a task is ready which runs
    /// here: whether it ran since then, and was ready again, nothing tells.
    #[cold]
    fn end_gap(&mut self) {
        self.now.lacks = None;
        let core = self.core;
        let waits = |(number, task): (&u32, &Task)| {
            (task.may_run_on(core) && task.open.is_some()).then_some(*number)
        };
        let all: Vec<u32> = self.tasks.iter().filter_map(waits).collect();
        all.into_iter().for_each(|task| self.give_up(task));
    }

    /// What has begun of a task may have ended unseen.
    #[cold]
    fn give_up(&mut self, task: u32) {
        let Some(known) = self.tasks.get_mut(&task) else { return };
        let Some(open) = known.open else { return };
        let start = open.ready.or(open.began);
        let since = start.map_or(u64::MAX, |start| start.earliest);
        let hidden_since = Some(known.hidden_since.unwrap_or(u64::MAX).min(since));
        *known = Task { hidden_since, cores: known.cores, on: known.on, ..Task::UNKNOWN };
        match start {
            Some(start) => self.watcher.cut_since(task, start),
            None => self.watcher.cut(task),
        }
    }

    /// Nothing tells how much of any task is missing.
    #[cold]
    fn hide_anything(&mut self) {
        self.hidden = Some((0, u64::MAX));
        self.tasks.keys().for_each(|&task| self.watcher.hid(task, u64::MAX));
    }

    fn stated(&mut self, statement: &Statement, core: Core, now: Option<Window>) {
        match *statement {
            Statement::Ready { task } => self.ready(task, now),
            Statement::Runs { task, .. } => self.runs(task, core, now),
            Statement::Preempted { task } => self.preempted(task, core, now),
            Statement::Stops { task, why } => self.stops(task, why, core, now),
            _ => {}
        }
        self.watcher.stated(statement);
    }
}

impl<W: Watcher, I: InterruptWatcher> InterruptWatcher for Tasks<W, I> {
    fn turns_to(&mut self, core: u8) {
        self.others.exchange(self.core, &mut self.now, core, OfCore::default);
        self.core = core;
        self.interrupts.turns_to(core);
        self.watcher.turns_to(core);
    }

    #[inline]
    fn ran(&mut self, run: &Run) {
        self.interrupts.ran(run);
    }

    #[inline(always)]
    fn entered(&mut self, exception: u16, time: Option<Window>) {
        self.interrupts.entered(exception, time);
    }

    #[inline(always)]
    fn did(&mut self, runner: Runner, from: Window, until: Window) {
        self.interrupts.did(runner, from, until);
        match runner {
            Runner::Exception(THREAD) => {
                let from = self.owned_since(Some(from)).unwrap_or(from);
                self.now.split = None;
                self.attribute(from, until);
            }
            // Unless a task is known handlers are all that is known: that says nothing of load.
            _ if self.now.owner == Owner::Unknown => {}
            Runner::Exception(number) => self.watcher.did(Actor::Exception(number), from, until),
            Runner::Switching => self.watcher.did(Actor::Switching, from, until),
            Runner::Unknown => self.now.own = None,
        }
    }

    fn open(&mut self, exception: u16, open: OpenRun) {
        self.interrupts.open(exception, open);
    }

    fn lacks_since(&mut self, earliest: u64) {
        self.interrupts.lacks_since(earliest);
        self.lacks_since = earliest;
    }

    fn cut(&mut self, why: Cut) {
        self.interrupts.cut(why);
        match why {
            Cut::Run(_) => return,
            Cut::Gap | Cut::GapGoesOn => {}
            // Packets were lost, and marks may be among them.
            Cut::Contradiction | Cut::Slip => self.hide_anything(),
        }
        self.forget(why);
    }

    fn missing(&mut self, gap: Window) {
        self.interrupts.missing(gap);
        self.watcher.missing(gap);
        let (since, longest) = self.hidden.unwrap_or((gap.earliest, 0));
        self.hidden = Some((since, longest.max(gap.latest.saturating_sub(since))));
        for (&number, task) in &mut self.tasks {
            if let Some(since) = task.hidden_since {
                self.watcher.hid(number, gap.latest.saturating_sub(since));
            }
        }
    }

    fn was(&mut self, exception: u16, ticks: u64) {
        self.interrupts.was(exception, ticks);
    }

    fn hid(&mut self, longest: u64) {
        self.interrupts.hid(longest);
    }
}
