//! `[signal.NAME]`: what a comparator watches, and how values are told.

use super::write::quoted;
use crate::document::{Fault, Table};
use crate::pattern::Pattern;
use std::fmt::Write as _;
use std::ops::Range;

/// Comparators of a DWT (DDI 0403E, C1.8: `NUMCOMP` has 4 bits).
const MOST_COMPARATORS: u64 = 16;

/// What is known of a signal.
#[derive(Debug, Clone, PartialEq)]
pub struct SignalSpec {
    /// What it is called.
    pub name: String,
    /// The comparator that watches it.
    pub comparator: Option<u8>,
    /// The variable that is watched, where that is not the name: a path, or an address.
    pub variable: Option<String>,
    /// The firmware's number of a quantity.
    pub quantity: Option<u32>,
    /// The lines of text that tell it.
    pub text: Option<Pattern>,
    /// `text` as it was written.
    pub text_written: Option<String>,
    /// What raw values are multiplied with.
    pub scale: f64,
    /// What is added then.
    pub offset: f64,
    /// Its unit.
    pub unit: Option<String>,
    /// Its value is the task that runs from then on: what kernels keep of the current one.
    pub runs_task: bool,
}

impl SignalSpec {
    /// A signal of which only the name is known.
    #[must_use]
    pub fn named(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            comparator: None,
            variable: None,
            quantity: None,
            text: None,
            text_written: None,
            scale: 1.0,
            offset: 0.0,
            unit: None,
            runs_task: false,
        }
    }

    /// A variable, and the comparator that watches it.
    #[must_use]
    pub fn watched(comparator: u8, name: &str) -> Self {
        Self { comparator: Some(comparator), ..Self::named(name) }
    }
}

/// What values of a watched variable may mean.
const RUNS_TASK: &str = "task runs";

/// Where it is said that the values of a variable mean which task runs, if it is.
pub(crate) fn read_meaning(table: &Table<'_>) -> Result<Option<Range<usize>>, Fault> {
    let Some(means) = table.text("means")? else { return Ok(None) };
    if means.value != RUNS_TASK {
        let message = format!("a variable may mean one thing only: `means = \"{RUNS_TASK}\"`");
        return Err(table.fault(means.span, message));
    }
    Ok(Some(means.span))
}

/// All tables `[signal.NAME]`.
pub(crate) fn read_signals(root: &Table<'_>) -> Result<Vec<SignalSpec>, Fault> {
    let Some(table) = root.table("signal")? else { return Ok(Vec::new()) };
    let mut signals: Vec<SignalSpec> = Vec::new();
    for (name, inner) in table.named_tables()? {
        let span = name.span.clone();
        let spec = read_signal(name.value, &inner)?;
        let twice = |other: &SignalSpec| {
            (other.comparator.is_some() && other.comparator == spec.comparator)
                || (other.quantity.is_some() && other.quantity == spec.quantity)
        };
        if let Some(other) = signals.iter().find(|other| twice(other)) {
            let message =
                format!("signal `{}` has this comparator or quantity already", other.name);
            return Err(inner.fault(span, message));
        }
        if let Some(other) = signals.iter().find(|other| other.runs_task && spec.runs_task) {
            let message = format!("signal `{}` tells which task runs already", other.name);
            return Err(inner.fault(name.span, message));
        }
        inner.finish()?;
        signals.push(spec);
    }
    Ok(signals)
}

fn read_signal(name: &str, table: &Table<'_>) -> Result<SignalSpec, Fault> {
    let mut spec = SignalSpec::named(name);
    if let Some(number) = table.integer("comparator")? {
        if number.value >= MOST_COMPARATORS {
            return Err(table.fault(number.span, "`comparator` must lie below 16"));
        }
        spec.comparator = Some(number.value as u8);
    }
    spec.variable = table.text("variable")?.map(|text| text.value.to_owned());
    if let Some(number) = table.integer("quantity")? {
        let quantity = u32::try_from(number.value)
            .map_err(|_| table.fault(number.span, "`quantity` must lie below 2^32"))?;
        spec.quantity = Some(quantity);
    }
    if let Some(text) = table.text("text")? {
        let pattern: Pattern = text
            .value
            .parse()
            .map_err(|error| table.fault(text.span.clone(), format!("`text`: {error}")))?;
        if pattern.names() != [name.to_owned()] {
            let message = format!("`text` must take out one number, {{{name}}}");
            return Err(table.fault(text.span, message));
        }
        spec.text_written = Some(text.value.to_owned());
        spec.text = Some(pattern);
    }
    if let Some(scale) = table.number("scale")? {
        if scale.value == 0.0 {
            return Err(table.fault(scale.span, "`scale` must not be zero"));
        }
        spec.scale = scale.value;
    }
    spec.offset = table.number("offset")?.map_or(0.0, |offset| offset.value);
    spec.unit = table.text("unit")?.map(|unit| unit.value.to_owned());
    if let Some(span) = read_meaning(table)? {
        if spec.comparator.is_none() {
            let message = "this is for a variable that a `comparator` watches";
            return Err(table.fault(span, message));
        }
        spec.runs_task = true;
    }
    Ok(spec)
}

/// Writes them. Reading gives the same.
pub(crate) fn write_signals(text: &mut String, signals: &[SignalSpec]) {
    for signal in signals {
        let SignalSpec { name, comparator, variable, quantity, text: _, text_written, .. } = signal;
        let _ = writeln!(text, "\n[signal.{}]", quoted(name));
        if let Some(comparator) = comparator {
            let _ = writeln!(text, "comparator = {comparator}");
        }
        if let Some(quantity) = quantity {
            let _ = writeln!(text, "quantity = {quantity}");
        }
        for (key, value) in [("variable", variable), ("text", text_written), ("unit", &signal.unit)]
        {
            if let Some(value) = value {
                let _ = writeln!(text, "{key} = {}", quoted(value));
            }
        }
        if signal.runs_task {
            let _ = writeln!(text, "means = {}", quoted(RUNS_TASK));
        }
        for (key, value, usual) in [("scale", signal.scale, 1.0), ("offset", signal.offset, 0.0)] {
            if value != usual {
                let _ = writeln!(text, "{key} = {value:?}");
            }
        }
    }
}
