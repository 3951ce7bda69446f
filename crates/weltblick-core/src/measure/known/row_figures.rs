//! The figures of one subject as reports state them, with what speaks against each.

use super::against::Against;
use super::{Ask, Found, KnownBy, Measure, Of};
use crate::figure::{Figure, ObjectionRow};
use crate::measure::statistic::{Scale, Statistic};
use crate::stats::Bounds;
use schemars::JsonSchema;
use serde::Serialize;

/// A part of something, from 0 to 1, with the interval in which the true one lies.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, JsonSchema)]
pub struct Part {
    /// What was seen.
    pub share: f64,
    /// The true one is not less.
    pub share_low: f64,
    /// The true one is not more.
    pub share_high: f64,
}

/// How many, and how often a second.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, JsonSchema)]
pub struct Often {
    /// How many were seen.
    pub count: u64,
    /// There were not more; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub count_high: Option<u64>,
    /// How often per second, as it was seen.
    pub rate: f64,
    /// Not less often.
    pub rate_low: f64,
    /// Not more often; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate_high: Option<f64>,
}

/// Asks for the figures of one subject, and keeps what speaks against them.
pub(crate) struct RowFigures<'a> {
    find: &'a dyn Fn(Ask) -> Found,
    scale: Scale,
    by: Option<KnownBy>,
    by_turns: bool,
    against: Against,
}

impl<'a> RowFigures<'a> {
    /// Of a subject; pending and response times as they are known `by`.
    pub(crate) fn new(scale: Scale, by: Option<KnownBy>, find: &'a dyn Fn(Ask) -> Found) -> Self {
        Self { find, scale, by, by_turns: false, against: Against::default() }
    }

    /// Of a task: turns on the core will do.
    pub(crate) fn by_turns(self) -> Self {
        Self { by_turns: true, ..self }
    }

    /// A figure, if anything is known of it.
    pub(crate) fn figure(&mut self, measure: Measure, of: Of) -> Option<Figure> {
        let figure =
            (self.find)(Ask { by: self.by, by_turns: self.by_turns, ..Ask::new(measure, of) })
                .ok()?;
        self.against.note(measure.key(), of.key(), &figure);
        Some(figure)
    }

    /// All statistics of durations.
    pub(crate) fn statistic(&mut self, measure: Measure) -> Statistic {
        let scale = self.scale;
        statistic(scale, |of| self.figure(measure, of))
    }

    /// How many, and how often.
    pub(crate) fn often(&mut self) -> Often {
        let bound = |figure: &Figure| figure.high.is_finite().then_some(figure.high);
        let count = self.figure(Measure::Count, Of::All);
        let rate = self.figure(Measure::Rate, Of::All);
        let (Some(count), Some(rate)) = (count, rate) else { return Often::default() };
        Often {
            count: count.observed() as u64,
            count_high: bound(&count).map(|high| high as u64),
            rate: rate.observed(),
            rate_low: rate.low,
            rate_high: bound(&rate),
        }
    }

    /// A part, if anything is known of it.
    pub(crate) fn part(&mut self, measure: Measure, of: Of) -> Option<Part> {
        let figure = self.figure(measure, of)?;
        let Bounds { low, high } = figure.bounds();
        Some(Part { share: figure.observed(), share_low: low, share_high: high.min(1.0) })
    }

    /// What speaks against what was asked for.
    pub(crate) fn objections(self) -> Vec<ObjectionRow> {
        self.against.rows()
    }
}

/// All statistics of durations, each a figure of its own.
pub(crate) fn statistic(scale: Scale, mut find: impl FnMut(Of) -> Option<Figure>) -> Statistic {
    let mut count = None;
    let mut of = |of: Of| {
        let figure = find(of)?;
        count.get_or_insert(figure.count);
        Some(scale.stated(&figure, matches!(of, Of::Min | Of::Max)))
    };
    let (min, mean, max) = (of(Of::Min), of(Of::Mean), of(Of::Max));
    let [p50, p95, p99] = [50, 95, 99].map(|part| of(Of::Percentile(part)));
    let stddev = of(Of::Deviation);
    Statistic { count: count.unwrap_or(0), min, mean, p50, p95, p99, max, stddev }
}
