//! What `--each` and `--order` share: long lists in three forms.

use crate::cli::{Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use anyhow::Result;
use serde::Serialize;
use std::io::Write;

/// How a list becomes CSV, and text.
pub(crate) type Faces<T> =
    (fn(&[T], &mut dyn Write) -> Result<()>, fn(&[T], Paint, &mut dyn Write) -> Result<()>);

/// Writes a list as the user wants it.
pub(crate) fn write<T: Serialize>(
    rows: &[T],
    output: &OutputArgs,
    (csv, text): Faces<T>,
    out: &mut dyn Write,
) -> Result<Outcome> {
    match output.format {
        Format::Json => show::json(&rows, out)?,
        Format::Csv => csv(rows, out)?,
        Format::Text => text(rows, Paint::new(output.color), out)?,
    }
    Ok(Outcome::Done)
}

/// Says so if any of these lists is as long as lists become.
pub(crate) fn tell_cut(mut lengths: impl Iterator<Item = usize>, most: usize) {
    if lengths.any(|length| length >= most) {
        eprintln!(
            "weltblick: only the first {most} are listed; take a part of the time with --within"
        );
    }
}
