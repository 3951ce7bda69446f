//! Bytes over time, in fixed memory.

/// Columns at most; when they are full, neighbours are joined.
const MOST_COLUMNS: usize = 128;
/// Cycles per column at first.
const FIRST_WIDTH: u64 = 1024;

/// Bytes and overflows per stretch of time.
#[derive(Debug, Clone)]
pub(super) struct Rate {
    width: u64,
    columns: Vec<Column>,
}

/// One stretch of time.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Column {
    pub(super) bytes: u64,
    pub(super) overflows: u64,
}

impl Default for Rate {
    fn default() -> Self {
        Self { width: FIRST_WIDTH, columns: Vec::new() }
    }
}

impl Rate {
    /// Counts bytes that came at a cycle.
    pub(super) fn add(&mut self, cycle: u64, bytes: u64, overflows: u64) {
        while cycle / self.width >= MOST_COLUMNS as u64 {
            self.join_neighbours();
        }
        let column = (cycle / self.width) as usize;
        if column >= self.columns.len() {
            self.columns.resize(column + 1, Column::default());
        }
        self.columns[column].bytes += bytes;
        self.columns[column].overflows += overflows;
    }

    fn join_neighbours(&mut self) {
        let joined = self.columns.chunks(2).map(|pair| Column {
            bytes: pair.iter().map(|column| column.bytes).sum(),
            overflows: pair.iter().map(|column| column.overflows).sum(),
        });
        self.columns = joined.collect();
        self.width = self.width.saturating_mul(2);
    }

    /// Cycles per column, and the columns from the recording's start on.
    pub(super) fn columns(&self) -> (u64, &[Column]) {
        (self.width, &self.columns)
    }

    /// The most bytes per cycle in any whole column.
    pub(super) fn peak(&self) -> Option<f64> {
        let whole = self.columns.len().saturating_sub(1).max(1);
        let most = self.columns.iter().take(whole).map(|column| column.bytes).max()?;
        Some(most as f64 / self.width as f64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keeps_every_byte_in_few_columns() {
        let mut rate = Rate::default();
        for second in 0..100_000_u64 {
            rate.add(second * 48_000, 7, u64::from(second % 1000 == 0));
        }
        let (width, columns) = rate.columns();
        assert!(columns.len() <= MOST_COLUMNS && width.is_power_of_two());
        assert_eq!(columns.iter().map(|column| column.bytes).sum::<u64>(), 700_000);
        assert_eq!(columns.iter().map(|column| column.overflows).sum::<u64>(), 100);
        let expected = 7.0 / 48_000.0;
        assert!((rate.peak().unwrap() / expected - 1.0).abs() < 0.01);
    }
}
