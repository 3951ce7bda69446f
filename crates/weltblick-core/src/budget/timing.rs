//! Verdicts on interrupts and tasks.
//!
//! What was seen is known to the resolution of the timestamps; what matters is what was not seen. A
//! maximum is met only if nothing is missing, or if what is missing cannot have lasted longer than the
//! limit: it lies between the events before and after the gap. A percentile is met if it keeps the
//! limit even if every run that may be missing had been longer than all others. Lateness against a grid never meets a
//! budget that has not said that it is content with it: even the earliest starts may have waited.

use super::entry::{Budget, Measure, Of, TimingFigure, TimingSubject};
use super::judgement::{Judgement, Verdict};
use crate::image::Image;
use crate::measure::bridges::Bridges;
use crate::measure::interrupts::{Basis, Figures, InterruptFigures};
use crate::measure::signals::Signals;
use crate::measure::span::{StatedSpan, StatedSpans};
use crate::measure::statistic::Scale;
use crate::measure::tasks::{self, TaskFigures};
use crate::stats::{Bounds, Spread, Ticks};
use crate::time::duration_ns;
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
    /// All ticks of the recording.
    pub span: u64,
    /// Exceptions were traced: own times and loads of tasks are without handlers.
    pub exceptions: bool,
    /// Times are those of an instruction trace, which does not say when the core fell asleep.
    pub by_pace: bool,
    /// A debugger stopped the core while this was recorded.
    pub intrusive: bool,
    /// Bytes were lost, or nothing was recorded for a while: how long is unknown.
    pub slipped: bool,
}

/// What is known of a figure.
pub(super) struct Finding {
    pub(super) observed: f64,
    /// The true figure is not less; or nothing says.
    pub(super) low: f64,
    /// The true figure is not more; infinite where nothing bounds it.
    pub(super) high: f64,
    /// How many it rests on.
    pub(super) count: u64,
    /// The shortest and the longest that were seen, where each must keep the limit.
    pub(super) extremes: Option<[Bounds; 2]>,
    /// Something may be missing, and that is why it is not known better.
    pub(super) lossy: bool,
    pub(super) evidence: String,
    /// Why it cannot be called met, and what would help.
    pub(super) objection: Option<(String, String)>,
}

impl Finding {
    /// A figure that is known.
    pub(super) fn exact(observed: f64, count: u64, evidence: &str) -> Self {
        Self {
            observed,
            low: observed,
            high: observed,
            count,
            extremes: None,
            lossy: false,
            evidence: evidence.to_owned(),
            objection: None,
        }
    }

    pub(super) fn object(&mut self, why: &str, advice: &str) {
        self.objection.get_or_insert_with(|| (why.to_owned(), advice.to_owned()));
    }
}

pub(super) const LOSE_NOTHING: &str =
    "lose nothing: sample more slowly, trace less beside, or widen the link";

/// What the times of an instruction trace rest on where the core slept.
pub(super) const SLEEP_BY_PACE: &str = "; sleep is told apart by the pace of instructions";

const STILL_RUNS: &str =
    "when the recording ended it had lasted longer than ever before, and had not ended";
const MEASURE_ON: &str = "measure on until it ends";

/// Judges one budget.
pub(super) fn judge(
    budget: &Budget,
    figure: &TimingFigure,
    timings: &Timings<'_>,
    blank: Judgement,
) -> Judgement {
    match timings.find(figure) {
        Ok(finding) => verdict(budget, figure, finding, blank),
        Err((why, advice)) => Judgement { evidence: why, advice: Some(advice), ..blank },
    }
}

fn verdict(
    budget: &Budget,
    figure: &TimingFigure,
    finding: Finding,
    blank: Judgement,
) -> Judgement {
    let limit = &budget.condition.limit;
    let Finding { mut observed, low, high, count, extremes, lossy, evidence, objection } = finding;
    let mut fails = limit.fails_for_all(low, high);
    if let Some(extremes) = extremes {
        // One that certainly does not keep it is enough, whatever the others do.
        fails = extremes.iter().any(|one| limit.fails_for_all(one.low, one.high));
        let off = |one: &Bounds| limit.margin(one.middle());
        let [shortest, longest] = &extremes;
        observed = if off(shortest) < off(longest) { shortest } else { longest }.middle();
    }
    // Limits on times are in seconds, results in nanoseconds.
    let factor = if figure.is_time() { 1e9 } else { 1.0 };
    let mut judgement = Judgement {
        observed: Some(observed * factor),
        observed_low: low.is_finite().then_some(low * factor),
        observed_high: high.is_finite().then_some(high * factor),
        margin: Some(limit.margin(observed)),
        evidence,
        ..blank
    };
    judgement.verdict = if fails {
        Verdict::Broken
    } else if limit.holds_for_all(low, high) {
        Verdict::Met
    } else {
        Verdict::Undecided
    };
    if judgement.verdict == Verdict::Undecided {
        let advice = if high.is_finite() && !lossy {
            "the true figure lies between the bounds, on either side of the limit: sharpen the timestamps (a smaller prescaler, no overflow)"
        } else {
            LOSE_NOTHING
        };
        judgement.advice = Some(advice.to_owned());
    }
    let unbounded = judgement.verdict == Verdict::Undecided && !high.is_finite() && !lossy;
    if (judgement.verdict == Verdict::Met || unbounded)
        && let Some((why, advice)) = objection
    {
        judgement.verdict = Verdict::Undecided;
        judgement.evidence = format!("{}; {why}", judgement.evidence);
        judgement.advice = Some(advice);
    }
    if let Some(over) = budget.condition.over
        && count < over
        && judgement.verdict != Verdict::Broken
    {
        judgement.verdict = Verdict::Undecided;
        judgement.evidence = format!("{}, fewer than the {over} asked for", judgement.evidence);
        let times = over as f64 / count.max(1) as f64;
        judgement.advice = Some(format!("measure about {times:.1} times as long"));
    }
    judgement
}

impl TimingFigure {
    const fn is_time(&self) -> bool {
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

    /// How results name its unit.
    pub(super) const fn unit(&self) -> &'static str {
        match self.measure {
            Measure::Count => "count",
            Measure::Rate => "hertz",
            Measure::Load | Measure::StackPeak => "share",
            Measure::Value => "value",
            _ => "ns",
        }
    }
}

pub(super) type Found = Result<Finding, (String, String)>;

/// What may be missing of the runs of one interrupt or task.
#[derive(Debug, Clone, Copy)]
pub(super) struct Missing {
    /// Places where something is missing.
    pub(super) gaps: u64,
    /// Runs that were cut there, or may have been there unseen.
    runs: u64,
    /// None of them was longer, in ticks; `u64::MAX`: nothing tells.
    longest: u64,
    /// Of periods: how many and how long those are, all together, that bridge the gaps.
    bridged: Option<(u64, Ticks)>,
}

impl Missing {
    /// None of them lasted longer.
    const fn lasting(&self, longest: u64) -> Self {
        let longest = if longest < self.longest { longest } else { self.longest };
        Self { longest, ..*self }
    }

    /// The same of what lies from one start to the next.
    fn apart(&self, bridges: &Bridges, period: &Spread) -> Self {
        let seen = period.max().map_or(0, |max| max.high);
        let apart = self.lasting(bridges.longest().max(seen));
        Self { bridged: Some((bridges.count, bridges.sum())), ..apart }
    }

    /// The same of differences of two: every gap hides two more, and nothing tells their sum.
    const fn unsummed(&self) -> Self {
        let runs = self.runs.saturating_add(self.gaps.saturating_mul(2));
        Self { runs, bridged: None, ..*self }
    }

    /// The longest of all, if what was seen was not longer than `seen`.
    fn longest(&self, seen: f64) -> f64 {
        if self.longest == u64::MAX { f64::INFINITY } else { seen.max(self.longest as f64) }
    }

    /// The mean of all, if the `count` that were seen have this one.
    fn mean(&self, seen: Bounds, count: u64) -> Bounds {
        let (seen_count, hidden) = (count as f64, self.runs as f64);
        let sum = seen.scaled(seen_count);
        let low = |sum: f64, count: f64| sum / (count + hidden);
        match self.bridged {
            _ if self.longest == u64::MAX => Bounds { low: 0.0, high: f64::INFINITY },
            // However many they are, together they are not longer than what they bridge.
            Some((bridges, together)) => {
                let count = seen_count + bridges as f64;
                let together = Bounds::from(together);
                let high = (sum.high + together.high) / count;
                Bounds { low: low(sum.low + together.low, count), high }
            }
            None => {
                let all = (sum.high + hidden * self.longest as f64) / (seen_count + hidden);
                Bounds { low: low(sum.low, seen_count), high: all.max(seen.high) }
            }
        }
    }
}

impl Timings<'_> {
    /// What is known of a figure.
    pub(super) fn find(&self, figure: &TimingFigure) -> Found {
        let Some(scale) = self.scale else {
            return Err(("no clock is stated".into(), "give --core-clock".into()));
        };
        let mut finding = match figure.subject {
            TimingSubject::Interrupt => self.interrupt(figure, scale),
            TimingSubject::Task => self.task(figure, scale),
            TimingSubject::Span => self.span(figure, scale),
            TimingSubject::Signal => self.signal(figure, scale),
        }?;
        let runs = matches!(figure.subject, TimingSubject::Interrupt | TimingSubject::Task);
        if self.by_pace && runs && figure.is_time() {
            finding.evidence += SLEEP_BY_PACE;
        }
        if self.slipped && matches!(figure.measure, Measure::Rate | Measure::Load) {
            // Without all of the time there is no part of it, and nothing per second.
            (finding.low, finding.high, finding.lossy) = (0.0, f64::INFINITY, true);
        }
        // Whatever else was lost with them: marks, values.
        if self.interrupts.contradictions > 0 {
            finding.object(
                "entries and exits contradict each other: packets were lost and nothing told so",
                LOSE_NOTHING,
            );
        }
        if self.intrusive {
            finding.object(
                "the core was stopped while this was recorded: an intrusive measurement meets no budget",
                "measure with the target's own trace",
            );
        }
        Ok(finding)
    }

    fn interrupt(&self, figure: &TimingFigure, scale: Scale) -> Found {
        let number = figure.name.parse().ok();
        let number = number.or_else(|| self.image?.exception_named(&figure.name));
        let row = number.and_then(|number| self.interrupts.of(number));
        let Some(row) = row.filter(|row| row.entries + row.cut > 0) else {
            return Err((
                "it was never seen in this recording".into(),
                "trace exceptions, for longer, or check the name".into(),
            ));
        };
        let unknown = self.span.saturating_sub(self.interrupts.known());
        let gaps = self.interrupts.gaps + self.interrupts.contradictions;
        let missing = self.missing(gaps, row.cut, &row.period, unknown);
        let (missing, lasting) = (&missing, missing.lasting(self.interrupts.hidden));
        let apart = missing.apart(&row.bridges, &row.period);
        let all = self.span.max(1) as f64;
        let mut finding = match figure.measure {
            Measure::Own => self.spread(&row.own, figure.of, &lasting, scale)?,
            Measure::Elapsed => self.spread(&row.elapsed, figure.of, &lasting, scale)?,
            Measure::Period => self.spread(&row.period, figure.of, &apart, scale)?,
            Measure::Jitter => self.spread(&row.jitter, figure.of, &apart.unsummed(), scale)?,
            Measure::Pending => self.waited(row, row.pending(), figure, missing, scale)?,
            Measure::Response => self.waited(row, row.response(), figure, missing, scale)?,
            Measure::Count => counted(row.entries, missing, 1.0),
            Measure::Rate => counted(row.entries, missing, 1e9 / (all * scale.ns)),
            Measure::Load => {
                let mut load = share(row.busy as f64, all, unknown as f64, row.entries);
                // Where beginnings and ends are known to windows, so is what lies between them.
                if let Some(own) = row.own.mean() {
                    let runs = row.own.count() as f64;
                    load.low = load.low.min(own.low * runs / all);
                    load.high = load.high.max((own.high * runs + unknown as f64) / all);
                }
                load
            }
            Measure::StackPeak | Measure::Interval | Measure::Value => return Err(no_such_figure()),
        };
        let lasts = matches!(figure.measure, Measure::Own | Measure::Elapsed | Measure::Response);
        if row.unfinished && lasts {
            finding.object(STILL_RUNS, MEASURE_ON);
        }
        Ok(finding)
    }

    /// Pending and response times, which are known in one of three ways.
    fn waited(
        &self,
        row: &Figures,
        spread: Option<&Spread>,
        figure: &TimingFigure,
        missing: &Missing,
        scale: Scale,
    ) -> Found {
        const STATE_IT: &str =
            "let the firmware state when the hardware asked (wb_requested in weltblick_marks.h)";
        let Some(spread) = spread else {
            return Err(("nothing tells when it was requested".into(), STATE_IT.into()));
        };
        let missing = match row.basis() {
            Some(Basis::Grid) => missing.lasting(row.bridges.longest_wait()),
            _ => *missing,
        };
        let mut finding = self.spread(spread, figure.of, &missing, scale)?;
        match row.basis() {
            Some(Basis::Grid) => {
                finding.evidence += ", against the grid of its period";
                if row.grid.unfitted > 0 {
                    finding.object(
                        &format!(
                            "{} runs lie on no grid: how late they were is unknown",
                            row.grid.unfitted
                        ),
                        STATE_IT,
                    );
                }
                if !figure.by_grid {
                    finding.object(
                        "even the earliest starts may have waited",
                        &format!("{STATE_IT}, or let the budget be content: by = \"grid\""),
                    );
                }
            }
            Some(Basis::Chained) => {
                finding.evidence += ", of runs that followed another handler only";
                finding.object("nothing tells of the other runs", STATE_IT);
            }
            Some(Basis::Stated) | None => {
                let unstated = row.elapsed.count().saturating_sub(row.stated_pending.count());
                if unstated > 0 {
                    let why = format!("of {unstated} runs nothing tells when they were requested");
                    finding.object(&why, "let the firmware state each, first thing in the handler");
                }
            }
        }
        Ok(finding)
    }

    fn task(&self, figure: &TimingFigure, scale: Scale) -> Found {
        let window = figure.window.unwrap_or(USUAL_WINDOW);
        let figures = self.tasks.iter().find(|(known, _)| *known == window).map(|(_, f)| f);
        let row = figures.and_then(|figures| {
            figures.rows().find(|row| {
                let name = figures.name(crate::event::Thing::Task(row.task), self.image);
                name == figure.name || row.task.to_string() == figure.name
            })
        });
        let Some((figures, row)) = figures.zip(row) else {
            return Err((
                "nothing tells of this task".into(),
                "let the firmware state its tasks (weltblick_marks.h), and check the name".into(),
            ));
        };
        let by_turns = figures.are_turns();
        if by_turns && !is_told_by_turns(figure) {
            return Err((
                "only turns on the core are told: an activation that was pre-empted is several"
                    .into(),
                "let the kernel state its tasks (weltblick_marks.h), or judge load".into(),
            ));
        }
        let unknown = self.span.saturating_sub(figures.known());
        let missing = self.missing(figures.gaps, row.cut, &row.period, unknown);
        let lasting = missing.lasting(row.hidden);
        let apart = missing.apart(&row.bridges, &row.period);
        let all = self.span.max(1) as f64;
        let mut finding = match figure.measure {
            Measure::Own => self.spread(&row.own, figure.of, &lasting, scale)?,
            Measure::Elapsed => self.spread(&row.elapsed, figure.of, &lasting, scale)?,
            Measure::Pending => self.spread(&row.pending, figure.of, &lasting, scale)?,
            Measure::Response => self.spread(&row.response, figure.of, &lasting, scale)?,
            Measure::Period => self.spread(&row.period, figure.of, &apart, scale)?,
            Measure::Jitter => self.spread(&row.jitter, figure.of, &apart.unsummed(), scale)?,
            Measure::Count => counted(row.activations, &missing, 1.0),
            Measure::Rate => counted(row.activations, &missing, 1e9 / (all * scale.ns)),
            Measure::Load => loads(row, figure.of, figures.gaps)?,
            Measure::StackPeak => stack(row)?,
            Measure::Interval | Measure::Value => return Err(no_such_figure()),
        };
        let lasts = [Measure::Own, Measure::Elapsed, Measure::Pending, Measure::Response];
        if row.unfinished && lasts.contains(&figure.measure) {
            finding.object(STILL_RUNS, MEASURE_ON);
        }
        if by_turns && figure.measure != Measure::Load {
            (finding.high, finding.extremes) = (f64::INFINITY, None);
            finding.object(
                "an activation that was pre-empted counts as several turns on the core",
                "let the kernel state its tasks (weltblick_marks.h), or judge load",
            );
        }
        match figure.measure {
            Measure::Own if row.own.count() < row.elapsed.count() => finding.object(
                "of some activations it is not known whether handlers ran meanwhile",
                LOSE_NOTHING,
            ),
            Measure::Own | Measure::Load if !self.exceptions => {
                finding.evidence += ", with the handlers that ran meanwhile";
                // It is not more than that.
                (finding.low, finding.extremes) = (0.0, None);
            }
            Measure::Pending | Measure::Response => {
                let unready = row.elapsed.count().saturating_sub(row.pending.count());
                if unready > 0 {
                    let why = format!("of {unready} activations nothing tells when it was ready");
                    finding.object(&why, "let the kernel state each (wb_task_ready)");
                }
            }
            _ => {}
        }
        Ok(finding)
    }

    fn span(&self, figure: &TimingFigure, scale: Scale) -> Found {
        let text_at = |address| self.image.and_then(|image| image.text_at(address));
        let is_it = |row: &&StatedSpan| {
            self.spans.name(row.span, text_at) == figure.name || row.span.to_string() == figure.name
        };
        let Some(row) = self.spans.list().iter().find(is_it) else {
            return Err((
                "the firmware states no such span".into(),
                "let it say where it begins and ends (wb_span_begins, wb_span_ends), and check the name".into(),
            ));
        };
        let missing = self.missing(self.spans.gaps, row.cut, &row.period, self.spans.gap_ticks);
        let apart = missing.apart(&row.bridges, &row.period);
        let per_second = 1e9 / (self.span.max(1) as f64 * scale.ns);
        match figure.measure {
            Measure::Elapsed => {
                let lasting = missing.lasting(row.hidden);
                let mut finding = self.spread(&row.elapsed, figure.of, &lasting, scale)?;
                if row.unfinished > 0 {
                    let why = format!("{} began and were not seen to end", row.unfinished);
                    finding.object(&why, MEASURE_ON);
                }
                Ok(finding)
            }
            Measure::Period => self.spread(&row.period, figure.of, &apart, scale),
            Measure::Jitter => self.spread(&row.jitter, figure.of, &apart.unsummed(), scale),
            Measure::Count => Ok(counted(row.count, &missing, 1.0)),
            Measure::Rate => Ok(counted(row.count, &missing, per_second)),
            _ => Err(no_such_figure()),
        }
    }

    /// How many runs may be missing: those that were cut, and as many as fit into the time of which
    /// nothing is known, at the shortest period that was seen.
    pub(super) fn missing(&self, gaps: u64, cut: u64, period: &Spread, unknown: u64) -> Missing {
        if gaps == 0 && !self.slipped {
            return Missing { gaps, runs: 0, longest: 0, bridged: None };
        }
        let shortest = period.min().map_or(0, |min| min.low);
        let hidden = match (self.slipped, shortest) {
            (false, 1..) => (unknown / shortest).saturating_add(gaps),
            _ => u64::MAX / 4,
        };
        let runs = hidden.saturating_add(cut);
        Missing { gaps: gaps.max(1), runs, longest: u64::MAX, bridged: None }
    }

    pub(super) fn spread(&self, spread: &Spread, of: Of, missing: &Missing, scale: Scale) -> Found {
        let seconds = scale.ns * 1e-9;
        let count = spread.count();
        let mut evidence = match missing.gaps {
            0 => format!("{count} of them, none missing"),
            1 => format!("{count} of them; something is missing in one place"),
            gaps => format!("{count} of them; something is missing in {gaps} places"),
        };
        if missing.gaps > 0 && missing.longest < u64::MAX {
            let longest = duration_ns(missing.longest as f64 * scale.ns);
            evidence += &format!(", none longer than {longest}");
        }
        let (Some(min), Some(max), Some(mean)) = (spread.min(), spread.max(), spread.mean()) else {
            return Err((
                "none was seen from its beginning to its end".into(),
                LOSE_NOTHING.into(),
            ));
        };
        let (min, max) = (Bounds::from(min), Bounds::from(max));
        let whole = missing.runs == 0;
        let longest = missing.longest(max.high);
        let open = |bounds: Bounds, low: f64, high: f64| {
            if whole {
                (bounds.middle(), bounds.low, bounds.high)
            } else {
                (bounds.middle(), low, high)
            }
        };
        let (observed, low, high) = match of {
            Of::Max | Of::All => open(max, max.low, longest),
            Of::Min => open(min, 0.0, min.high),
            Of::Each => {
                let (low, high) = if whole { (min.low, max.high) } else { (0.0, longest) };
                (max.middle(), low, high)
            }
            Of::Mean => {
                let all = missing.mean(mean, count);
                open(mean, all.low, all.high)
            }
            Of::Deviation => {
                let Some(deviation) = spread.deviation() else {
                    return Err(("two are needed at least".into(), "measure longer".into()));
                };
                open(Bounds::exact(deviation), 0.0, f64::INFINITY)
            }
            Of::Percentile(percent) => {
                let part = f64::from(percent) / 100.0;
                let Some(seen) = spread.percentile(part) else {
                    let advice =
                        format!("measure longer: p{percent} takes {:.0}", 1.0 / (1.0 - part));
                    return Err((format!("only {count} of them"), advice));
                };
                let (n, k) = (count as f64, missing.runs as f64);
                // Were all that is missing longer, or all of it shorter.
                let upper = part * (n + k) / n;
                let lower = ((part * (n + k) - k) / n).max(0.0);
                let high = if upper > 1.0 {
                    longest
                } else {
                    spread.percentile(upper).map_or(max.high, |bounds| bounds.high)
                };
                let low = spread.percentile(lower).map_or(min.low, |bounds| bounds.low);
                (seen.middle(), low, high)
            }
        };
        let extremes = (of == Of::Each).then(|| [min.scaled(seconds), max.scaled(seconds)]);
        let [observed, low, high] = [observed, low, high].map(|ticks| ticks * seconds);
        Ok(Finding {
            observed,
            low,
            high,
            count,
            extremes,
            lossy: !whole,
            evidence,
            objection: None,
        })
    }
}

/// The file asks for what its subject does not have.
pub(super) fn no_such_figure() -> (String, String) {
    ("there is no such figure".into(), "see the guide for what can be judged".into())
}

pub(super) fn counted(count: u64, missing: &Missing, factor: f64) -> Finding {
    let high = count.saturating_add(missing.runs);
    let bounded = missing.runs < u64::MAX / 4;
    Finding {
        observed: count as f64 * factor,
        low: count as f64 * factor,
        high: if bounded { high as f64 * factor } else { f64::INFINITY },
        count,
        extremes: None,
        lossy: missing.runs > 0,
        evidence: if missing.runs == 0 {
            "counted".into()
        } else {
            "counted; some may be missing".into()
        },
        objection: None,
    }
}

fn share(busy: f64, all: f64, unknown: f64, count: u64) -> Finding {
    Finding {
        observed: busy / (all - unknown).max(1.0),
        low: busy / all,
        high: (busy + unknown) / all,
        count,
        extremes: None,
        lossy: unknown > 0.0,
        evidence: format!("of {count} runs, {:.1} % of the time unknown", 100.0 * unknown / all),
        objection: None,
    }
}

/// Whether turns on the core bound a figure of activations, which are not shorter.
const fn is_told_by_turns(figure: &TimingFigure) -> bool {
    match figure.measure {
        Measure::Load => true,
        Measure::Own | Measure::Elapsed => matches!(figure.of, Of::Max),
        _ => false,
    }
}

fn loads(row: &tasks::Figures, of: Of, gaps: u64) -> Found {
    let loads = &row.loads;
    let Some(mean) = loads.mean() else {
        return Err((
            "not one window is known from its beginning to its end".into(),
            "measure longer, lose nothing, or take a shorter window".into(),
        ));
    };
    let observed = match of {
        Of::Min => loads.least,
        Of::Mean => mean,
        _ => loads.most,
    };
    let Bounds { low, high } = match of {
        Of::Min => loads.least_of_all(),
        Of::Mean => loads.mean_of_all(),
        _ => loads.most_of_all(),
    };
    let evidence = format!("{} whole windows", loads.windows);
    let known = Finding::exact(observed, loads.windows, &evidence);
    let mut finding = Finding { low, high, lossy: gaps > 0, ..known };
    if gaps > 0 {
        finding.evidence += "; something is missing in others";
    }
    Ok(finding)
}

fn stack(row: &tasks::Figures) -> Found {
    let stack = row.stack;
    let Some(((_, size), used)) = stack.extent.zip(stack.used) else {
        return Err((
            "nothing tells how much of its stack was used".into(),
            "let the firmware state it (wb_task_created, wb_task_stack_used)".into(),
        ));
    };
    let observed = if stack.left { 1.0 } else { used as f64 / f64::from(size.max(1)) };
    let evidence = format!("{used} of {size} bytes");
    let mut finding = Finding::exact(observed, row.activations, &evidence);
    if stack.left {
        finding.high = f64::INFINITY;
    }
    if !stack.stated {
        finding.object(
            "seen at switches only: in between it may have been deeper",
            "let the firmware state the deepest (wb_task_stack_used)",
        );
    }
    Ok(finding)
}
