//! Budgets on interrupts and tasks, as the budget file writes them.

use super::entry::{
    Budget, Figure, Measure, Of, TimingFigure, TimingSubject, condition, read_value,
};
use crate::document::{At, Fault, Table};
use crate::measure::signals::AccessKey;
use crate::time::{Unit, parse_duration};
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

const DURATIONS: [(&str, Measure); 6] = [
    ("own", Measure::Own),
    ("elapsed", Measure::Elapsed),
    ("pending", Measure::Pending),
    ("response", Measure::Response),
    ("period", Measure::Period),
    ("jitter", Measure::Jitter),
];

/// What of these a span has.
const SPAN_DURATIONS: [(&str, Measure); 3] =
    [("elapsed", Measure::Elapsed), ("period", Measure::Period), ("jitter", Measure::Jitter)];

/// What of these a signal has.
const SIGNAL_DURATIONS: [(&str, Measure); 2] =
    [("interval", Measure::Interval), ("jitter", Measure::Jitter)];

const VALUES: [(&str, Of); 4] =
    [("min", Of::Min), ("mean", Of::Mean), ("max", Of::Max), ("stddev", Of::Deviation)];

const LOADS: [(&str, Of); 3] = [("min", Of::Min), ("mean", Of::Mean), ("max", Of::Max)];

/// Reads the table of one interrupt or task.
pub(super) fn read_timings(
    name: &At<&str>,
    subject: TimingSubject,
    table: Table<'_>,
    budgets: &mut Vec<Budget>,
) -> Result<(), Fault> {
    let access = if subject == TimingSubject::Signal { read_access(&table)? } else { None };
    let mut reader = Reader { name, subject, access, budgets };
    let durations = match subject {
        TimingSubject::Interrupt | TimingSubject::Task => &DURATIONS[..],
        TimingSubject::Span => &SPAN_DURATIONS,
        TimingSubject::Signal => &SIGNAL_DURATIONS,
    };
    for &(key, measure) in durations {
        if let Some(inner) = table.table(key)? {
            for (statistic, of) in STATISTICS {
                let path = format!("{key}.{statistic}");
                reader.read(&inner, statistic, &path, measure, of, Unit::Time)?;
            }
            inner.finish()?;
        }
    }
    reader.read(&table, "count", "count", Measure::Count, Of::All, Unit::Count)?;
    reader.read(&table, "rate", "rate", Measure::Rate, Of::All, Unit::Hertz)?;
    match subject {
        TimingSubject::Span => {}
        TimingSubject::Signal => {
            if let Some(inner) = table.table("value")? {
                for (statistic, of) in VALUES {
                    let path = format!("value.{statistic}");
                    reader.read(&inner, statistic, &path, Measure::Value, of, Unit::Plain)?;
                }
                inner.finish()?;
            }
        }
        TimingSubject::Interrupt => {
            reader.read(&table, "load", "load", Measure::Load, Of::All, Unit::Share)?;
        }
        TimingSubject::Task => {
            if let Some(inner) = table.table("load")? {
                for (statistic, of) in LOADS {
                    let path = format!("load.{statistic}");
                    reader.read(&inner, statistic, &path, Measure::Load, of, Unit::Share)?;
                }
                inner.finish()?;
            }
            let measure = Measure::StackPeak;
            reader.read(&table, "stack_peak", "stack_peak", measure, Of::All, Unit::Share)?;
        }
    }
    table.finish()
}

struct Reader<'a, 'd> {
    name: &'a At<&'d str>,
    subject: TimingSubject,
    access: Option<AccessKey>,
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
        let (mut window, mut by_grid) = (None, false);
        if let Some(inner) = inner {
            if measure == Measure::Load && of != Of::All {
                window = read_window(&inner)?;
            }
            if matches!(measure, Measure::Pending | Measure::Response) {
                by_grid = read_by(&inner)?;
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
            figure: Figure::Timing(TimingFigure {
                subject: self.subject,
                name,
                measure,
                of,
                window,
                by_grid,
                access: self.access,
            }),
            condition,
            line: table.fault(limit.span, "").line,
            name_span: self.name.span.clone(),
        });
        Ok(())
    }
}

fn read_window(table: &Table<'_>) -> Result<Option<Duration>, Fault> {
    let Some(text) = table.text("window")? else { return Ok(None) };
    parse_duration(text.value)
        .ok()
        .filter(|window| !window.is_zero())
        .map(Some)
        .ok_or_else(|| table.fault(text.span, "`window` is a time, such as 100 ms"))
}

/// `access = "write"`.
fn read_access(table: &Table<'_>) -> Result<Option<AccessKey>, Fault> {
    match table.text("access")? {
        None => Ok(None),
        Some(At { value: "read", .. }) => Ok(Some(AccessKey::Read)),
        Some(At { value: "write", .. }) => Ok(Some(AccessKey::Write)),
        Some(other) => Err(table.fault(other.span, "`access` is \"read\" or \"write\"")),
    }
}

/// `by = "grid"`.
fn read_by(table: &Table<'_>) -> Result<bool, Fault> {
    match table.text("by")? {
        None | Some(At { value: "stated", .. }) => Ok(false),
        Some(At { value: "grid", .. }) => Ok(true),
        Some(other) => Err(table.fault(other.span, "`by` is \"stated\" or \"grid\"")),
    }
}
