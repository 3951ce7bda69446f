//! One result, many faces: text for people, JSON for programs, CSV for spreadsheets.

pub(crate) mod check;
pub(crate) mod code_span;
pub(crate) mod console;
mod course;
pub(crate) mod coverage;
pub(crate) mod coverage_page;
mod disassembly;
mod etmv3;
mod etmv4;
mod evidence;
pub(crate) mod exact;
pub(crate) mod flow;
pub(crate) mod inspect;
mod instructions;
pub(crate) mod interrupts;
pub(crate) mod live;
mod moment;
mod packets;
mod paint;
pub(crate) mod picture;
mod plain;
pub(crate) mod plan;
pub(crate) mod profile;
pub(crate) mod signals;
pub(crate) mod source;
pub(crate) mod span;
pub(crate) mod spans;
mod statistic;
mod table;
pub(crate) mod tasks;
pub(crate) mod timeline;
mod timing;
pub(crate) mod tree;
mod units;

pub(crate) use packets::{PacketFace, PacketLine};
pub(crate) use paint::Paint;
pub(crate) use plain::{cell, message, path_end, plain, shell, wrapped};
pub(crate) use table::{Align, Table};
pub(crate) use units::{
    Number, count, duration_ns, level, percent, range_ns, share, stretch_count,
};

use anyhow::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::io::Write;

/// Writes a value as indented JSON, in which what would steer a terminal is escaped.
pub(crate) fn json(value: &impl Serialize, out: &mut dyn Write) -> Result<()> {
    writeln!(out, "{}", plain::json(&serde_json::to_string_pretty(value)?))?;
    Ok(())
}

/// Writes a value as JSON on one line, escaped in the same way.
pub(crate) fn json_line(value: &impl Serialize, out: &mut dyn Write) -> Result<()> {
    writeln!(out, "{}", plain::json(&serde_json::to_string(value)?))?;
    Ok(())
}

/// Writes the JSON schema of a type.
pub(crate) fn schema<T: JsonSchema>(out: &mut dyn Write) -> Result<()> {
    json(&schemars::schema_for!(T), out)
}
