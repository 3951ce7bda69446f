//! Faces of printed text, line by line.

use super::{Paint, cell, duration_ns, plain};
use crate::cli::Format;
use anyhow::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::io::Write;

/// One line.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub(crate) struct LineRow {
    /// When its first byte was written, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) time_ns: Option<f64>,
    /// Not before this.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) time_ns_low: Option<f64>,
    /// The stimulus port; absent for a mark, whose format stands in the image.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) port: Option<u32>,
    /// What it says; of a port whose bytes are no text, the number of one write (`0x0000002a`).
    pub(crate) text: String,
    /// Why it may go on: `long`, `lost` (something is missing after it), `end` (of the recording).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) incomplete: Option<String>,
    /// Something is missing before it.
    pub(crate) after_loss: bool,
}

/// Writes lines as they come.
pub(crate) struct Face<'a> {
    format: Format,
    deltas: bool,
    paint: Paint,
    out: &'a mut dyn Write,
    before: Option<f64>,
}

impl<'a> Face<'a> {
    pub(crate) fn new(
        format: Format,
        deltas: bool,
        paint: Paint,
        out: &'a mut dyn Write,
    ) -> Result<Self> {
        if format == Format::Csv {
            let delta = if deltas { "delta_ns," } else { "" };
            writeln!(out, "time_ns,{delta}port,text,incomplete,after_loss")?;
        }
        Ok(Self { format, deltas, paint, out, before: None })
    }

    pub(crate) fn line(&mut self, row: &LineRow) -> Result<()> {
        let delta = row.time_ns.zip(self.before).map(|(now, before)| now - before);
        match self.format {
            Format::Text => self.text(row, delta)?,
            Format::Json => super::json_line(row, &mut *self.out)?,
            Format::Csv => self.csv(row, delta)?,
        }
        self.before = row.time_ns.or(self.before);
        Ok(())
    }

    fn text(&mut self, row: &LineRow, delta: Option<f64>) -> Result<()> {
        if row.after_loss {
            let note = "! something is missing here";
            writeln!(self.out, "{}", self.paint.alarm(note))?;
        }
        let time = row.time_ns.map_or_else(String::new, |ns| format!("{:.6}s", ns / 1e9));
        let port = row.port.map_or_else(|| "marks".to_owned(), |port| port.to_string());
        let delta = match (self.deltas, delta) {
            (false, _) => String::new(),
            (true, delta) => {
                format!(
                    " {:>10}",
                    delta.map_or_else(String::new, |ns| format!("+{}", duration_ns(ns)))
                )
            }
        };
        let head = self.paint.faint(&format!("{time:>14}{delta} {port:>5} "));
        let tail = match row.incomplete.as_deref() {
            None => String::new(),
            Some("long") => self.paint.alarm(" ..."),
            Some("lost") => self.paint.alarm(" ! [the rest is missing]"),
            Some(_) => self.paint.alarm(" ? [the recording ends here]"),
        };
        writeln!(self.out, "{head} {}{tail}", plain(&row.text))?;
        Ok(())
    }

    fn csv(&mut self, row: &LineRow, delta: Option<f64>) -> Result<()> {
        let number = |ns: Option<f64>| ns.map_or_else(String::new, |ns| ns.to_string());
        let mut csv = csv::Writer::from_writer(&mut *self.out);
        let mut record = vec![number(row.time_ns)];
        if self.deltas {
            record.push(number(delta));
        }
        record.extend([
            row.port.map_or_else(|| "marks".to_owned(), |port| port.to_string()),
            cell(&row.text).into_owned(),
            row.incomplete.clone().unwrap_or_default(),
            row.after_loss.to_string(),
        ]);
        csv.write_record(record)?;
        csv.flush()?;
        Ok(())
    }

    pub(crate) fn flush(&mut self) -> Result<()> {
        Ok(self.out.flush()?)
    }

    pub(crate) fn finish(mut self) -> Result<()> {
        self.flush()
    }
}
