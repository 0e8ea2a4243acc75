//! The account of an output: which rows went in, and what became of them.

use rust_decimal::Decimal;
use serde::Serialize;
use utoipa::ToSchema;

/// What went in and out of a merge for one table of a source, in rows.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, ToSchema)]
pub struct Tally {
    /// Name of the source.
    pub source: String,
    /// The sheet of a workbook.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sheet: Option<String>,
    /// Rows read, the header not counted.
    pub rows: u64,
    /// Rows written to the output.
    pub taken: u64,
    /// Rows that did not fit, written to the rejects.
    pub set_aside: u64,
    /// Rows left out: in which nothing stands, or that were there already.
    pub left_out: u64,
    /// Values that did not fit and were emptied.
    pub emptied: u64,
}

/// A column that was united under the name of another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct United {
    /// Name of the source.
    pub source: String,
    /// Name of the column there.
    pub from: String,
    /// Its name in the output.
    pub to: String,
}

/// A column of the output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct AccountColumn {
    /// Its name.
    pub name: String,
    /// Its type, where it has one.
    #[serde(rename = "type", skip_serializing_if = "Option::is_none")]
    pub kind: Option<&'static str>,
    /// The total of its values, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub total: Option<String>,
}

/// What a whole merge wrote.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, ToSchema)]
pub struct Account {
    /// Rows read from all sources.
    pub rows_in: u64,
    /// Rows written.
    pub rows_out: u64,
    /// Rows set aside.
    pub set_aside: u64,
    /// Rows left out.
    pub left_out: u64,
    /// Columns of the output, in order.
    pub columns: Vec<AccountColumn>,
    /// The sources, in the order in which they were read.
    pub sources: Vec<Tally>,
    /// Columns that were united under the name of another.
    pub united: Vec<United>,
}

impl Account {
    /// Adds a source.
    pub(super) fn add(&mut self, tally: Tally) {
        self.rows_in += tally.rows;
        self.rows_out += tally.taken;
        self.set_aside += tally.set_aside;
        self.left_out += tally.left_out;
        self.sources.push(tally);
    }

    /// Moves rows of one source from those taken to those set aside.
    pub fn set_aside_later(&mut self, source: usize, rows: u64) {
        if let Some(tally) = self.sources.get_mut(source) {
            tally.taken -= rows;
            tally.set_aside += rows;
            self.rows_out -= rows;
            self.set_aside += rows;
        }
    }

    /// Whether the rows add up: in = out + set aside + left out, for each source and
    /// for all.
    pub fn adds_up(&self) -> bool {
        let whole = self.rows_in == self.rows_out + self.set_aside + self.left_out;
        let sum = |of: fn(&Tally) -> u64| self.sources.iter().map(of).sum::<u64>();
        whole
            && self.sources.iter().all(|one| one.rows == one.taken + one.set_aside + one.left_out)
            && sum(|one| one.rows) == self.rows_in
            && sum(|one| one.taken) == self.rows_out
    }

    /// Rows that a source gave to the output, all its sheets together.
    pub fn taken_from(&self, source: &str) -> u64 {
        self.sources.iter().filter(|one| one.source == source).map(|one| one.taken).sum()
    }
}

/// The exact total of a column.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Total {
    sum: Decimal,
    /// Beyond what a decimal of 28 digits holds.
    beyond: bool,
}

impl Total {
    pub fn add(&mut self, value: Decimal) {
        match self.sum.checked_add(value) {
            Some(sum) => self.sum = sum,
            None => self.beyond = true,
        }
    }

    pub fn text(&self) -> String {
        if self.beyond { "beyond 28 digits".into() } else { self.sum.to_string() }
    }
}
