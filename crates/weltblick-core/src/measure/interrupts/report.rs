//! The stable form of the figures of exceptions.

use super::figures::{Figures, InterruptFigures};
use super::nesting::{THREAD, between};
use crate::capture::Priorities;
use crate::document::times;
use crate::figure::{Objection, ObjectionRow};
use crate::image::Image;
use crate::measure::dissection::{Actor, Dissection, Phase, Stretch};
use crate::measure::duration::Duration;
use crate::measure::known::{Ask, Facts, KnownBy, Measure, Of, Often, Part, RowFigures};
use crate::measure::losses::LossRow;
use crate::measure::statistic::{Distribution, Scale, Statistic};
use crate::measure::timing::Timing;
use crate::measure::worst::Bad;
use crate::stats::Spread;
use crate::time::{Window, duration_ns};
use rustc_hash::FxHashMap;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
const SCHEMA: &str = "weltblick/interrupts/4";
/// The hardware needs some cycles to enter a handler, more where a long instruction or slow memory
/// is in the way: below this many core cycles a wait is entry, not masking.
const ENTRY_CYCLES: f64 = 40.0;

/// What a report needs beside the figures.
#[derive(Debug, Clone, Copy)]
pub struct Context<'a> {
    /// What the numbers mean.
    pub image: Option<&'a Image>,
    /// The recording and its clocks.
    pub timing: Timing<'a>,
    /// How ticks are stated.
    pub scale: Scale,
    /// What is known of priorities.
    pub priorities: &'a Priorities,
    /// A debugger stopped the core now and then.
    pub intrusive: bool,
    /// What every figure rests on.
    pub facts: &'a Facts,
    /// Figures without what no synchronisation of an instruction trace confirms, and what these rest on.
    pub confirmed: Option<(&'a InterruptFigures, &'a Facts)>,
}

impl Context<'_> {
    /// What to call an exception.
    #[must_use]
    pub fn name(&self, exception: u16) -> String {
        self.timing.recording.interrupt_names.name(exception, self.image)
    }

    fn ns(&self, tick: u64) -> f64 {
        tick as f64 * self.scale.ns
    }
}

/// Which figure a case is the worst of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum FigureName {
    /// From start to end.
    Elapsed,
    /// From request to start.
    Pending,
    /// From request to end.
    Response,
}

/// Why time went by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Cause {
    /// The handler itself ran.
    Own,
    /// Another handler interrupted it.
    Preempted,
    /// It waited until another handler had ended.
    Behind,
    /// Something ran that it interrupts otherwise: interrupts were masked.
    Masked,
    /// The hardware entered, left or changed handlers.
    Switching,
}

/// A part of a case.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CausePart {
    /// Why.
    pub cause: Cause,
    /// Who ran: another interrupt, or `thread`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interrupt: Option<String>,
    /// How often.
    pub times: u64,
    /// How long in all.
    pub duration: Duration,
}

/// One of the worst cases, explained.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Case {
    /// The worst of which figure.
    pub figure: FigureName,
    /// How long.
    pub duration: Duration,
    /// Its number among the runs of its interrupt, from 0.
    pub number: u64,
    /// When it was requested, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requested_ns: Option<f64>,
    /// When the handler began.
    pub began_ns: f64,
    /// When it ended.
    pub ended_ns: f64,
    /// What the time went to, most first.
    pub parts: Vec<CausePart>,
}

/// The grid on which a periodic interrupt is requested.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct GridRow {
    /// From request to request.
    pub period: Duration,
    /// How much that changed over the recording, in parts per million.
    pub drift_ppm: f64,
    /// Requests that no run followed.
    pub missed: u64,
    /// Runs that lie on the grid.
    pub runs: u64,
    /// Runs that lie on none: how late they were is unknown.
    pub unfitted: u64,
}

/// Figures of one interrupt.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct InterruptRow {
    /// The core that took it; absent where the recording is of one core.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core: Option<u8>,
    /// The exception number.
    pub exception: u16,
    /// Its name.
    pub name: String,
    /// Its priority, where it is known: lower is more urgent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub priority: Option<i16>,
    /// How often its handler was entered.
    #[serde(flatten)]
    pub often: Often,
    /// The part of the time in which it ran.
    pub load: Part,
    /// Runs without a duration: something is missing inside.
    pub cut: u64,
    /// Runs that followed another handler without a return in between.
    pub chained: u64,
    /// Runs that were pre-empted.
    pub preempted: u64,
    /// Handlers inside it, one in the other, at most.
    pub depth: u16,
    /// Without what pre-empted it.
    pub own: Statistic,
    /// From start to end.
    pub elapsed: Statistic,
    /// From start to start.
    pub period: Statistic,
    /// The difference between one period and the next.
    pub jitter: Statistic,
    /// How pending and response times were obtained.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub basis: Option<KnownBy>,
    /// From request to start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pending: Option<Statistic>,
    /// From request to end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub response: Option<Statistic>,
    /// Where requests are periodic.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub grid: Option<GridRow>,
    /// How `elapsed` is spread.
    pub distribution: Distribution,
    /// The same for `pending`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pending_distribution: Option<Distribution>,
    /// What speaks against these figures: their bounds count it for and against them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<ObjectionRow>,
    /// The worst cases, explained.
    pub worst: Vec<Case>,
}

/// Who interrupted whom.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct PreemptionRow {
    /// On which core; absent where the recording is of one core.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core: Option<u8>,
    /// The one that ran.
    pub above: String,
    /// What it held up; `thread` is everything outside handlers.
    pub below: String,
    /// How often it interrupted it.
    pub count: u64,
    /// How often it followed another handler before that one could go on.
    pub followed: u64,
    /// How long it ran then.
    pub duration: Duration,
}

/// On what the figures rest.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct InterruptEvidence {
    /// `exception_trace`.
    pub basis: String,
    /// The core was stopped now and then: its timing is not its own.
    pub intrusive: bool,
    /// Places where something is missing.
    pub gaps: u64,
    /// How long a run lasted at most of which something is missing there; absent where nothing bounds
    /// it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hidden: Option<Duration>,
    /// Entries, exits and returns that contradict each other: losses that nothing told.
    pub contradictions: u64,
    /// Time of which it is known what ran, in nanoseconds.
    pub known_ns: f64,
    /// What is missing.
    pub losses: Vec<LossRow>,
    /// What speaks against figures of this recording, whichever they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
    /// What else to know, each a sentence.
    pub doubts: Vec<String>,
}

/// All interrupts of a recording.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct InterruptReport {
    /// `weltblick/interrupts/4`.
    pub schema: String,
    /// From the first event to the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
    /// The part of the time in which any handler ran, or was entered or left.
    pub load: f64,
    /// Handlers active at once, at most.
    pub deepest: u16,
    /// Highest load first.
    pub interrupts: Vec<InterruptRow>,
    /// Longest first.
    pub preemptions: Vec<PreemptionRow>,
    /// How far to believe it.
    pub evidence: InterruptEvidence,
}

impl Figures {
    /// How pending and response times are obtained, best way first.
    #[must_use]
    pub const fn basis(&self) -> Option<KnownBy> {
        if self.stated_pending.count() > 0 {
            Some(KnownBy::Stated)
        } else if self.grid.is_periodic() {
            Some(KnownBy::Grid)
        } else if self.chained_pending.count() > 0 {
            Some(KnownBy::Chained)
        } else {
            None
        }
    }

    /// From request to start, by that way.
    #[must_use]
    pub const fn pending(&self) -> Option<&Spread> {
        match self.basis() {
            Some(KnownBy::Stated) => Some(&self.stated_pending),
            Some(KnownBy::Grid) => Some(&self.grid.pending),
            Some(KnownBy::Chained) => Some(&self.chained_pending),
            None => None,
        }
    }

    /// From request to end, by that way.
    #[must_use]
    pub const fn response(&self) -> Option<&Spread> {
        match self.basis() {
            Some(KnownBy::Stated) => Some(&self.stated_response),
            Some(KnownBy::Grid) => Some(&self.grid.response),
            Some(KnownBy::Chained) | None => None,
        }
    }

    /// The worst cases by figure, worst first.
    #[must_use]
    pub fn worst(&self) -> Vec<(FigureName, &[Bad])> {
        let [by_statement, by_grid] = &self.worst_response;
        let waiting = match self.basis() {
            Some(KnownBy::Stated) => Some((&self.worst_stated, by_statement)),
            Some(KnownBy::Grid) => Some((&self.worst_late, by_grid)),
            Some(KnownBy::Chained) | None => None,
        };
        let mut worst = Vec::new();
        if let Some((pending, response)) = waiting {
            worst.push((FigureName::Response, response.list()));
            worst.push((FigureName::Pending, pending.list()));
        }
        worst.push((FigureName::Elapsed, self.worst_elapsed.list()));
        worst
    }
}

impl InterruptFigures {
    /// The cases to be explained by a second reading: the worst, and every run that is listed.
    #[must_use]
    pub fn cases(&self) -> Dissection {
        let mut cases = Vec::new();
        for row in self.rows() {
            let each = row.each.as_deref().unwrap_or_default();
            let worst = row.worst().into_iter().flat_map(|(_, list)| list);
            let subject = Actor::Exception(row.exception);
            cases.extend(worst.chain(each).map(|&bad| (subject, bad)));
        }
        Dissection::new(cases)
    }
}

/// States what came out. Without `stretches` the worst cases have no parts.
#[must_use]
pub fn report(
    figures: &InterruptFigures,
    stretches: &[Stretch],
    context: &Context<'_>,
) -> InterruptReport {
    let known = figures.known().max(1) as f64;
    let mut interrupts: Vec<InterruptRow> =
        figures.rows().map(|row| self::row(row, figures, stretches, context)).collect();
    interrupts
        .sort_by(|a, b| b.load.share.total_cmp(&a.load.share).then(a.exception.cmp(&b.exception)));
    InterruptReport {
        schema: SCHEMA.into(),
        duration: context.timing.duration(),
        load: 1.0 - figures.thread() as f64 / known,
        deepest: figures.deepest,
        interrupts,
        preemptions: preemptions(figures, context),
        evidence: InterruptEvidence {
            basis: "exception_trace".into(),
            intrusive: context.intrusive,
            gaps: figures.gaps(),
            hidden: context.scale.hidden(figures.hidden()),
            contradictions: figures.contradictions(),
            known_ns: context.ns(figures.known()),
            losses: context.timing.recording.losses.rows(),
            objections: context.facts.objections(),
            doubts: doubts(figures, context),
        },
    }
}

fn row(
    row: &Figures,
    figures: &InterruptFigures,
    stretches: &[Stretch],
    context: &Context<'_>,
) -> InterruptRow {
    let scale = context.scale;
    let find = |ask: Ask| {
        let mut found = figures.figure(row, ask, context.facts)?;
        if let Some((before, facts)) = context.confirmed {
            let same = before.same_as(row);
            found.agree_with(same.and_then(|row| before.figure(row, ask, facts).ok()));
        }
        Ok(found)
    };
    let mut asked = RowFigures::new(scale, row.basis(), &find);
    let grid = row.grid.period().filter(|_| row.grid.is_periodic()).map(|period| GridRow {
        period: scale.duration(crate::stats::Bounds::exact(period)),
        drift_ppm: row.grid.drift().unwrap_or(0.0) * 1e6,
        missed: row.grid.missed,
        runs: row.grid.fitted,
        unfitted: row.grid.unfitted,
    });
    let mut worst = Vec::new();
    for (figure, list) in row.worst() {
        worst.extend(list.iter().map(|bad| {
            case(figure, bad, found(row.exception, bad, stretches), row, figures, context)
        }));
    }
    InterruptRow {
        core: context.timing.recording.core(row.core),
        exception: row.exception,
        name: context.name(row.exception),
        priority: context.priorities.of(row.exception),
        often: asked.often(),
        load: asked.part(Measure::Load, Of::All).unwrap_or_default(),
        cut: row.cut,
        chained: row.chained,
        preempted: row.preempted,
        depth: row.depth,
        own: asked.statistic(Measure::Own),
        elapsed: asked.statistic(Measure::Elapsed),
        period: asked.statistic(Measure::Period),
        jitter: asked.statistic(Measure::Jitter),
        basis: row.basis(),
        pending: row.pending().map(|_| asked.statistic(Measure::Pending)),
        response: row.response().map(|_| asked.statistic(Measure::Response)),
        grid,
        distribution: scale.distribution(&row.elapsed),
        pending_distribution: row.pending().map(|pending| scale.distribution(pending)),
        objections: asked.objections(),
        worst,
    }
}

/// One run.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct RunRow {
    /// The core that took it; absent where the recording is of one core.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core: Option<u8>,
    /// The interrupt.
    pub interrupt: String,
    /// Its number among the runs of its interrupt, from 0.
    pub number: u64,
    /// When it was requested, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requested_ns: Option<f64>,
    /// When the handler began.
    pub began_ns: f64,
    /// When it ended.
    pub ended_ns: f64,
    /// From request to start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pending: Option<Duration>,
    /// From start to end.
    pub elapsed: Duration,
    /// From request to end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub response: Option<Duration>,
    /// What the time went to, most first.
    pub parts: Vec<CausePart>,
}

/// Every run that was listed, in order of their starts.
#[must_use]
pub fn each(
    figures: &InterruptFigures,
    stretches: &[Stretch],
    context: &Context<'_>,
) -> Vec<RunRow> {
    let mut rows = Vec::new();
    let key = |stretch: &Stretch| (stretch.bad.core, stretch.subject, stretch.bad.number);
    let by_run: FxHashMap<(u8, Actor, u64), &Stretch> =
        stretches.iter().map(|stretch| (key(stretch), stretch)).collect();
    for row in figures.rows() {
        for bad in row.each.iter().flatten() {
            let subject = Actor::Exception(row.exception);
            let stretch = by_run.get(&(row.core, subject, bad.number)).copied();
            // Where the firmware or a grid says when it was requested, the response says it all.
            let case = case(FigureName::Response, bad, stretch, row, figures, context);
            let from = |from: Window, until: Window| context.scale.duration(between(from, until));
            rows.push(RunRow {
                core: context.timing.recording.core(row.core),
                interrupt: context.name(row.exception),
                number: bad.number,
                requested_ns: case.requested_ns,
                began_ns: case.began_ns,
                ended_ns: case.ended_ns,
                pending: bad.requested.map(|requested| from(requested, bad.began)),
                elapsed: from(bad.began, bad.ended),
                response: bad.requested.map(|requested| from(requested, bad.ended)),
                parts: case.parts,
            });
        }
    }
    rows.sort_by(|a, b| a.began_ns.total_cmp(&b.began_ns));
    rows
}

fn found<'a>(exception: u16, bad: &Bad, stretches: &'a [Stretch]) -> Option<&'a Stretch> {
    let subject = Actor::Exception(exception);
    stretches.iter().find(|stretch| stretch.subject == subject && stretch.bad == *bad)
}

fn case(
    figure: FigureName,
    bad: &Bad,
    stretch: Option<&Stretch>,
    row: &Figures,
    figures: &InterruptFigures,
    context: &Context<'_>,
) -> Case {
    let wanted = |phase: Phase| match figure {
        FigureName::Elapsed => phase == Phase::Running,
        FigureName::Pending => phase == Phase::Waiting,
        FigureName::Response => true,
    };
    let mut parts = Vec::new();
    if let Some(stretch) = stretch {
        for (&(phase, actor), part) in stretch.parts.iter().filter(|((p, _), _)| wanted(*p)) {
            let cause = cause(phase, actor, part.ticks, row, figures, context);
            let who = match actor {
                Actor::Exception(number) if !matches!(cause, Cause::Own | Cause::Switching) => {
                    Some(context.name(number))
                }
                _ => None,
            };
            parts.push(CausePart {
                cause,
                interrupt: who,
                times: part.times,
                duration: context.scale.duration(crate::stats::Ticks::exact(part.ticks)),
            });
        }
    }
    parts.sort_by(|a, b| b.duration.ns.total_cmp(&a.duration.ns));
    Case {
        figure,
        duration: context.scale.duration(bad.ticks),
        number: bad.number,
        requested_ns: bad.requested.map(|window| context.ns(window.middle())),
        began_ns: context.ns(bad.began.latest),
        ended_ns: context.ns(bad.ended.latest),
        parts,
    }
}

fn cause(
    phase: Phase,
    actor: Actor,
    ticks: u64,
    row: &Figures,
    figures: &InterruptFigures,
    context: &Context<'_>,
) -> Cause {
    let interrupts = |who: u16| figures.interrupts(row, who);
    match (phase, actor) {
        (Phase::Running, Actor::Exception(who)) if who == row.exception => Cause::Own,
        (Phase::Waiting, Actor::Exception(who)) if interrupts(who) => {
            let cycles = ticks as f64 / context.timing.timestamp_ratio();
            if cycles <= ENTRY_CYCLES { Cause::Switching } else { Cause::Masked }
        }
        (_, Actor::Switching) => Cause::Switching,
        (Phase::Running, _) => Cause::Preempted,
        (Phase::Waiting, _) => Cause::Behind,
    }
}

fn preemptions(figures: &InterruptFigures, context: &Context<'_>) -> Vec<PreemptionRow> {
    let mut rows: Vec<PreemptionRow> = figures
        .rows()
        .flat_map(|row| row.over.iter().map(move |over| (row, over)))
        .filter(|(_, over)| over.below != THREAD)
        .map(|(row, preemption)| PreemptionRow {
            core: context.timing.recording.core(row.core),
            above: context.name(row.exception),
            below: context.name(preemption.below),
            count: preemption.count,
            followed: preemption.followed,
            duration: context.scale.duration(crate::stats::Ticks::exact(preemption.ticks)),
        })
        .collect();
    rows.sort_by(|a, b| {
        b.duration.ns.total_cmp(&a.duration.ns).then_with(|| a.above.cmp(&b.above))
    });
    rows
}

fn doubts(figures: &InterruptFigures, context: &Context<'_>) -> Vec<String> {
    let mut doubts = Vec::new();
    doubts.extend(other_priorities(figures, context));
    let cut: u64 = figures.rows().map(|row| row.cut).sum();
    let left_out = context.timing.recording.left_out;
    if left_out > 0 {
        doubts.push(format!(
            "Only a part of the recording is told, {}: {cut} {} at its edges, which count and have no duration.",
            times(left_out),
            if cut == 1 { "run was cut" } else { "runs were cut" },
        ));
    }
    if figures.gaps() > left_out {
        doubts.push(format!(
            "Something is missing in {} {}: {cut} {} there, which count and have no duration. {}; figures start anew after each.",
            figures.gaps() - left_out,
            if figures.gaps() - left_out == 1 { "place" } else { "places" },
            if cut == 1 { "run was cut" } else { "runs were cut" },
            longest_hidden(context.scale.hidden(figures.hidden()), "run"),
        ));
    }
    if context.timing.recording.time_slipped {
        doubts.push("Bytes were lost, and time with them: moments after that are later than stated; durations are not touched.".into());
    }
    if figures.undetailed() > 0 {
        doubts.push(format!(
            "There are more than 64 different exceptions: {} of them have no percentiles. Is this the right image and framing?",
            figures.undetailed()
        ));
    }
    doubts
}

/// What is known of the longest of which something is missing.
pub(crate) fn longest_hidden(longest: Option<Duration>, what: &str) -> String {
    match longest.and_then(|longest| longest.ns_high) {
        Some(ns) => format!("No {what} that hides there lasted longer than {}", duration_ns(ns)),
        None => "The true maximum may be among them".to_owned(),
    }
}

/// An interrupt interrupts only what is less urgent: else it had another priority then.
fn other_priorities(figures: &InterruptFigures, context: &Context<'_>) -> Option<String> {
    let pairs = figures.rows().flat_map(|row| row.over.iter().map(|over| (row.exception, over)));
    let mut pairs = pairs.filter(|(_, over)| over.below != THREAD && over.count > 0);
    let (above, below) = pairs.find_map(|(above, over)| {
        let of = |exception| context.priorities.of(exception);
        (of(above)? >= of(over.below)?).then_some((above, over.below))
    })?;
    let [above, below] = [above, below].map(|exception| context.name(exception));
    Some(format!(
        "{above} interrupted {below}, though by the priorities that are known it cannot: the firmware changed them, or they are another target's."
    ))
}
