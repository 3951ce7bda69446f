//! Moments, and the command that looks closer at one.

use super::{Paint, wrapped};
use anyhow::Result;
use std::io::Write;

/// A moment as a point that every command takes: `1.234567s`.
pub(crate) fn moment(ns: f64) -> String {
    format!("{:.6}s", ns.max(0.0) / 1e9)
}

/// What a stretch of time went to, on lines of its own.
pub(crate) fn parts(list: &[String], out: &mut dyn Write) -> Result<()> {
    if !list.is_empty() {
        for line in wrapped(&list.join(", ")) {
            writeln!(out, "    {line}")?;
        }
    }
    Ok(())
}

/// Nanoseconds that are shown before and after.
const AROUND: f64 = 2000.0;

/// The commands that show an interval of time on one axis, and its packets.
pub(crate) fn closer(
    again: &str,
    from: f64,
    until: f64,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let within = format!("{}..{}", moment(from - AROUND), moment(until + AROUND));
    for line in [
        format!("    -> weltblick timeline {again} --within {within}"),
        format!("       packets: weltblick inspect {again} --packets --within {within}"),
    ] {
        writeln!(out, "{}", paint.faint(&line))?;
    }
    Ok(())
}
