//! Budgets on interrupts, tasks, spans and signals, as the budget file writes them.

use super::entry::{About, Budget, TimingFigure, TimingSubject, condition, read_value};
use crate::document::{At, Fault, Table};
use crate::measure::interrupts::Basis;
use crate::measure::known::{Ask, Measure, Of};
use crate::measure::signals::AccessKey;
use crate::time::{Quantity, Unit, parse_duration};
use std::time::Duration;

/// The statistics of a duration, by key.
const STATISTICS: [(&str, Of); 8] = [
    ("min", Of::Min),
    ("mean", Of::Mean),
    ("p50", Of::Percentile(50)),
    ("p95", Of::Percentile(95)),
    ("p99", Of::Percentile(99)),
    ("max", Of::Max),
    ("stddev", Of::Deviation),
    ("each", Of::Each),
];

/// Figures of many occurrences: the table they stand in, and which statistics it has.
type Group = (&'static str, Measure, &'static [(&'static str, Of)], Unit);

const OWN: Group = ("own", Measure::Own, &STATISTICS, Unit::Time);
const ELAPSED: Group = ("elapsed", Measure::Elapsed, &STATISTICS, Unit::Time);
const PENDING: Group = ("pending", Measure::Pending, &STATISTICS, Unit::Time);
const RESPONSE: Group = ("response", Measure::Response, &STATISTICS, Unit::Time);
const PERIOD: Group = ("period", Measure::Period, &STATISTICS, Unit::Time);
const JITTER: Group = ("jitter", Measure::Jitter, &STATISTICS, Unit::Time);
const INTERVAL: Group = ("interval", Measure::Interval, &STATISTICS, Unit::Time);
const LOADS: Group =
    ("load", Measure::Load, &[("min", Of::Min), ("mean", Of::Mean), ("max", Of::Max)], Unit::Share);
const VALUES: Group = (
    "value",
    Measure::Value,
    &[("min", Of::Min), ("mean", Of::Mean), ("max", Of::Max), ("stddev", Of::Deviation)],
    Unit::Plain,
);

/// Figures that are there once.
type Single = (&'static str, Measure, Unit);

const COUNT: Single = ("count", Measure::Count, Unit::Count);
const RATE: Single = ("rate", Measure::Rate, Unit::Hertz);
const LOAD: Single = ("load", Measure::Load, Unit::Share);
const STACK_PEAK: Single = ("stack_peak", Measure::StackPeak, Unit::Share);

/// What a subject has.
const fn figures_of(subject: TimingSubject) -> (&'static [Group], &'static [Single]) {
    match subject {
        TimingSubject::Interrupt => {
            (&[OWN, ELAPSED, PENDING, RESPONSE, PERIOD, JITTER], &[COUNT, RATE, LOAD])
        }
        TimingSubject::Task => {
            (&[OWN, ELAPSED, PENDING, RESPONSE, PERIOD, JITTER, LOADS], &[COUNT, RATE, STACK_PEAK])
        }
        TimingSubject::Span => (&[ELAPSED, PERIOD, JITTER], &[COUNT, RATE]),
        TimingSubject::Signal => (&[INTERVAL, JITTER, VALUES], &[COUNT, RATE]),
    }
}

/// The figure that `NAME.KEY` means, and its unit; names may hold dots themselves.
pub(super) fn figure_named(subject: TimingSubject, text: &str) -> Option<(TimingFigure, Unit)> {
    let (groups, singles) = figures_of(subject);
    let named =
        |key: &str| text.strip_suffix(key)?.strip_suffix('.').filter(|name| !name.is_empty());
    let of_groups = groups.iter().find_map(|(key, measure, statistics, unit)| {
        statistics.iter().find_map(|(statistic, of)| {
            Some((named(&format!("{key}.{statistic}"))?, *measure, *of, *unit))
        })
    });
    let of_singles = || {
        singles
            .iter()
            .find_map(|(key, measure, unit)| Some((named(key)?, *measure, Of::All, *unit)))
    };
    let (name, measure, of, unit) = of_groups.or_else(of_singles)?;
    let name = name.to_owned();
    let (ask, window, access) = (Ask::new(measure, of), None, None);
    Some((TimingFigure { subject, name, ask, window, access }, unit))
}

/// Reads the table of one interrupt, task, span or signal. Returns how often it happens at most, in hertz, if the file
/// says so.
pub(super) fn read_timings(
    name: &At<&str>,
    subject: TimingSubject,
    table: Table<'_>,
    budgets: &mut Vec<Budget>,
) -> Result<Option<f64>, Fault> {
    let access = if subject == TimingSubject::Signal { read_access(&table)? } else { None };
    let at_most = read_rate(&table)?;
    let mut reader = Reader { name, subject, access, at_most, budgets };
    let (groups, singles) = figures_of(subject);
    for &(key, measure, statistics, unit) in groups {
        if let Some(inner) = table.table(key)? {
            for &(statistic, of) in statistics {
                let path = format!("{key}.{statistic}");
                reader.read(&inner, statistic, &path, measure, of, unit)?;
            }
            inner.finish()?;
        }
    }
    for &(key, measure, unit) in singles {
        reader.read(&table, key, key, measure, Of::All, unit)?;
    }
    table.finish()?;
    Ok(at_most)
}

struct Reader<'a, 'd> {
    name: &'a At<&'d str>,
    subject: TimingSubject,
    access: Option<AccessKey>,
    at_most: Option<f64>,
    budgets: &'a mut Vec<Budget>,
}

impl Reader<'_, '_> {
    fn read(
        &mut self,
        table: &Table<'_>,
        key: &'static str,
        path: &str,
        measure: Measure,
        of: Of,
        unit: Unit,
    ) -> Result<(), Fault> {
        let Some((limit, over, inner)) = read_value(table, key)? else { return Ok(()) };
        let (mut window, mut by) = (None, None);
        if let Some(inner) = inner {
            if measure == Measure::Load && of != Of::All {
                window = read_window(&inner)?;
            }
            if matches!(measure, Measure::Pending | Measure::Response) {
                by = read_by(&inner)?;
            }
            inner.finish()?;
        }
        let condition = condition(table, path, &limit, over, unit)?;
        let known = TimingSubject::ALL.iter().find(|(subject, _)| *subject == self.subject);
        let kind = known.map_or("", |(_, kind)| kind);
        let name = self.name.value.to_owned();
        self.budgets.push(Budget {
            subject: format!("{kind}.{name}"),
            key: path.to_owned(),
            about: About::Timing(TimingFigure {
                subject: self.subject,
                name,
                ask: Ask { measure, of, by, at_most: self.at_most },
                window,
                access: self.access,
            }),
            condition,
            line: table.fault(limit.span, "").line,
            name_span: self.name.span.clone(),
        });
        Ok(())
    }
}

/// `at_most = "1200 Hz"`.
fn read_rate(table: &Table<'_>) -> Result<Option<f64>, Fault> {
    let Some(text) = table.text("at_most")? else { return Ok(None) };
    let rate = Quantity::parse(text.value, &[Unit::Hertz]).ok().map(|rate| rate.value);
    rate.filter(|rate| *rate > 0.0)
        .map(Some)
        .ok_or_else(|| table.fault(text.span, "`at_most` is a rate, such as 1200 Hz"))
}

pub(super) fn read_window(table: &Table<'_>) -> Result<Option<Duration>, Fault> {
    let Some(text) = table.text("window")? else { return Ok(None) };
    parse_duration(text.value)
        .ok()
        .filter(|window| !window.is_zero())
        .map(Some)
        .ok_or_else(|| table.fault(text.span, "`window` is a time, such as 100 ms"))
}

/// `access = "write"`.
pub(super) fn read_access(table: &Table<'_>) -> Result<Option<AccessKey>, Fault> {
    match table.text("access")? {
        None => Ok(None),
        Some(At { value: "read", .. }) => Ok(Some(AccessKey::Read)),
        Some(At { value: "write", .. }) => Ok(Some(AccessKey::Write)),
        Some(other) => Err(table.fault(other.span, "`access` is \"read\" or \"write\"")),
    }
}

/// `by = "grid"`.
pub(super) fn read_by(table: &Table<'_>) -> Result<Option<Basis>, Fault> {
    match table.text("by")? {
        None | Some(At { value: "stated", .. }) => Ok(None),
        Some(At { value: "grid", .. }) => Ok(Some(Basis::Grid)),
        Some(other) => Err(table.fault(other.span, "`by` is \"stated\" or \"grid\"")),
    }
}
