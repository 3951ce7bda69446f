//! Aligned columns.

use super::paint::Paint;
use super::plain::fitted;
use anyhow::Result;
use comfy_table::{Cell, CellAlignment, presets};
use std::io::Write;

/// Where a column's text stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Align {
    /// Text.
    Left,
    /// Names of functions, or what stands in their column: left, and shortened where they are longer than any column.
    Name,
    /// Numbers.
    Right,
}

/// A table without lines: a heading, then rows.
pub(crate) struct Table {
    table: comfy_table::Table,
    columns: Vec<Align>,
}

impl Table {
    /// A table with these columns.
    pub(crate) fn new(paint: Paint, columns: &[(&str, Align)]) -> Self {
        let mut table = comfy_table::Table::new();
        table.load_style(presets::NOTHING);
        let align = columns.iter().map(|&(_, align)| align).collect();
        let mut this = Self { table, columns: align };
        if columns.iter().any(|(name, _)| !name.is_empty()) {
            let heading: Vec<String> = columns.iter().map(|&(name, _)| paint.faint(name)).collect();
            this.row(heading);
        }
        this
    }

    /// Adds a row; texts must be plain already.
    pub(crate) fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        let cells = cells.into_iter().zip(&self.columns).map(|(text, align)| match align {
            Align::Left => Cell::new(text).set_alignment(CellAlignment::Left),
            Align::Name => Cell::new(fitted(&text)).set_alignment(CellAlignment::Left),
            Align::Right => Cell::new(text).set_alignment(CellAlignment::Right),
        });
        self.table.add_row(cells);
    }

    /// Writes the lines.
    pub(crate) fn write(&self, out: &mut dyn Write) -> Result<()> {
        for line in self.lines() {
            writeln!(out, "{line}")?;
        }
        Ok(())
    }

    /// The lines, each without blanks at its end.
    pub(crate) fn lines(&self) -> Vec<String> {
        self.table.lines().map(|line| line.trim_end().to_owned()).collect()
    }
}
