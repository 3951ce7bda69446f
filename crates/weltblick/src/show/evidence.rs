//! What weakens figures, at the head of a result.

use super::{Paint, count, plain, wrapped};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::losses::LossRow;

/// Losses and doubts, each with its mark.
pub(crate) fn doubts(
    losses: &[LossRow],
    doubts: &[String],
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    for loss in losses {
        writeln!(out, "{}", paint.alarm(&format!("! {} x {}", count(loss.count), loss.reason)))?;
    }
    for doubt in doubts {
        for (number, line) in wrapped(doubt).into_iter().enumerate() {
            let lead = if number == 0 { "?" } else { " " };
            writeln!(out, "{}", paint.alarm(&format!("{lead} {}", plain(&line))))?;
        }
    }
    Ok(())
}
