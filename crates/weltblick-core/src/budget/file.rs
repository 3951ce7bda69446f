//! The budget file: one table per subject, one key per figure.

use super::limit::{Condition, Limit};
use super::place::function_of;
use super::point::Point;
use super::timing_file::{TimingFigure, TimingSubject, read_timings};
use crate::document::{At, Fault, Source, Table, TextOrTable};
use crate::image::{FunctionId, Image};
use crate::time::{Quantity, Unit};
use std::ops::Range;

/// What a budget is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Figure {
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
}

/// One line of a budget file.
#[derive(Debug, Clone, PartialEq)]
pub struct Budget {
    /// The subject as written: `function.wave_filter`.
    pub subject: String,
    /// The key: `self_share`.
    pub key: String,
    /// What it is about.
    pub figure: Figure,
    /// What must hold.
    pub condition: Condition,
    /// The line in the file.
    pub line: usize,
    /// Where the subject's name stands.
    pub(super) name_span: Range<usize>,
}

/// A budget file that was understood.
#[derive(Debug, Clone)]
pub struct BudgetFile {
    file: String,
    text: String,
    /// In the order of the file.
    pub budgets: Vec<Budget>,
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
        if let Some(functions) = root.table("function")? {
            for (name, table) in functions.named_tables()? {
                read_function(&name, table, &mut budgets)?;
            }
        }
        for (kind, subject) in
            [("interrupt", TimingSubject::Interrupt), ("task", TimingSubject::Task)]
        {
            if let Some(tables) = root.table(kind)? {
                for (name, table) in tables.named_tables()? {
                    read_timings(&name, subject, table, &mut budgets)?;
                }
            }
        }
        for (subject, key, figure, unit) in [
            ("sleep", "share", Figure::SleepShare, Unit::Share),
            ("recording", "samples", Figure::Samples, Unit::Count),
        ] {
            if let Some(table) = root.table(subject)? {
                let name = At { value: subject, span: table.span() };
                read_figure(&name, subject, &table, key, figure, unit, &mut budgets)?;
                table.finish()?;
            }
        }
        root.finish()?;
        if budgets.is_empty() {
            return Err(
                source.fault(0..0, "there is no budget in this file; see the guide for examples")
            );
        }
        budgets.sort_by_key(|budget| budget.line);
        Ok(Self { file: file.to_owned(), text: text.to_owned(), budgets })
    }

    /// The functions that a budget is about.
    ///
    /// # Errors
    ///
    /// If the image has no such function, or several without telling which.
    pub fn function(&self, budget: &Budget, image: &Image) -> Result<Option<FunctionId>, Fault> {
        let Figure::SelfShare { function } = &budget.figure else { return Ok(None) };
        function_of(function, image)
            .map(Some)
            .map_err(|why| Source::new(&self.file, &self.text).fault(budget.name_span.clone(), why))
    }
}

fn read_function(
    name: &At<&str>,
    table: Table<'_>,
    budgets: &mut Vec<Budget>,
) -> Result<(), Fault> {
    let function: Point = name
        .value
        .parse()
        .map_err(|error: super::PointError| table.fault(name.span.clone(), error.to_string()))?;
    if !matches!(function, Point::Function { .. } | Point::Address(_)) {
        let message =
            format!("`{}` is no function: write wave_filter or src/dsp.c#clamp", name.value);
        return Err(table.fault(name.span.clone(), message));
    }
    let subject = format!("function.{}", name.value);
    let figure = Figure::SelfShare { function };
    read_figure(name, &subject, &table, "self_share", figure, Unit::Share, budgets)?;
    table.finish()
}

fn read_figure(
    name: &At<&str>,
    subject: &str,
    table: &Table<'_>,
    key: &'static str,
    figure: Figure,
    unit: Unit,
    budgets: &mut Vec<Budget>,
) -> Result<(), Fault> {
    let Some((limit, over, inner)) = read_value(table, key)? else { return Ok(()) };
    inner.map(Table::finish).transpose()?;
    let condition = condition(table, key, &limit, over, unit)?;
    budgets.push(Budget {
        subject: subject.to_owned(),
        key: key.to_owned(),
        figure,
        condition,
        line: table.fault(limit.span, "").line,
        name_span: name.span.clone(),
    });
    Ok(())
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
