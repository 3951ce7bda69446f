//! The budget file: one table per subject, one key per figure.

use super::entry::{Budget, Figure, TimingSubject, condition, read_value};
use super::place::function_of;
use super::timing_file::read_timings;
use crate::document::{At, Fault, Source, Table};
use crate::image::{FunctionId, Image};
use crate::point::Point;
use crate::time::Unit;

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
        for (subject, kind) in TimingSubject::ALL {
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

    /// The function that a budget is about, if it is about one.
    ///
    /// # Errors
    ///
    /// If the image has no such function or interrupt, or several functions without telling which.
    pub fn function(&self, budget: &Budget, image: &Image) -> Result<Option<FunctionId>, Fault> {
        let fault = |why| Source::new(&self.file, &self.text).fault(budget.name_span.clone(), why);
        match &budget.figure {
            Figure::SelfShare { function } => function_of(function, image).map(Some).map_err(fault),
            Figure::Timing(figure) if figure.subject == TimingSubject::Interrupt => {
                let known = figure.name.parse::<u16>().is_ok()
                    || image.exception_named(&figure.name).is_some();
                let names = || image.interrupt_names().join(", ");
                let why =
                    || format!("the vector table has no `{}`; it has {}", figure.name, names());
                if known { Ok(None) } else { Err(fault(why())) }
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
