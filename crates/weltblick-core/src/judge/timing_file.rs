//! Budgets on interrupts, tasks, spans and signals, as the budget file writes them.

use super::entry::{About, Budget, TimingFigure, TimingSubject, condition, read_value};
use crate::document::{At, Fault, Table};
use crate::measure::known::{Ask, KnownBy, Measure, Of};
use crate::measure::signals::AccessKey;
use crate::time::{Quantity, Unit, parse_duration};
use std::time::Duration;

/// Figures of many occurrences, and which statistics they have.
type Group = (Measure, &'static [Of]);

const OWN: Group = (Measure::Own, &Of::STATISTICS);
const ELAPSED: Group = (Measure::Elapsed, &Of::STATISTICS);
const PENDING: Group = (Measure::Pending, &Of::STATISTICS);
const RESPONSE: Group = (Measure::Response, &Of::STATISTICS);
const PERIOD: Group = (Measure::Period, &Of::STATISTICS);
const JITTER: Group = (Measure::Jitter, &Of::STATISTICS);
const INTERVAL: Group = (Measure::Interval, &Of::STATISTICS);
const LOADS: Group = (Measure::Load, &[Of::Min, Of::Mean, Of::Max]);
const VALUES: Group = (Measure::Value, &[Of::Min, Of::Mean, Of::Max, Of::Deviation]);

/// What a subject has: figures of many occurrences, and figures that are there once.
const fn figures_of(subject: TimingSubject) -> (&'static [Group], &'static [Measure]) {
    use Measure::{Count, Load, Rate, StackPeak};
    match subject {
        TimingSubject::Interrupt => {
            (&[OWN, ELAPSED, PENDING, RESPONSE, PERIOD, JITTER], &[Count, Rate, Load])
        }
        TimingSubject::Task => {
            (&[OWN, ELAPSED, PENDING, RESPONSE, PERIOD, JITTER, LOADS], &[Count, Rate, StackPeak])
        }
        TimingSubject::Span => (&[ELAPSED, PERIOD, JITTER], &[Count, Rate]),
        TimingSubject::Signal => (&[INTERVAL, JITTER, VALUES], &[Count, Rate]),
    }
}

/// The figure that `NAME.KEY` means, and its unit; names may hold dots themselves.
pub(super) fn figure_named(subject: TimingSubject, text: &str) -> Option<(TimingFigure, Unit)> {
    let (groups, singles) = figures_of(subject);
    let named =
        |key: &str| text.strip_suffix(key)?.strip_suffix('.').filter(|name| !name.is_empty());
    let of_groups = groups.iter().find_map(|&(measure, statistics)| {
        let of = |&of: &Of| {
            Some((named(&format!("{}.{}", measure.key(), of.key()))?, Ask::new(measure, of)))
        };
        statistics.iter().find_map(of)
    });
    let of_singles = || {
        let single = |&measure: &Measure| Some((named(measure.key())?, Ask::new(measure, Of::All)));
        singles.iter().find_map(single)
    };
    let (name, ask) = of_groups.or_else(of_singles)?;
    let name = name.to_owned();
    let (window, access) = (None, None);
    Some((TimingFigure { subject, name, ask, window, access }, ask.measure.unit()))
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
    for &(measure, statistics) in groups {
        if let Some(inner) = table.table(measure.key())? {
            for &of in statistics {
                let path = format!("{}.{}", measure.key(), of.key());
                reader.read(&inner, of.key(), &path, Ask::new(measure, of))?;
            }
            inner.finish()?;
        }
    }
    for &measure in singles {
        reader.read(&table, measure.key(), measure.key(), Ask::new(measure, Of::All))?;
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
        ask: Ask,
    ) -> Result<(), Fault> {
        let Some((limit, over, inner)) = read_value(table, key)? else { return Ok(()) };
        let (mut window, mut by) = (None, None);
        if let Some(inner) = inner {
            if ask.measure == Measure::Load && ask.of != Of::All {
                window = read_window(&inner)?;
            }
            if matches!(ask.measure, Measure::Pending | Measure::Response) {
                by = read_by(&inner)?;
            }
            inner.finish()?;
        }
        let condition = condition(table, path, &limit, over, ask.measure.unit())?;
        let known = TimingSubject::ALL.iter().find(|(subject, _)| *subject == self.subject);
        let kind = known.map_or("", |(_, kind)| kind);
        let name = self.name.value.to_owned();
        self.budgets.push(Budget {
            subject: format!("{kind}.{name}"),
            key: path.to_owned(),
            about: About::Timing(TimingFigure {
                subject: self.subject,
                name,
                ask: Ask { by, at_most: self.at_most, ..ask },
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
pub(super) fn read_by(table: &Table<'_>) -> Result<Option<KnownBy>, Fault> {
    match table.text("by")? {
        None | Some(At { value: "stated", .. }) => Ok(None),
        Some(At { value: "grid", .. }) => Ok(Some(KnownBy::Grid)),
        Some(other) => Err(table.fault(other.span, "`by` is \"stated\" or \"grid\"")),
    }
}
