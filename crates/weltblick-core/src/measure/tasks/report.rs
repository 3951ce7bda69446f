//! The stable form of the figures of tasks.

use super::figures::{Figures, Stack, TaskFigures, Waiting};
use super::order::{Order, Turn};
use super::tracking::{Spell, State};
use crate::event::CoreSet;
use crate::event::Thing;
use crate::figure::{Objection, ObjectionRow};
use crate::image::{Image, interrupt_name};
use crate::measure::dissection::{Actor, Phase, Stretch};
use crate::measure::duration::Duration;
use crate::measure::interrupts::{between, longest_hidden};
use crate::measure::known::{Ask, Facts, Measure, Of, Often, Part, RowFigures};
use crate::measure::losses::LossRow;
use crate::measure::statistic::{Distribution, Scale, Statistic};
use crate::measure::timing::Timing;
use crate::measure::worst::Bad;
use crate::stats::Ticks;
use rustc_hash::FxHashMap;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// Name and version of the JSON form.
const SCHEMA: &str = "weltblick/tasks/4";
/// Exceptions that a kernel uses for itself: `SVCall`, `PendSV`, `SysTick`.
const KERNEL_EXCEPTIONS: [u16; 3] = [11, 14, 15];

/// What a report needs beside the figures.
#[derive(Debug, Clone, Copy)]
pub struct Context<'a> {
    /// What the numbers mean.
    pub image: Option<&'a Image>,
    /// The recording and its clocks.
    pub timing: Timing<'a>,
    /// How ticks are stated.
    pub scale: Scale,
    /// A debugger stopped the core now and then.
    pub intrusive: bool,
    /// Exceptions were traced too.
    pub exceptions: bool,
    /// Statements about more tasks than are followed.
    pub unfollowed: u64,
    /// What every figure rests on.
    pub facts: &'a Facts,
    /// Figures without what no synchronisation of an instruction trace confirms, and what these rest on.
    pub confirmed: Option<(&'a TaskFigures, &'a Facts)>,
}

impl Context<'_> {
    fn ns(&self, tick: u64) -> f64 {
        tick as f64 * self.scale.ns
    }

    /// What to call whoever has the core.
    fn actor(&self, actor: Actor, figures: &TaskFigures) -> String {
        match actor {
            Actor::Task(task) => figures.name(Thing::Task(task), self.image),
            Actor::Exception(0) => "thread".into(),
            Actor::Exception(number) => {
                self.timing.recording.interrupt_names.name(number, self.image)
            }
            Actor::Kernel => "kernel".into(),
            Actor::Switching => "entering and leaving".into(),
        }
    }
}

impl TaskFigures {
    /// What a thing is called: as the firmware says, else by its number.
    #[must_use]
    pub fn name(&self, thing: Thing, image: Option<&Image>) -> String {
        let name = self.names.get(&thing);
        let told = name.and_then(|name| name.told(|address| image?.text_at(address)));
        told.unwrap_or_else(|| match thing {
            Thing::Task(number) => format!("task {number}"),
            Thing::Object(number) => format!("object {number}"),
            Thing::Span(number) => format!("span {number}"),
            Thing::Quantity(number) => format!("quantity {number}"),
            Thing::Interrupt(number) => interrupt_name(image, number),
        })
    }
}

/// Who had the core for a part of a case.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ActorPart {
    /// A task, an interrupt, `kernel`, or `entering and leaving`.
    pub who: String,
    /// From ready to the first run; else while it was active.
    pub waiting: bool,
    /// How often, of handlers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub times: Option<u64>,
    /// How long in all.
    pub duration: Duration,
}

/// One activation: one of the worst, or listed.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ActivationRow {
    /// Whose.
    pub task: String,
    /// Its number among the activations of its task, from 0.
    pub number: u64,
    /// When the task became ready, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ready_ns: Option<f64>,
    /// When it first ran.
    pub began_ns: f64,
    /// When it stopped.
    pub ended_ns: f64,
    /// From ready to the first run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pending: Option<Duration>,
    /// From the first run to the stop.
    pub elapsed: Duration,
    /// From ready to the stop.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub response: Option<Duration>,
    /// Who had the core meanwhile, longest first.
    pub parts: Vec<ActorPart>,
}

/// The load of a task over time.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct LoadRow {
    /// Of all of the time; what was seen is a part of the time in which it is known who had the core.
    #[serde(flatten)]
    pub all: Part,
    /// The length of a window.
    pub window: Duration,
    /// How many windows beside each other the recording has: loads are of all positions of one that slides over it.
    pub windows: u64,
    /// The least load of a window.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min: Option<Part>,
    /// Their mean.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mean: Option<Part>,
    /// The highest.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max: Option<Part>,
    /// When the window with the highest began, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_at_ns: Option<f64>,
}

/// How much of a stack was used.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct StackRow {
    /// Its bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<u32>,
    /// The most that was used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used: Option<u64>,
    /// The same as a part of its size.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share: Option<f64>,
    /// The true part is not more; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share_high: Option<f64>,
    /// Its end was reached, or the stack pointer lay outside.
    pub overflowed: bool,
}

impl From<Stack> for StackRow {
    fn from(stack: Stack) -> Self {
        let size = stack.extent.map(|(_, size)| size);
        let share = stack.used.zip(size).map(|(used, size)| used as f64 / f64::from(size.max(1)));
        let overflowed = stack.left || share.is_some_and(|share| share >= 1.0);
        Self { size, used: stack.used, share, share_high: None, overflowed }
    }
}

/// How long a task was in one state.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct StateRow {
    /// `runs`, `ready`, `sleeps`, `waits`, `ended`; `away`: off the core, and nothing tells why.
    pub state: String,
    /// As a part of all the time that is known of this task.
    pub share: f64,
    /// How long in all.
    pub duration: Duration,
}

/// What a task waited for.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct WaitRow {
    /// The object; absent where nothing tells which.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub object: Option<String>,
    /// How often.
    pub count: u64,
    /// How long on average.
    pub mean: Duration,
    /// How long at most.
    pub max: Duration,
}

/// Figures of one task.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct TaskRow {
    /// The cores on which it ran; absent where the recording is of one core.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cores: Vec<u8>,
    /// Its number, as the firmware states it.
    pub id: u32,
    /// Its name.
    pub name: String,
    /// Its priority as the kernel counts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub priority: Option<u8>,
    /// Complete activations.
    #[serde(flatten)]
    pub often: Often,
    /// Activations without a duration: something is missing inside.
    pub cut: u64,
    /// How long an activation lasted at most of which something is missing; absent where nothing is,
    /// or nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hidden: Option<Duration>,
    /// It never stops by its own will and nothing is below it.
    pub idle: bool,
    /// It was created, or named, and never seen running.
    pub never_ran: bool,
    /// From ready to the first run.
    pub pending: Statistic,
    /// From the first run to the stop.
    pub elapsed: Statistic,
    /// From ready to the stop.
    pub response: Statistic,
    /// Without interrupts and other tasks.
    pub own: Statistic,
    /// From ready to ready.
    pub period: Statistic,
    /// The difference between one period and the next.
    pub jitter: Statistic,
    /// Of a task with a period: periods without an activation.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub missed: Option<u64>,
    /// Its load.
    pub load: LoadRow,
    /// Its stack.
    pub stack: StackRow,
    /// Another task took the core from it; absent where nothing tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub preempted: Option<u64>,
    /// It gave the core away; absent where nothing tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub yielded: Option<u64>,
    /// What it did, longest first.
    pub states: Vec<StateRow>,
    /// What it waited for, longest first.
    pub waits: Vec<WaitRow>,
    /// How `response` is spread; `elapsed` where the trace has no moments at which tasks become ready.
    pub distribution: Distribution,
    /// What speaks against these figures: their bounds count it for and against them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<ObjectionRow>,
    /// The longest `response` or `elapsed`, explained.
    pub worst: Vec<ActivationRow>,
    /// The longest `pending`, explained.
    pub latest: Vec<ActivationRow>,
}

/// Where all of the time went, as parts of it; of several cores, of the time of all of them.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct Totals {
    /// Tasks but the idle one.
    pub tasks: f64,
    /// The idle task, or thread mode with nothing to run.
    pub idle: f64,
    /// Handlers, without those of the kernel.
    pub interrupts: f64,
    /// The kernel: its own handlers (`SVCall`, `PendSV`, `SysTick`) and the way from task to task.
    pub kernel: f64,
    /// Nothing tells who had the core: at the beginning, and after a loss up to the next switch.
    pub unknown: f64,
}

/// All tasks of a recording.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct TaskReport {
    /// `weltblick/tasks/4`.
    pub schema: String,
    /// From the first event to the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
    /// Where all of the time went.
    pub totals: Totals,
    /// From one task to another, how often.
    pub switches: u64,
    /// Longest pending first.
    pub tasks: Vec<TaskRow>,
    /// How far to believe it.
    pub evidence: TaskEvidence,
}

/// On what the figures rest.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct TaskEvidence {
    /// `statements`; `turns`: only who has the core is told, and an activation is a turn on it.
    pub basis: String,
    /// The core was stopped now and then: its timing is not its own.
    pub intrusive: bool,
    /// Exceptions were traced too: own times are without them.
    pub exceptions: bool,
    /// Places where something is missing.
    pub gaps: u64,
    /// Time of which it is known who had the core, in nanoseconds.
    pub known_ns: f64,
    /// What is missing.
    pub losses: Vec<LossRow>,
    /// What speaks against figures of this recording, whichever they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
    /// What else to know, each a sentence.
    pub doubts: Vec<String>,
}

/// States what came out. Without `stretches` the worst cases have no parts.
#[must_use]
pub fn report(figures: &TaskFigures, stretches: &[Stretch], context: &Context<'_>) -> TaskReport {
    let stretches = by_case(stretches);
    let idle = figures.idle();
    let mut tasks: Vec<TaskRow> = figures
        .rows()
        .map(|row| self::row(row, idle.contains(&row.task), figures, &stretches, context))
        .collect();
    let longest = |row: &TaskRow| row.pending.max.map_or(-1.0, |max| max.ns_low);
    tasks.sort_by(|a, b| longest(b).total_cmp(&longest(a)).then(a.id.cmp(&b.id)));
    TaskReport {
        schema: SCHEMA.into(),
        duration: context.timing.duration(),
        totals: totals(figures, &idle, context),
        switches: figures.switches,
        evidence: TaskEvidence {
            basis: if figures.are_turns() { "turns" } else { "statements" }.into(),
            intrusive: context.intrusive,
            exceptions: context.exceptions,
            gaps: figures.gaps,
            known_ns: context.ns(figures.known()),
            losses: context.timing.recording.losses.rows(),
            objections: context.facts.objections(),
            doubts: doubts(figures, context),
        },
        tasks,
    }
}

/// Every activation that was listed, in the order in which they began.
#[must_use]
pub fn each(
    figures: &TaskFigures,
    stretches: &[Stretch],
    context: &Context<'_>,
) -> Vec<ActivationRow> {
    let stretches = by_case(stretches);
    let mut rows: Vec<ActivationRow> = figures
        .rows()
        .flat_map(|row| row.each.iter().flatten().map(|bad| (row.task, bad)))
        .map(|(task, bad)| activation(task, bad, figures, &stretches, context))
        .collect();
    rows.sort_by(|a, b| a.began_ns.total_cmp(&b.began_ns));
    rows
}

/// A task had the core, and then not.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct TurnRow {
    /// The core that it had; absent where the recording is of one core.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core: Option<u8>,
    /// Which.
    pub task: String,
    /// When it began to run, in nanoseconds since the trace began.
    pub began_ns: f64,
    /// How long, with the handlers that ran meanwhile.
    pub duration: Duration,
    /// What it did then: `ready` (another task took the core), `sleeps`, `waits`, `ended`; `away` where
    /// nothing tells.
    pub then: String,
    /// For what it waits then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub object: Option<String>,
}

/// The turns of all tasks, in order.
#[must_use]
pub fn turns(order: &Order, figures: &TaskFigures, context: &Context<'_>) -> Vec<TurnRow> {
    let turn = |turn: &Turn| {
        let Spell { from, until, then, .. } = turn.spell;
        let object = match then {
            State::Waits(object) => object,
            _ => None,
        };
        TurnRow {
            core: context.timing.recording.core(turn.core),
            task: figures.name(Thing::Task(turn.task), context.image),
            began_ns: context.ns(from.latest),
            duration: context.scale.duration(between(from, until)),
            then: then.name().to_owned(),
            object: object.map(|object| figures.name(Thing::Object(object), context.image)),
        }
    };
    order.turns.iter().map(turn).collect()
}

type ByCase<'a> = FxHashMap<(Actor, u64), &'a Stretch>;

fn by_case(stretches: &[Stretch]) -> ByCase<'_> {
    stretches.iter().map(|stretch| ((stretch.subject, stretch.bad.number), stretch)).collect()
}

impl TaskFigures {
    /// Whether activations are turns on the core, for nothing tells more.
    #[must_use]
    pub fn are_turns(&self) -> bool {
        self.only_turns || self.rows().any(|row| row.lost_core > 0)
    }

    /// The task that has the core when nothing else wants it: it runs, never stops, and no other that
    /// does so has a lower priority.
    fn idle_on(&self, core: u8) -> Option<u32> {
        if self.are_turns() {
            return self.idle;
        }
        self.rows()
            .filter(|row| row.cores.has(core) && row.busy > 0 && row.yielded == 0)
            .min_by_key(|row| (row.priority, std::cmp::Reverse(row.busy)))
            .map(|row| row.task)
    }

    /// Those that do so, one of each core.
    pub(crate) fn idle(&self) -> Vec<u32> {
        let mut cores = CoreSet::NONE;
        self.rows().flat_map(|row| row.cores.iter()).for_each(|core| cores.add(core));
        cores.iter().filter_map(|core| self.idle_on(core)).collect()
    }
}

/// All ticks of the recording on all of its cores, those of which nothing is known included.
fn all(figures: &TaskFigures, context: &Context<'_>) -> f64 {
    let recording = context.timing.recording;
    let span = recording.span().unwrap_or(0).saturating_mul(u64::from(recording.cores()));
    figures.known().max(span).max(1) as f64
}

fn totals(figures: &TaskFigures, idle: &[u32], context: &Context<'_>) -> Totals {
    let all = all(figures, context);
    let unknown = 1.0 - figures.known() as f64 / all;
    let mut totals = Totals { tasks: 0.0, idle: 0.0, interrupts: 0.0, kernel: 0.0, unknown };
    for (actor, ticks) in figures.busy() {
        let share = ticks as f64 / all;
        match actor {
            Actor::Task(task) if idle.contains(&task) => totals.idle += share,
            Actor::Task(_) => totals.tasks += share,
            Actor::Exception(number) if !KERNEL_EXCEPTIONS.contains(&number) => {
                totals.interrupts += share;
            }
            Actor::Exception(_) | Actor::Kernel | Actor::Switching => totals.kernel += share,
        }
    }
    totals
}

fn row(
    row: &Figures,
    idle: bool,
    figures: &TaskFigures,
    stretches: &ByCase<'_>,
    context: &Context<'_>,
) -> TaskRow {
    let scale = context.scale;
    let find = |ask: Ask| {
        let mut found = figures.figure(row, ask, context.facts)?;
        if let Some((before, facts)) = context.confirmed {
            let same = before.rows().find(|other| other.task == row.task);
            found.agree_with(same.and_then(|row| before.figure(row, ask, facts).ok()));
        }
        Ok(found)
    };
    let mut asked = RowFigures::new(scale, None, &find).by_turns();
    let cases = |list: &[Bad]| -> Vec<ActivationRow> {
        list.iter().map(|bad| activation(row.task, bad, figures, stretches, context)).collect()
    };
    let told = row.response.count() > 0;
    let worst = if told { &row.worst_response } else { &row.worst_elapsed };
    let loads = figures.loads(row, context.facts.end.latest);
    let has_windows = loads.windows > 0;
    let several = context.timing.recording.cores() > 1;
    TaskRow {
        cores: row.cores.iter().filter(|_| several).collect(),
        id: row.task,
        name: figures.name(Thing::Task(row.task), context.image),
        priority: row.priority,
        often: asked.often(),
        cut: row.cut,
        idle,
        hidden: context.scale.hidden(row.hidden),
        never_ran: row.busy == 0 && row.activations == 0 && row.cut == 0,
        pending: asked.statistic(Measure::Pending),
        elapsed: asked.statistic(Measure::Elapsed),
        response: asked.statistic(Measure::Response),
        own: asked.statistic(Measure::Own),
        period: asked.statistic(Measure::Period),
        jitter: asked.statistic(Measure::Jitter),
        missed: row.grid.is_periodic().then_some(row.grid.missed),
        load: LoadRow {
            all: asked.part(Measure::Load, Of::All).unwrap_or_default(),
            window: scale.duration(Ticks::exact(figures.window())),
            windows: loads.windows,
            min: asked.part(Measure::Load, Of::Min),
            mean: asked.part(Measure::Load, Of::Mean),
            max: asked.part(Measure::Load, Of::Max),
            max_at_ns: has_windows.then(|| context.ns(loads.most_at)),
        },
        stack: StackRow {
            share_high: asked
                .figure(Measure::StackPeak, Of::All)
                .map(|peak| peak.high)
                .filter(|high| high.is_finite()),
            ..row.stack.into()
        },
        preempted: (idle || !figures.are_turns()).then_some(row.preempted),
        yielded: (!figures.are_turns()).then_some(row.yielded),
        states: states(row, context),
        waits: waits(row, figures, context),
        distribution: scale.distribution(if told { &row.response } else { &row.elapsed }),
        worst: cases(worst.list()),
        latest: cases(row.worst_pending.list()),
        objections: asked.objections(),
    }
}

fn states(row: &Figures, context: &Context<'_>) -> Vec<StateRow> {
    let all: u64 = row.states.values().sum::<u64>().max(1);
    let mut sums: BTreeMap<&str, u64> = BTreeMap::new();
    for (state, ticks) in &row.states {
        *sums.entry(state.name()).or_default() += ticks;
    }
    let mut rows: Vec<StateRow> = sums
        .into_iter()
        .filter(|(_, ticks)| *ticks > 0)
        .map(|(state, ticks)| StateRow {
            state: state.to_owned(),
            share: ticks as f64 / all as f64,
            duration: context.scale.duration(Ticks::exact(ticks)),
        })
        .collect();
    rows.sort_by(|a, b| b.share.total_cmp(&a.share));
    rows
}

fn waits(row: &Figures, figures: &TaskFigures, context: &Context<'_>) -> Vec<WaitRow> {
    let mut waits: Vec<(&Option<u32>, &Waiting)> = row.waits.iter().collect();
    waits.sort_by_key(|(_, waiting)| std::cmp::Reverse(waiting.sum));
    let wait = |(object, waiting): (&Option<u32>, &Waiting)| WaitRow {
        object: object.map(|object| figures.name(Thing::Object(object), context.image)),
        count: waiting.count,
        mean: context.scale.duration(Ticks::exact(waiting.sum / waiting.count.max(1))),
        max: context.scale.duration(waiting.most),
    };
    waits.into_iter().map(wait).collect()
}

fn activation(
    task: u32,
    bad: &Bad,
    figures: &TaskFigures,
    stretches: &ByCase<'_>,
    context: &Context<'_>,
) -> ActivationRow {
    let subject = Actor::Task(task);
    let mut parts: Vec<ActorPart> = Vec::new();
    if let Some(stretch) = stretches.get(&(subject, bad.number)) {
        parts.extend(stretch.parts.iter().map(|(&(phase, actor), part)| ActorPart {
            who: context.actor(actor, figures),
            waiting: phase == Phase::Waiting,
            times: matches!(actor, Actor::Exception(_)).then_some(part.times),
            duration: context.scale.duration(Ticks::exact(part.ticks)),
        }));
    }
    parts.sort_by(|a, b| b.duration.ns.total_cmp(&a.duration.ns));
    let from = |from, until| context.scale.duration(between(from, until));
    ActivationRow {
        task: figures.name(Thing::Task(task), context.image),
        number: bad.number,
        ready_ns: bad.requested.map(|ready| context.ns(ready.latest)),
        began_ns: context.ns(bad.began.latest),
        ended_ns: context.ns(bad.ended.latest),
        pending: bad.requested.map(|ready| from(ready, bad.began)),
        elapsed: from(bad.began, bad.ended),
        response: bad.requested.map(|ready| from(ready, bad.ended)),
        parts,
    }
}

fn doubts(figures: &TaskFigures, context: &Context<'_>) -> Vec<String> {
    let mut doubts = Vec::new();
    if figures.are_turns() {
        doubts.push("Only who has the core is told: a run is a turn on it, and a task that was pre-empted begins another.".into());
    }
    let cut: u64 = figures.rows().map(|row| row.cut).sum();
    // The idle task is never activated.
    let idle = figures.idle();
    let others = figures.rows().filter(|row| !idle.contains(&row.task));
    let hidden = others.map(|row| row.hidden).max().unwrap_or(0);
    let left_out = context.timing.recording.left_out;
    if left_out > 0 {
        doubts.push(format!(
            "Only a part of the recording is told, {}: {cut} {} at its edges and have no duration.",
            if left_out == 1 { "once".to_owned() } else { format!("{left_out} times") },
            if cut == 1 { "activation was cut" } else { "activations were cut" },
        ));
    }
    if figures.gaps > left_out {
        doubts.push(format!(
            "Something is missing in {} {}: {cut} {} there and have no duration, and no load is known until the next switch. {}.",
            figures.gaps - left_out,
            if figures.gaps - left_out == 1 { "place" } else { "places" },
            if cut == 1 { "activation was cut" } else { "activations were cut" },
            longest_hidden(context.scale.hidden(hidden), "activation"),
        ));
    }
    if context.timing.recording.time_slipped {
        doubts.push("Bytes were lost, and time with them: moments after that are later than stated; durations are not touched.".into());
    }
    if context.unfollowed > 0 {
        doubts.push(format!(
            "There are more than 4096 tasks: {} statements about the others are left out. Is `marks_port` right?",
            context.unfollowed
        ));
    } else if figures.undetailed() > 0 {
        doubts.push(format!(
            "There are more than 64 tasks: {} of them have no percentiles.",
            figures.undetailed()
        ));
    }
    doubts
}
