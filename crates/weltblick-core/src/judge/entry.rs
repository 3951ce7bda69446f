//! One line of a budget file: what it is about, and what must hold.

use super::limit::{Condition, Limit};
use crate::document::{At, Fault, Table, TextOrTable};
use crate::measure::coverage::Covered;
use crate::measure::execution::CallMeasure;
use crate::measure::known::Ask;
use crate::measure::signals::AccessKey;
use crate::point::Point;
use crate::time::{Quantity, Unit};
use std::ops::Range;
use std::time::Duration;

/// What a budget is about.
#[derive(Debug, Clone, PartialEq)]
pub enum About {
    /// The share of samples in a function, without what it calls.
    SelfShare {
        /// Which function.
        function: Point,
    },
    /// The share of samples that found the core asleep.
    SleepShare,
    /// How many samples there are.
    Samples,
    /// A figure of an interrupt or of a task.
    Timing(TimingFigure),
    /// How much of some code was covered.
    Coverage {
        /// A pattern for names of functions or files.
        pattern: String,
        /// Of what.
        measure: Covered,
    },
    /// A figure of a function's calls.
    Call {
        /// Which function.
        function: Point,
        /// Which figure.
        measure: CallMeasure,
    },
    /// A figure of the way through the code, from one place to another.
    Way {
        /// The places, first to last.
        points: Vec<Point>,
        /// Which figure.
        measure: CallMeasure,
    },
}

impl About {
    /// Whether it rests on samples.
    #[must_use]
    pub const fn is_of_samples(&self) -> bool {
        matches!(self, Self::SelfShare { .. } | Self::SleepShare | Self::Samples)
    }

    /// Whether it is about code, which only an image can name.
    #[must_use]
    pub const fn is_of_code(&self) -> bool {
        match self {
            Self::SelfShare { .. }
            | Self::Coverage { .. }
            | Self::Call { .. }
            | Self::Way { .. } => true,
            Self::SleepShare | Self::Samples | Self::Timing(_) => false,
        }
    }

    /// What the figure is measured in.
    #[must_use]
    pub const fn unit(&self) -> Unit {
        match self {
            Self::SelfShare { .. } | Self::SleepShare | Self::Coverage { .. } => Unit::Share,
            Self::Samples => Unit::Count,
            Self::Call { measure, .. } | Self::Way { measure, .. } => match measure {
                CallMeasure::Count => Unit::Count,
                CallMeasure::SelfOwn(_) | CallMeasure::Own(_) | CallMeasure::Elapsed(_) => {
                    Unit::Time
                }
            },
            Self::Timing(figure) => figure.ask.measure.unit(),
        }
    }
}

/// One line of a budget file.
#[derive(Debug, Clone, PartialEq)]
pub struct Budget {
    /// The subject as written: `function.wave_filter`.
    pub subject: String,
    /// The key: `self_share`.
    pub key: String,
    /// What it is about.
    pub about: About,
    /// What must hold.
    pub condition: Condition,
    /// The line in the file.
    pub line: usize,
    /// Where the subject's name stands.
    pub(super) name_span: Range<usize>,
}

/// What has figures in time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TimingSubject {
    /// An interrupt, by its name or number.
    Interrupt,
    /// A task, by its name or number.
    Task,
    /// A span that the firmware states, by its name.
    Span,
    /// A value over time, by its name.
    Signal,
}

impl TimingSubject {
    /// Every subject, and what budgets call it.
    pub(super) const ALL: [(Self, &'static str); 4] = [
        (Self::Interrupt, "interrupt"),
        (Self::Task, "task"),
        (Self::Span, "span"),
        (Self::Signal, "signal"),
    ];
}

/// A figure of an interrupt or of a task.
#[derive(Debug, Clone, PartialEq)]
pub struct TimingFigure {
    /// Of what.
    pub subject: TimingSubject,
    /// Its name, or number.
    pub name: String,
    /// Which figure, and with what it is asked for.
    pub ask: Ask,
    /// Of a load: the length of a window.
    pub window: Option<Duration>,
    /// Of a variable: reads or writes; absent: whichever there are.
    pub access: Option<AccessKey>,
}

/// What a value says: the limit, over how many, and the table it stands in, if any.
pub(super) type Value<'d> = (At<&'d str>, Option<u64>, Option<Table<'d>>);

/// A limit, plain or in a table with `over`; what else stands in that table is left to the caller.
pub(super) fn read_value<'d>(
    table: &Table<'d>,
    key: &'static str,
) -> Result<Option<Value<'d>>, Fault> {
    Ok(match table.text_or_table(key)? {
        None => None,
        Some(TextOrTable::Text(limit)) => Some((limit, None, None)),
        Some(TextOrTable::Table(inner)) => {
            let limit = inner.required_text("limit")?;
            let over = inner.text("over")?.map(|over| read_over(&inner, &over)).transpose()?;
            Some((limit, over, Some(inner)))
        }
    })
}

/// The condition that a limit states.
pub(super) fn condition(
    table: &Table<'_>,
    key: &str,
    limit: &At<&str>,
    over: Option<u64>,
    unit: Unit,
) -> Result<Condition, Fault> {
    let parsed = Limit::parse(limit.value, unit)
        .map_err(|error| table.fault(limit.span.clone(), format!("`{key}`: {error}")))?;
    Ok(Condition { limit: parsed, written: limit.value.trim().to_owned(), over })
}

/// `>= 10000 samples`.
fn read_over(table: &Table<'_>, over: &At<&str>) -> Result<u64, Fault> {
    let fault = |why: String| table.fault(over.span.clone(), format!("`over`: {why}"));
    let number = over
        .value
        .trim()
        .strip_prefix(">=")
        .ok_or_else(|| fault("write how many at least, for example >= 10000 samples".into()))?;
    let count =
        Quantity::parse(number, &[Unit::Count]).map_err(|error| fault(error.to_string()))?;
    if count.value < 0.0 {
        return Err(fault("it must not be negative".into()));
    }
    Ok(count.value as u64)
}
