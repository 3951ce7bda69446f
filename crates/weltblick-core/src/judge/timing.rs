//! Figures of interrupts, tasks and spans, with what speaks against them.

use super::entry::{Measure, Of, TimingFigure, TimingSubject};
use super::runs::{Found, Hiding, Missing, OpenRuns, counted, spread, weigh_silence};
use super::signal::unseen;
use crate::event::Thing;
use crate::figure::{Absent, Doubt, Effect, Figure, SHARE};
use crate::image::Image;
use crate::measure::cadence::Cadences;
use crate::measure::inspection::Unannounced;
use crate::measure::interrupts::{Basis, Figures, InterruptFigures};
use crate::measure::profile::Conduct;
use crate::measure::signals::Signals;
use crate::measure::span::{StatedSpan, StatedSpans};
use crate::measure::statistic::Scale;
use crate::measure::tasks::{self, TaskFigures};
use crate::measure::timing::Timing;
use crate::stats::{Bounds, Spread, Ticks};
use crate::time::{Window, duration_ns};
use std::time::Duration;

/// The window of a load, where a budget names none.
pub const USUAL_WINDOW: Duration = Duration::from_millis(100);

/// Figures in time of one recording.
#[derive(Debug)]
pub struct Timings<'a> {
    /// Of exceptions.
    pub interrupts: &'a InterruptFigures,
    /// Of tasks, by the window of their loads.
    pub tasks: &'a [(Duration, TaskFigures)],
    /// Of spans that the firmware states.
    pub spans: &'a StatedSpans,
    /// Of values over time.
    pub signals: Option<&'a Signals<'a>>,
    /// What numbers mean.
    pub image: Option<&'a Image>,
    /// How ticks are stated; absent where no clock is.
    pub scale: Option<Scale>,
    /// All ticks of the recording, between bounds.
    pub span: Ticks,
    /// Its last moment.
    pub end: Window,
    /// Exceptions were traced: own times and loads of tasks are without handlers.
    pub exceptions: bool,
    /// Times are those of an instruction trace, which does not say when the core fell asleep.
    pub by_pace: bool,
    /// Bytes were lost, or nothing was recorded for a while: how long is unknown.
    pub slipped: bool,
    /// The fewest ticks from one entry to the next: what bounds how many runs a gap hides.
    pub shortest_run: f64,
    /// What speaks against figures in time, whatever they are of.
    pub against: Vec<Doubt>,
    /// Figures without what no synchronisation of an instruction trace confirms.
    pub confirmed: Option<&'a Timings<'a>>,
}

/// What the times of an instruction trace rest on where the core slept.
pub(super) const SLEEP_BY_PACE: &str = "; sleep is told apart by the pace of instructions";

/// The fewest core cycles from one entry of a handler to the next: taken right behind another's end, it returns at once.
pub const SHORTEST_RUN: f64 = 8.0;

/// What speaks against every figure in time of a recording.
#[must_use]
pub fn against_times(
    timing: &Timing<'_>,
    cadences: &Cadences,
    interrupts: &InterruptFigures,
    unannounced: &Unannounced,
    conduct: &Conduct,
) -> Vec<Doubt> {
    let contradictions = interrupts.contradictions;
    [
        (contradictions > 0).then_some(Doubt::Contradictions { count: contradictions }),
        timing.clock_off(cadences).map(|off| Doubt::Clock { off }),
        unannounced.samples().map(|samples| Doubt::Unannounced { samples }),
        timing.period_contradicted().map(|factor| Doubt::Period { factor }),
        conduct.intrusive.then_some(Doubt::Stopped),
        timing.head().filter(|_| !conduct.attached),
    ]
    .into_iter()
    .flatten()
    .chain(timing.clock_changes(cadences))
    .collect()
}

/// A subject that a budget's name fits: how it differs from others of that name, and what is known.
pub(super) type Meant = (Option<String>, Found);

impl TimingFigure {
    pub(super) const fn is_time(&self) -> bool {
        matches!(
            self.measure,
            Measure::Own
                | Measure::Elapsed
                | Measure::Pending
                | Measure::Response
                | Measure::Period
                | Measure::Jitter
                | Measure::Interval
        )
    }
}

impl TimingFigure {
    /// Whether it would be another one if ticks had other lengths.
    const fn counts_ticks(&self) -> bool {
        match self.measure {
            Measure::Count | Measure::StackPeak => false,
            Measure::Value => matches!(self.of, Of::Mean),
            _ => true,
        }
    }

    /// Whether it would be another one if exceptions were missing.
    const fn rests_on_exceptions(&self) -> bool {
        match self.subject {
            TimingSubject::Interrupt => true,
            TimingSubject::Task => matches!(self.measure, Measure::Own | Measure::Load),
            TimingSubject::Span | TimingSubject::Signal => false,
        }
    }
}

impl Timings<'_> {
    /// What is known of a figure, for each subject that its name fits.
    pub(super) fn find(&self, figure: &TimingFigure) -> Vec<Meant> {
        let Some(scale) = self.scale else {
            return vec![(None, Err(Absent::new("no clock is stated", "give --core-clock")))];
        };
        let mut found = match figure.subject {
            TimingSubject::Interrupt => self.interrupts(figure, scale),
            TimingSubject::Task => self.tasks(figure, scale),
            TimingSubject::Span => self.spans(figure, scale),
            TimingSubject::Signal => vec![(None, self.signal(figure, scale))],
        };
        for figure_found in found.iter_mut().filter_map(|(_, found)| found.as_mut().ok()) {
            self.weigh(figure, figure_found);
        }
        let Some(confirmed) = self.confirmed else { return found };
        let mut before = confirmed.find(figure);
        for (which, found) in &mut found {
            let same = before.iter().position(|(other, _)| other == which);
            let before = same.and_then(|place| before.swap_remove(place).1.ok());
            if let Ok(found) = found {
                found.agree_with(before);
            }
        }
        found
    }

    /// Counts for and against a figure what is known of the recording.
    fn weigh(&self, figure: &TimingFigure, found: &mut Figure) {
        let runs = matches!(figure.subject, TimingSubject::Interrupt | TimingSubject::Task);
        if self.by_pace && runs && figure.is_time() {
            found.evidence.basis += SLEEP_BY_PACE;
        }
        if self.slipped && matches!(figure.measure, Measure::Rate | Measure::Load) {
            // Without all of the time there is no part of it, and nothing per second.
            found.doubt(Doubt::TimeLost);
        }
        for doubt in &self.against {
            let touches = match doubt {
                Doubt::Clock { .. } | Doubt::Period { .. } => {
                    figure.is_time() || figure.measure == Measure::Rate
                }
                Doubt::ClockChanged { .. }
                | Doubt::ClockStopped { .. }
                | Doubt::StampsWrapped { .. } => figure.counts_ticks(),
                Doubt::Unannounced { .. } => figure.rests_on_exceptions(),
                _ => true,
            };
            match doubt {
                _ if !touches => {}
                // What is not known may hold more of them, and longer ones.
                Doubt::Head { .. } => {
                    let effect = match figure.measure {
                        Measure::Count | Measure::StackPeak => Effect::Above,
                        Measure::Load if matches!(figure.of, Of::All) => Effect::Both,
                        _ => unseen(figure.of),
                    };
                    found.doubt_with(doubt.clone(), effect);
                }
                _ => found.doubt(doubt.clone()),
            }
        }
    }

    /// What a gap hides at most, of a subject that the budget's author guarantees a rate for or not.
    pub(super) fn hiding(&self, figure: &TimingFigure, unknown: u64, scale: Scale) -> Hiding {
        let guaranteed = figure.at_most.map_or(0.0, |hertz| 1e9 / (hertz.max(1e-9) * scale.ns));
        let shortest = self.shortest_run.max(guaranteed);
        Hiding { unknown, shortest, slipped: self.slipped }
    }

    /// How often a second; the recording is known to be as long as its first and last moments are.
    pub(super) fn rate(&self, count: u64, missing: &Missing, scale: Scale) -> Figure {
        let per_second = |ticks: u64| 1e9 / (ticks.max(1) as f64 * scale.ns);
        let mut found = counted(count, missing, per_second(self.span.low));
        let middle = per_second(u64::midpoint(self.span.low, self.span.high));
        (found.observed, found.low) =
            (count as f64 * middle, count as f64 * per_second(self.span.high));
        found
    }

    /// Says that a verdict relied on what the budget guarantees.
    pub(super) fn relied(figure: &TimingFigure, missing: &Missing, found: &mut Figure) {
        let counts_runs = !matches!(figure.measure, Measure::Load | Measure::StackPeak);
        if let (Some(hertz), true) = (figure.at_most, missing.runs > 0 && counts_runs) {
            found.evidence.basis += &format!(", relying on at most {hertz} Hz");
        }
    }

    fn interrupts(&self, figure: &TimingFigure, scale: Scale) -> Vec<Meant> {
        let numbers = match (figure.name.parse(), self.image) {
            (Ok(number), _) => vec![number],
            (Err(_), Some(image)) => image.exceptions_named(&figure.name),
            (Err(_), None) => Vec::new(),
        };
        let rows = numbers.iter().filter_map(|&number| self.interrupts.of(number));
        let rows: Vec<&Figures> = rows.filter(|row| row.entries + row.cut > 0).collect();
        if rows.is_empty() {
            let absent = Absent::new(
                "it was never seen in this recording",
                "trace exceptions, for longer, or check the name",
            );
            return vec![(None, Err(absent))];
        }
        let several = rows.len() > 1;
        let meant = |row: &&Figures| {
            let which = several.then(|| row.exception.to_string());
            (which, self.interrupt(row, figure, scale))
        };
        rows.iter().map(meant).collect()
    }

    fn interrupt(&self, row: &Figures, figure: &TimingFigure, scale: Scale) -> Found {
        let unknown = self.span.high.saturating_sub(self.interrupts.known());
        let gaps = self.interrupts.gaps + self.interrupts.contradictions;
        let missing = Missing::new(gaps, row.cut, self.hiding(figure, unknown, scale));
        let lasting = missing.lasting(self.interrupts.hidden);
        let apart = missing.apart(&row.bridges, &row.period);
        let open = |longest| OpenRuns { count: row.open, longest, is_exact: true };
        let of = figure.of;
        let mut found = match figure.measure {
            Measure::Own => {
                let mut found = spread_or_open(&row.own, of, &lasting, open(row.open_own), scale)?;
                open(row.open_own).weigh(&mut found, &row.own, of, scale);
                found
            }
            Measure::Elapsed => {
                let open = open(row.open_elapsed);
                let mut found = spread_or_open(&row.elapsed, of, &lasting, open, scale)?;
                open.weigh(&mut found, &row.elapsed, of, scale);
                found
            }
            Measure::Period => {
                let mut found = spread(&row.period, of, &apart, scale)?;
                weigh_silence(&mut found, row.silence, &row.period, of, scale);
                found
            }
            Measure::Jitter => spread(&row.jitter, of, &apart.unsummed(), scale)?,
            Measure::Pending => waited(row, row.pending(), figure, &missing, scale)?,
            Measure::Response => {
                let mut found = waited(row, row.response(), figure, &missing, scale)?;
                let none = Spread::new(false);
                let whole = row.response().unwrap_or(&none);
                open(row.open_elapsed).weigh(&mut found, whole, of, scale);
                found
            }
            Measure::Count => counted(row.entries, &missing, 1.0),
            Measure::Rate => self.rate(row.entries, &missing, scale),
            Measure::Load => load(row, self.span, unknown as f64),
            Measure::StackPeak | Measure::Interval | Measure::Value => return Err(no_such_figure()),
        };
        Self::relied(figure, &missing, &mut found);
        Ok(found)
    }

    fn tasks(&self, figure: &TimingFigure, scale: Scale) -> Vec<Meant> {
        let window = figure.window.unwrap_or(USUAL_WINDOW);
        let figures = self.tasks.iter().find(|(known, _)| *known == window).map(|(_, f)| f);
        let is_meant = |figures: &TaskFigures, row: &&tasks::Figures| {
            let name = figures.name(Thing::Task(row.task), self.image);
            name == figure.name || row.task.to_string() == figure.name
        };
        let rows: Vec<(&TaskFigures, &tasks::Figures)> = figures
            .into_iter()
            .flat_map(|figures| {
                figures
                    .rows()
                    .filter(move |row| is_meant(figures, row))
                    .map(move |row| (figures, row))
            })
            .collect();
        if rows.is_empty() {
            let absent = Absent::new(
                "nothing is known of this task",
                "let the firmware state its tasks (weltblick_marks.h), and check the name",
            );
            return vec![(None, Err(absent))];
        }
        let several = rows.len() > 1;
        let meant = |(figures, row): &(&TaskFigures, &tasks::Figures)| {
            (several.then(|| row.task.to_string()), self.task(figures, row, figure, scale))
        };
        rows.iter().map(meant).collect()
    }

    fn task(
        &self,
        figures: &TaskFigures,
        row: &tasks::Figures,
        figure: &TimingFigure,
        scale: Scale,
    ) -> Found {
        let by_turns = figures.are_turns();
        if by_turns && !is_told_by_turns(figure) {
            return Err(Absent::new(
                "only turns on the core are known: an activation that was pre-empted is several",
                "let the kernel state its tasks (weltblick_marks.h), or judge load",
            ));
        }
        let unknown = self.span.high.saturating_sub(figures.known());
        let missing = Missing::new(figures.gaps, row.cut, self.hiding(figure, unknown, scale));
        let lasting = missing.lasting(row.hidden);
        let apart = missing.apart(&row.bridges, &row.period);
        let of = figure.of;
        let open = OpenRuns {
            count: row.open,
            longest: row.open_elapsed,
            is_exact: figure.measure == Measure::Response,
        };
        // How much of an open one was waiting, and how much of it another's time, is not told apart.
        let lasted = |times: &Spread, open: OpenRuns| -> Found {
            let mut found = spread_or_open(times, of, &lasting, open, scale)?;
            open.weigh(&mut found, times, of, scale);
            Ok(found)
        };
        let mut found = match figure.measure {
            Measure::Own => lasted(&row.own, open)?,
            Measure::Elapsed => lasted(&row.elapsed, open)?,
            Measure::Pending => lasted(&row.pending, open)?,
            Measure::Response => lasted(&row.response, open)?,
            Measure::Period => {
                let mut found = spread(&row.period, of, &apart, scale)?;
                weigh_silence(&mut found, row.silence, &row.period, of, scale);
                found
            }
            Measure::Jitter => spread(&row.jitter, of, &apart.unsummed(), scale)?,
            Measure::Count => counted(row.activations, &missing, 1.0),
            Measure::Rate => self.rate(row.activations, &missing, scale),
            Measure::Load => self.loads(figures, row, of, scale)?,
            Measure::StackPeak => stack(row, figures.gaps)?,
            Measure::Interval | Measure::Value => return Err(no_such_figure()),
        };
        Self::relied(figure, &missing, &mut found);
        if row.reused {
            found.doubt(Doubt::NumberReused);
        }
        let of_activations = !matches!(figure.measure, Measure::Load | Measure::StackPeak);
        if of_activations && row.ready_again > 0 {
            found.doubt(Doubt::ReadyWhileRunning { times: row.ready_again });
        }
        if by_turns && figure.measure != Measure::Load {
            found.doubt(Doubt::Turns);
        }
        match figure.measure {
            Measure::Own if row.own.count() < row.elapsed.count() => {
                found.doubt_with(Doubt::HandlersUnknown, unseen(of));
            }
            Measure::Own | Measure::Load if !self.exceptions => found.doubt(Doubt::WithHandlers),
            Measure::Pending | Measure::Response => {
                let unready = row.elapsed.count().saturating_sub(row.pending.count());
                if unready > 0 {
                    found.doubt_with(Doubt::Unready { activations: unready }, unseen(of));
                }
            }
            _ => {}
        }
        Ok(found)
    }

    fn loads(&self, figures: &TaskFigures, row: &tasks::Figures, of: Of, scale: Scale) -> Found {
        let loads = figures.loads(row, self.end.latest);
        if loads.windows == 0 {
            return Err(Absent::new(
                "the recording is shorter than the window of a load",
                "measure longer, or take a shorter window",
            ));
        }
        let [least, mean, most] = loads.bounds;
        let (observed, bounds) = match of {
            Of::Min => (loads.least, least),
            Of::Mean => (loads.mean, mean),
            _ => (loads.most, most),
        };
        let length = duration_ns(figures.window() as f64 * scale.ns);
        let basis = format!("over every position of a window of {length}");
        let mut found = Figure::between(observed, bounds, loads.windows, basis);
        found.possible = SHARE;
        found.evidence.lossy = figures.gaps > 0;
        if figures.gaps > 0 {
            found.evidence.basis += "; who had the core is unknown in some";
        }
        Ok(found)
    }

    fn spans(&self, figure: &TimingFigure, scale: Scale) -> Vec<Meant> {
        let text_at = |address| self.image.and_then(|image| image.text_at(address));
        let is_it = |row: &&StatedSpan| {
            self.spans.name(row.span, text_at) == figure.name || row.span.to_string() == figure.name
        };
        let rows: Vec<&StatedSpan> = self.spans.list().iter().filter(is_it).collect();
        if rows.is_empty() {
            let absent = Absent::new(
                "the firmware states no such span",
                "let it say where it begins and ends (wb_span_begins, wb_span_ends), and check the name",
            );
            return vec![(None, Err(absent))];
        }
        let several = rows.len() > 1;
        let meant = |row: &&StatedSpan| {
            (several.then(|| row.span.to_string()), self.span(row, figure, scale))
        };
        rows.iter().map(meant).collect()
    }

    fn span(&self, row: &StatedSpan, figure: &TimingFigure, scale: Scale) -> Found {
        let hiding = self.hiding(figure, self.spans.gap_ticks, scale);
        let missing = Missing::new(self.spans.gaps, row.cut, hiding);
        let apart = missing.apart(&row.bridges, &row.period);
        let of = figure.of;
        let mut found = match figure.measure {
            Measure::Elapsed => {
                let open =
                    OpenRuns { count: row.open_count, longest: row.open_elapsed, is_exact: true };
                let lasting = missing.lasting(row.hidden);
                let mut found = spread_or_open(&row.elapsed, of, &lasting, open, scale)?;
                open.weigh(&mut found, &row.elapsed, of, scale);
                if row.overlapping > 0 {
                    found.doubt(Doubt::Overlapping { count: row.overlapping });
                }
                found
            }
            Measure::Period => {
                let mut found = spread(&row.period, of, &apart, scale)?;
                weigh_silence(&mut found, row.silence(self.end), &row.period, of, scale);
                found
            }
            Measure::Jitter => spread(&row.jitter, of, &apart.unsummed(), scale)?,
            Measure::Count => counted(row.count, &missing, 1.0),
            Measure::Rate => self.rate(row.count, &missing, scale),
            _ => return Err(no_such_figure()),
        };
        if row.reused {
            found.doubt(Doubt::NumberReused);
        }
        Self::relied(figure, &missing, &mut found);
        Ok(found)
    }
}

/// A statistic; where no run was seen whole, an open one that lasted long is known all the same.
fn spread_or_open(
    times: &Spread,
    of: Of,
    missing: &Missing,
    open: OpenRuns,
    scale: Scale,
) -> Found {
    match spread(times, of, missing, scale) {
        Err(_) if matches!(of, Of::Max | Of::Each | Of::All) && open.longest > 0 => {
            let seen = if open.is_exact { open.longest as f64 * scale.ns * 1e-9 } else { 0.0 };
            let basis = "none was seen from its beginning to its end, but one for so long";
            let bounds = Bounds { low: seen, high: f64::INFINITY };
            Ok(Figure { extremes: Some([bounds; 2]), ..Figure::between(seen, bounds, 0, basis) })
        }
        found => found,
    }
}

/// Pending and response times, which are known in one of three ways.
fn waited(
    row: &Figures,
    times: Option<&Spread>,
    figure: &TimingFigure,
    missing: &Missing,
    scale: Scale,
) -> Found {
    let Some(times) = times else {
        return Err(Absent::new(
            "nothing says when it was requested",
            "let the firmware state when the hardware asked (wb_requested in weltblick_marks.h)",
        ));
    };
    let missing = match row.basis() {
        Some(Basis::Grid) => missing.lasting(row.bridges.longest_wait()),
        _ => *missing,
    };
    let mut found = spread(times, figure.of, &missing, scale)?;
    match row.basis() {
        Some(Basis::Grid) => {
            found.evidence.basis += ", against the grid of its period";
            if row.grid.unfitted > 0 {
                found.doubt(Doubt::OffGrid { runs: row.grid.unfitted });
            }
            if !figure.by_grid {
                found.doubt(Doubt::GridMayWait);
            }
        }
        Some(Basis::Chained) => {
            found.evidence.basis += ", of runs that followed another handler only";
            found.doubt(Doubt::ChainedOnly);
        }
        Some(Basis::Stated) | None => {
            let unstated = row.elapsed.count().saturating_sub(row.stated_pending.count());
            if unstated > 0 {
                found.doubt(Doubt::Unrequested { runs: unstated });
            }
        }
    }
    // Those of which nothing says so may have waited less, too.
    if matches!(figure.of, Of::Min | Of::Mean | Of::Percentile(_) | Of::Deviation)
        && let Some(doubt) =
            found.evidence.against.iter().find(|d| **d != Doubt::GridMayWait).cloned()
    {
        found.doubt_with(doubt, Effect::Both);
    }
    Ok(found)
}

/// The file asks for what its subject does not have.
pub(super) fn no_such_figure() -> Absent {
    Absent::new("there is no such figure", "see the guide for what can be judged")
}

/// The part of all time in which a handler ran.
fn load(row: &Figures, span: Ticks, unknown: f64) -> Figure {
    let busy = row.busy as f64;
    let [shortest, all] = [span.low, span.high].map(|ticks| ticks.max(1) as f64);
    // Where beginnings and ends are known to windows, so is what lies between them; of runs without a duration, as
    // far as of the least known.
    let blur = row.own.mean().map_or(0.0, |own| {
        let whole = (own.high - own.low) * row.own.count() as f64;
        whole + row.own.widest() as f64 * row.cut as f64
    });
    let bounds = Bounds {
        low: ((busy - blur) / all).max(0.0),
        high: ((busy + blur + unknown) / shortest).min(1.0),
    };
    let count = row.entries;
    let basis = format!("of {count} runs, {:.1} % of the time unknown", 100.0 * unknown / all);
    let mut found = Figure::between(busy / (all - unknown).max(1.0), bounds, count, basis);
    found.possible = SHARE;
    found.evidence.lossy = unknown > 0.0;
    found
}

/// Whether turns on the core bound a figure of activations, which are not shorter.
const fn is_told_by_turns(figure: &TimingFigure) -> bool {
    match figure.measure {
        Measure::Load => true,
        Measure::Own | Measure::Elapsed => matches!(figure.of, Of::Max),
        _ => false,
    }
}

fn stack(row: &tasks::Figures, gaps: u64) -> Found {
    let stack = row.stack;
    let Some(((_, size), used)) = stack.extent.zip(stack.used) else {
        return Err(Absent::new(
            "nothing says how much of its stack was used",
            "let the firmware state it (wb_task_created, wb_task_stack_used)",
        ));
    };
    let observed = if stack.left { 1.0 } else { used as f64 / f64::from(size.max(1)) };
    let mut found = Figure::exact(observed, row.activations, format!("{used} of {size} bytes"));
    if stack.left {
        found.doubt(Doubt::StackLeft);
    }
    if !stack.stated {
        found.doubt(Doubt::SeenAtSwitches);
    }
    // What the firmware states is the deepest so far: it makes up for what was lost before.
    if stack.missed {
        found.evidence.lossy = true;
        found.doubt_with(Doubt::ValuesLost { places: gaps }, Effect::Above);
    }
    Ok(found)
}
