//! Rows on their way to a database.

use vadegate_tables::{Cell, Row};

/// Rows with the same columns.
#[derive(Debug, Default)]
pub(crate) struct Block {
    pub cells: Row,
    /// The line or row of the source of each.
    pub numbers: Vec<u64>,
    /// Which table of the sources they are from, in the order of reading.
    pub table: usize,
    /// Cells of a row.
    pub width: usize,
}

impl Block {
    /// The cells of a row.
    pub fn row(&self, at: usize) -> impl Iterator<Item = Cell<'_>> {
        (at * self.width..(at + 1) * self.width).map(|cell| self.cells.cell(cell))
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.numbers.len()
    }
}
