//! Figures of interrupts, tasks, spans and signals, by the names that budgets use.

use super::entry::{TimingFigure, TimingSubject};
use crate::event::Thing;
use crate::figure::Absent;
use crate::image::Image;
use crate::measure::interrupts::{Figures, InterruptFigures};
use crate::measure::known::{Facts, Found};
use crate::measure::signals::{Signal, Signals};
use crate::measure::span::{StatedSpan, StatedSpans};
use crate::measure::tasks::{self, TaskFigures};
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
    /// What all of them rest on.
    pub facts: Facts,
    /// Figures without what no synchronisation of an instruction trace confirms.
    pub confirmed: Option<&'a Timings<'a>>,
}

/// A subject that a budget's name fits: how it differs from others of that name, and what is known.
pub(super) type Meant = (Option<Which>, Found);

/// How one subject of a name differs from the others.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Which {
    /// By its number, where these differ.
    pub(super) number: Option<String>,
    /// By the core, where several take one interrupt.
    pub(super) core: Option<u8>,
}

impl Which {
    fn number(number: u32) -> Self {
        Self { number: Some(number.to_string()), core: None }
    }
}

impl std::fmt::Display for Which {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (&self.number, self.core) {
            (Some(number), Some(core)) => write!(f, "number {number} on core {core}"),
            (Some(number), None) => write!(f, "number {number}"),
            (None, Some(core)) => write!(f, "core {core}"),
            (None, None) => Ok(()),
        }
    }
}

impl Timings<'_> {
    /// What is known of a figure, for each subject that its name fits.
    pub(super) fn find(&self, figure: &TimingFigure) -> Vec<Meant> {
        if let Err(absent) = self.facts.scale() {
            return vec![(None, Err(absent))];
        }
        let mut found = match figure.subject {
            TimingSubject::Interrupt => self.interrupts(figure),
            TimingSubject::Task => self.tasks(figure),
            TimingSubject::Span => self.spans(figure),
            TimingSubject::Signal => vec![(None, self.signal(figure))],
        };
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

    fn interrupts(&self, figure: &TimingFigure) -> Vec<Meant> {
        let numbers = match figure.name.parse() {
            Ok(number) => vec![number],
            Err(_) => self.facts.interrupt_names.named(&figure.name, self.image),
        };
        let rows: Vec<&Figures> = numbers.iter().flat_map(|&n| self.interrupts.of(n)).collect();
        if rows.is_empty() {
            let absent = Absent::new(
                "it was never seen in this recording",
                "trace exceptions, for longer, or check the name",
            );
            return vec![(None, Err(absent))];
        }
        let several = rows.len() > 1;
        let several_numbers = rows.iter().any(|row| row.exception != rows[0].exception);
        let meant = |row: &&Figures| {
            let core = (self.facts.cores > 1).then_some(row.core);
            let number = several_numbers.then(|| row.exception.to_string());
            (
                several.then_some(Which { number, core }),
                self.interrupts.figure(row, figure.ask, &self.facts),
            )
        };
        rows.iter().map(meant).collect()
    }

    fn tasks(&self, figure: &TimingFigure) -> Vec<Meant> {
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
            (several.then(|| Which::number(row.task)), figures.figure(row, figure.ask, &self.facts))
        };
        rows.iter().map(meant).collect()
    }

    fn spans(&self, figure: &TimingFigure) -> Vec<Meant> {
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
            (
                several.then(|| Which::number(row.span)),
                self.spans.figure(row, figure.ask, &self.facts),
            )
        };
        rows.iter().map(meant).collect()
    }

    fn signal(&self, figure: &TimingFigure) -> Found {
        let absent = || {
            Absent::new(
                "nothing is known of this signal",
                "watch it, poll it, or let the firmware state it; `signals` lists what is there",
            )
        };
        let signals = self.signals.ok_or_else(absent)?;
        let meant = |signal: &&Signal| {
            let way = figure.access.is_none_or(|access| signal.key.access == Some(access));
            way && signals.name(signal.key) == figure.name
        };
        let mut found = signals.list().iter().filter(meant);
        let signal = found.next().ok_or_else(absent)?;
        if found.next().is_some() {
            return Err(Absent::new(
                "it was read and written, or several are called so",
                "say which: access = \"read\", or \"write\"",
            ));
        }
        signals.figure(signal, figure.ask, &self.facts)
    }
}
