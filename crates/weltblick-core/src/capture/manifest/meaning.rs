//! `[[stream.meaning]]`: which event of an event trace means what.

use super::CtfSettings;
use super::read::read_sample_period;
use super::write::quoted;
use crate::document::{At, Fault, Table, TextOrTable, nearest};
use crate::event::{Meaning, Means, Only, Part};
use crate::time::Frequency;
use std::fmt::Write as _;

/// Meanings of one stream at most.
const MOST_MEANINGS: usize = 4096;

/// The settings and meanings of an event trace.
pub(super) fn read_ctf(
    stream: &Table<'_>,
    settings: Option<Table<'_>>,
) -> Result<CtfSettings, Fault> {
    let mut read = CtfSettings::default();
    if let Some(settings) = settings {
        read.clock = match settings.integer("clock_hz")? {
            None => None,
            Some(hertz) => {
                Some(Frequency::from_hertz(hertz.value as f64).ok_or_else(|| {
                    settings.fault(hertz.span, "`clock_hz` must be more than zero")
                })?)
            }
        };
        read.pc_sample_period = read_sample_period(&settings)?;
        read.earlier_by = settings.text("earlier_by")?.map(owned);
        read.core_field = settings.text("core_field")?.map(owned);
        settings.finish()?;
    }
    for meaning in stream.tables("meaning")? {
        if read.meanings.len() == MOST_MEANINGS {
            return Err(stream.fault(stream.span(), "there are more than 4096 meanings"));
        }
        read.meanings.push(read_meaning(&meaning)?);
        meaning.finish()?;
    }
    Ok(read)
}

fn owned(at: At<&str>) -> At<String> {
    At { value: at.value.to_owned(), span: at.span }
}

fn read_meaning(table: &Table<'_>) -> Result<Meaning, Fault> {
    let event = owned(table.required_text("event")?);
    let written = table.required_text("means")?;
    let means = Means::ALL.into_iter().find(|means| means.name() == written.value);
    let means = means.ok_or_else(|| {
        let hint = nearest(written.value, Means::ALL.iter().map(|means| means.name()));
        let known = Means::ALL.map(Means::name).join(", ");
        let hint = if hint.is_empty() { format!("; known: {known}") } else { hint };
        table.fault(written.span, format!("`{}` is no meaning{hint}", written.value))
    })?;
    let mut parts = Vec::new();
    let mut read = |part: Part| -> Result<bool, Fault> {
        let text = table.text(part.key())?;
        let is_there = text.is_some();
        parts.extend(text.map(|text| (part, owned(text))));
        Ok(is_there)
    };
    let called = table.text("called")?.filter(|_| means.subject().is_some());
    if let Some(subject) = means.subject()
        && !read(subject)?
        && called.is_none()
    {
        return Err(table.missing(subject.key()));
    }
    for &part in means.needed() {
        if !read(part)? {
            return Err(table.missing(part.key()));
        }
    }
    let mut seen = 0;
    for &part in means.possible() {
        seen += usize::from(read(part)?);
    }
    if means.is_of_exception() && seen != 1 {
        let message = "`exception` or `interrupt` must name the field that says which one it is";
        return Err(table.fault(table.span(), message));
    }
    let only = read_conditions(table)?;
    let called = called.map(|text| text.value.to_owned());
    Ok(Meaning { event, means, parts, called, only })
}

/// `where`: a field, and `is` with its value or several; or a table of fields and their values.
fn read_conditions(table: &Table<'_>) -> Result<Vec<Only>, Fault> {
    let values = table.texts("is")?;
    match table.text_or_table("where")? {
        None if values.is_empty() => Ok(Vec::new()),
        None => Err(table.missing("where")),
        Some(TextOrTable::Text(_)) if values.is_empty() => Err(table.missing("is")),
        Some(TextOrTable::Text(field)) => {
            let values = values.into_iter().map(|value| value.value.to_owned()).collect();
            Ok(vec![Only { field: owned(field), values }])
        }
        Some(TextOrTable::Table(fields)) => match values.first() {
            Some(value) => {
                let why = "`where` has the values already; leave `is` out";
                Err(table.fault(value.span.clone(), why))
            }
            None => {
                let fields = fields.labels()?.into_iter();
                let only = |(field, values)| Only { field: owned(field), values };
                Ok(fields.map(only).collect())
            }
        },
    }
}

/// Writes them. Reading gives the same.
pub(super) fn write_ctf(text: &mut String, settings: &CtfSettings) {
    let CtfSettings { folder: _, clock, pc_sample_period, earlier_by, core_field, meanings } =
        settings;
    let _ = writeln!(text, "protocol = \"ctf\"");
    let fields = [("earlier_by", earlier_by), ("core_field", core_field)];
    let any_field = fields.iter().any(|(_, field)| field.is_some());
    if clock.is_some() || pc_sample_period.is_some() || any_field {
        let _ = writeln!(text, "\n[stream.settings]");
    }
    if let Some(clock) = clock {
        let _ = writeln!(text, "clock_hz = {:.0}", clock.hertz());
    }
    if let Some(period) = pc_sample_period {
        let _ = writeln!(text, "pc_sample_period = {period}");
    }
    for (key, field) in fields {
        if let Some(field) = field {
            let _ = writeln!(text, "{key} = {}", quoted(&field.value));
        }
    }
    for Meaning { event, means, parts, called, only } in meanings {
        let _ = writeln!(text, "\n[[stream.meaning]]\nevent = {}", quoted(&event.value));
        let _ = writeln!(text, "means = {}", quoted(means.name()));
        for (part, field) in parts {
            let _ = writeln!(text, "{} = {}", part.key(), quoted(&field.value));
        }
        if let Some(called) = called {
            let _ = writeln!(text, "called = {}", quoted(called));
        }
        let list = |values: &[String]| match values {
            [value] => quoted(value),
            _ => {
                let values: Vec<String> = values.iter().map(|value| quoted(value)).collect();
                format!("[{}]", values.join(", "))
            }
        };
        match &only[..] {
            [] => {}
            [Only { field, values }] => {
                let _ = writeln!(text, "where = {}\nis = {}", quoted(&field.value), list(values));
            }
            several => {
                let fields = several.iter();
                let fields: Vec<String> = fields
                    .map(|Only { field, values }| {
                        format!("{} = {}", quoted(&field.value), list(values))
                    })
                    .collect();
                let _ = writeln!(text, "where = {{ {} }}", fields.join(", "));
            }
        }
    }
}
