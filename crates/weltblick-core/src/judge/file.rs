//! The budget file: one table per subject, one key per figure.

use super::entry::{About, Budget, TimingSubject, condition, read_value};
use super::place::{address_of, function_of, function_point};
use super::relation::{Relation, read_relation};
use super::timing_file::read_timings;
use crate::document::{At, Fault, Source, Table};
use crate::image::{FunctionId, Image};
use crate::measure::coverage::Covered;
use crate::measure::execution::CallMeasure;
use crate::measure::interrupts::InterruptNames;
use crate::measure::known::Of;
use crate::point::Point;
use crate::time::Unit;
use std::ops::Range;

/// A budget file that was understood.
#[derive(Debug, Clone)]
pub struct BudgetFile {
    file: String,
    text: String,
    /// In the order of the file.
    pub budgets: Vec<Budget>,
    /// What must hold between two figures.
    pub relations: Vec<Relation>,
}

impl BudgetFile {
    /// Reads a budget file that the user knows as `file`.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong, with its line: unknown subjects and keys, wrong units.
    pub fn parse(file: &str, text: &str) -> Result<Self, Fault> {
        let source = Source::new(file, text);
        let parsed = source.parse()?;
        let root = Table::root(source, &parsed);
        let mut budgets = Vec::new();
        let mut guaranteed = Vec::new();
        if let Some(functions) = root.table("function")? {
            for (name, table) in functions.named_tables()? {
                read_function(&name, table, &mut budgets)?;
            }
        }
        if let Some(patterns) = root.table("coverage")? {
            for (name, table) in patterns.named_tables()? {
                read_coverage(&name, table, &mut budgets)?;
            }
        }
        for (subject, kind) in TimingSubject::ALL {
            if let Some(tables) = root.table(kind)? {
                for (name, table) in tables.named_tables()? {
                    if subject == TimingSubject::Span && name.value.contains("..") {
                        read_way(&name, table, &mut budgets)?;
                    } else {
                        let at_most = read_timings(&name, subject, table, &mut budgets)?;
                        guaranteed.extend(at_most.map(|hertz| (subject, name.value, hertz)));
                    }
                }
            }
        }
        for (subject, key, figure, unit) in [
            ("sleep", "share", About::SleepShare, Unit::Share),
            ("recording", "samples", About::Samples, Unit::Count),
        ] {
            if let Some(table) = root.table(subject)? {
                let name = At { value: subject, span: table.span() };
                read_figure(&name, subject, &table, key, figure, unit, &mut budgets)?;
                table.finish()?;
            }
        }
        let mut relations = Vec::new();
        if let Some(tables) = root.table("relation")? {
            for (name, table) in tables.named_tables()? {
                let mut relation = read_relation(&name, table)?;
                relation.rely_on(&guaranteed);
                relations.push(relation);
            }
        }
        root.finish()?;
        if budgets.is_empty() && relations.is_empty() {
            return Err(
                source.fault(0..0, "there is no budget in this file; see the guide for examples")
            );
        }
        budgets.sort_by_key(|budget| budget.line);
        Ok(Self { file: file.to_owned(), text: text.to_owned(), budgets, relations })
    }

    /// All figures that are to be judged, both sides of relations among them.
    pub fn figures(&self) -> impl Iterator<Item = &About> {
        self.named_figures().map(|(figure, _)| figure)
    }

    fn named_figures(&self) -> impl Iterator<Item = (&About, &Range<usize>)> {
        let plain = self.budgets.iter().map(|budget| (&budget.about, &budget.name_span));
        let related = self.relations.iter().flat_map(|relation| {
            [&relation.left, &relation.right].map(|side| (&side.about, &relation.span))
        });
        plain.chain(related)
    }

    /// Looks all names up: in the image, and among those that the recording gives to interrupts.
    ///
    /// # Errors
    ///
    /// The first that is not there, or is there several times.
    pub fn verify(&self, image: &Image, names: &InterruptNames) -> Result<(), Fault> {
        self.named_figures().try_for_each(|(figure, span)| {
            self.function(figure, span, image)?;
            let About::Timing(figure) = figure else { return Ok(()) };
            let is_number = || figure.name.parse::<u16>().is_ok();
            if figure.subject != TimingSubject::Interrupt
                || is_number()
                || !names.named(&figure.name, Some(image)).is_empty()
            {
                return Ok(());
            }
            let known = names.all(Some(image)).join(", ");
            let why = match (names.is_empty(), known.is_empty()) {
                (_, true) => format!(
                    "`{}`: without an image interrupts have numbers only; give --image",
                    figure.name
                ),
                (true, _) => format!("the vector table has no `{}`; it has {known}", figure.name),
                _ => format!("no interrupt is called `{}`; there are {known}", figure.name),
            };
            Err(Source::new(&self.file, &self.text).fault(span.clone(), why))
        })
    }

    /// The function that a figure is about, if it is about one; it is named at `span`.
    ///
    /// # Errors
    ///
    /// If the image has no such function, or several without telling which.
    pub(super) fn function(
        &self,
        figure: &About,
        span: &Range<usize>,
        image: &Image,
    ) -> Result<Option<FunctionId>, Fault> {
        let fault = |why| Source::new(&self.file, &self.text).fault(span.clone(), why);
        match figure {
            About::SelfShare { function } | About::Call { function, .. } => {
                function_of(function, image).map(Some).map_err(fault)
            }
            About::Way { points, .. } => {
                let place = |point| address_of(point, image).map(|_| ());
                points
                    .iter()
                    .try_for_each(place)
                    .map(|()| None)
                    .map_err(|why| fault(why.to_string()))
            }
            _ => Ok(None),
        }
    }
}

fn read_function(
    name: &At<&str>,
    table: Table<'_>,
    budgets: &mut Vec<Budget>,
) -> Result<(), Fault> {
    let function = function_point(name.value).map_err(|why| table.fault(name.span.clone(), why))?;
    let subject = format!("function.{}", name.value);
    let figure = About::SelfShare { function: function.clone() };
    read_figure(name, &subject, &table, "self_share", figure, Unit::Share, budgets)?;
    let call = |measure| About::Call { function: function.clone(), measure };
    let figure = call(CallMeasure::Count);
    read_figure(name, &subject, &table, "calls", figure, Unit::Count, budgets)?;
    if let Some(total) = table.table("total")? {
        read_durations(name, &subject, "total.", &total, &TOTAL, &call, budgets)?;
        total.finish()?;
    }
    if let Some(itself) = table.table("self")? {
        let kinds: [Kind; 1] = [("own", CallMeasure::SelfOwn)];
        read_durations(name, &subject, "self.", &itself, &kinds, &call, budgets)?;
        itself.finish()?;
    }
    table.finish()
}

/// `[span."modem_send..checksum"]`: a way through the code.
fn read_way(name: &At<&str>, table: Table<'_>, budgets: &mut Vec<Budget>) -> Result<(), Fault> {
    let point = |text: &str| {
        let fault = |why: String| table.fault(name.span.clone(), format!("`{text}`: {why}"));
        let point: Point = text.parse().map_err(|error| fault(format!("{error}")))?;
        match point {
            Point::Function { .. } | Point::Line { .. } | Point::Address(_) => Ok(point),
            _ => Err(fault("is no place in the code".into())),
        }
    };
    let points: Vec<Point> = name.value.split("..").map(point).collect::<Result<_, _>>()?;
    let subject = format!("span.{}", name.value);
    let way = |measure| About::Way { points: points.clone(), measure };
    let figure = way(CallMeasure::Count);
    read_figure(name, &subject, &table, "count", figure, Unit::Count, budgets)?;
    read_durations(name, &subject, "", &table, &TOTAL, &way, budgets)?;
    table.finish()
}

/// The key of a duration, and what it is.
type Kind = (&'static str, fn(Of) -> CallMeasure);

/// Durations with what was called.
const TOTAL: [Kind; 2] = [("own", CallMeasure::Own), ("elapsed", CallMeasure::Elapsed)];

/// Durations, each with statistics.
fn read_durations(
    name: &At<&str>,
    subject: &str,
    prefix: &str,
    table: &Table<'_>,
    kinds: &[Kind],
    figure: &dyn Fn(CallMeasure) -> About,
    budgets: &mut Vec<Budget>,
) -> Result<(), Fault> {
    for (kind, measure) in kinds {
        let Some(statistics) = table.table(kind)? else { continue };
        for (key, of) in CALL_STATISTICS {
            let before = budgets.len();
            let figure = figure(measure(of));
            read_figure(name, subject, &statistics, key, figure, Unit::Time, budgets)?;
            for budget in &mut budgets[before..] {
                budget.key = format!("{prefix}{kind}.{key}");
            }
        }
        statistics.finish()?;
    }
    Ok(())
}

/// The statistics of calls, by key.
const CALL_STATISTICS: [(&str, Of); 6] = [
    ("min", Of::Min),
    ("mean", Of::Mean),
    ("p50", Of::Percentile(50)),
    ("p95", Of::Percentile(95)),
    ("p99", Of::Percentile(99)),
    ("max", Of::Max),
];

/// `[coverage."src/control/*"]`.
fn read_coverage(
    name: &At<&str>,
    table: Table<'_>,
    budgets: &mut Vec<Budget>,
) -> Result<(), Fault> {
    let subject = format!("coverage.{}", name.value);
    for measure in Covered::ALL {
        let figure = About::Coverage { pattern: name.value.to_owned(), measure };
        read_figure(name, &subject, &table, measure.key(), figure, Unit::Share, budgets)?;
    }
    table.finish()
}

fn read_figure(
    name: &At<&str>,
    subject: &str,
    table: &Table<'_>,
    key: &'static str,
    figure: About,
    unit: Unit,
    budgets: &mut Vec<Budget>,
) -> Result<(), Fault> {
    let Some((limit, over, inner)) = read_value(table, key)? else { return Ok(()) };
    inner.map(Table::finish).transpose()?;
    let condition = condition(table, key, &limit, over, unit)?;
    budgets.push(Budget {
        subject: subject.to_owned(),
        key: key.to_owned(),
        about: figure,
        condition,
        line: table.fault(limit.span, "").line,
        name_span: name.span.clone(),
    });
    Ok(())
}
