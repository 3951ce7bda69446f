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
    /// Numbers.
    Right,
}

/// A table without lines: a heading, then rows.
pub(crate) struct Table {
    table: comfy_table::Table,
    /// How each column is aligned, and whether it has names of functions: those of templates are too long for any.
    columns: Vec<(Align, bool)>,
}

impl Table {
    /// A table with these columns.
    pub(crate) fn new(paint: Paint, columns: &[(&str, Align)]) -> Self {
        let mut table = comfy_table::Table::new();
        table.load_style(presets::NOTHING);
        let kinds = columns.iter().map(|&(name, align)| (align, name == "function"));
        let mut this = Self { table, columns: kinds.collect() };
        if columns.iter().any(|(name, _)| !name.is_empty()) {
            let heading: Vec<String> = columns.iter().map(|&(name, _)| paint.faint(name)).collect();
            this.row(heading);
        }
        this
    }

    /// Adds a row; texts must be plain already.
    pub(crate) fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        let cells = cells.into_iter().zip(&self.columns).map(|(text, &(align, is_name))| {
            let cell = Cell::new(if is_name { fitted(&text) } else { text.as_str().into() });
            cell.set_alignment(match align {
                Align::Left => CellAlignment::Left,
                Align::Right => CellAlignment::Right,
            })
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
