//! The account of an output: which rows went in, and what became of them.

use serde::Serialize;
use utoipa::ToSchema;

use crate::kind::Scaled;

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
    sum: i128,
    /// Digits of it behind the point.
    scale: u32,
    /// Beyond what 38 digits hold.
    beyond: bool,
}

impl Total {
    /// Adds a value; none is one of too many digits.
    #[inline]
    pub fn add(&mut self, value: Option<Scaled>) {
        if let Some(value) = value
            && value.scale == self.scale
            && let Some(sum) = self.sum.checked_add(value.digits)
        {
            self.sum = sum;
            return;
        }
        self.add_other(value);
    }

    /// Adds a value that has other digits behind the point, or too many.
    #[inline(never)]
    fn add_other(&mut self, value: Option<Scaled>) {
        let sum = value.and_then(|value| {
            let scale = self.scale.max(value.scale);
            let here = Scaled { digits: self.sum, scale: self.scale }.with_scale(scale)?;
            Some((here.checked_add(value.with_scale(scale)?)?, scale))
        });
        match sum {
            Some((sum, scale)) => (self.sum, self.scale) = (sum, scale),
            None => self.beyond = true,
        }
    }

    /// Adds another total.
    pub fn and(&mut self, other: Total) {
        self.add(Some(Scaled { digits: other.sum, scale: other.scale }));
        self.beyond |= other.beyond;
    }

    pub fn text(&self) -> String {
        if self.beyond {
            return "beyond 38 digits".into();
        }
        let sign = if self.sum < 0 { "-" } else { "" };
        let scale = self.scale as usize;
        let digits = format!("{:0>1$}", self.sum.unsigned_abs(), scale + 1);
        let (whole, fraction) = digits.split_at(digits.len() - scale);
        let point = if fraction.is_empty() { "" } else { "." };
        format!("{sign}{whole}{point}{fraction}")
    }
}
