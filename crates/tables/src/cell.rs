//! Cells: what stands in one place of a table, and rows of them.

mod digits;

use std::borrow::Cow;
use std::fmt::Write;
use std::ops::Range;

use jiff::civil::{Date, DateTime, Time};

pub(crate) use digits::iso_digits;

/// What stands in one place of a table.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell<'a> {
    /// Nothing.
    Nothing,
    /// Text.
    Text(Cow<'a, str>),
    /// A whole number.
    Integer(i64),
    /// A number with a fraction, exactly as it was written: digits, one point,
    /// perhaps a sign.
    Decimal(Cow<'a, str>),
    /// A number in binary floating point.
    Real(f64),
    /// True or false.
    Boolean(bool),
    /// A date.
    Date(Date),
    /// A time of day.
    Time(Time),
    /// A date with a time of day.
    Timestamp(DateTime),
    /// An error of a workbook's formula, such as `#DIV/0!`.
    Error(Cow<'a, str>),
}

impl Cell<'_> {
    /// Whether nothing stands there, or a text without letters.
    pub fn is_nothing(&self) -> bool {
        match self {
            Cell::Nothing => true,
            Cell::Text(text) => text.is_empty(),
            _ => false,
        }
    }

    /// Writes it as text: numbers with a point, dates and times as ISO 8601 has
    /// them.
    pub fn write_to(&self, out: &mut String) {
        let written = match self {
            Cell::Nothing => Ok(()),
            Cell::Text(text) | Cell::Decimal(text) | Cell::Error(text) => {
                out.push_str(text);
                Ok(())
            }
            Cell::Integer(number) => {
                out.push_str(itoa::Buffer::new().format(*number));
                Ok(())
            }
            Cell::Real(number) => write!(out, "{number}"),
            Cell::Boolean(value) => {
                out.push_str(if *value { "true" } else { "false" });
                Ok(())
            }
            Cell::Date(date) => digits::date(out, *date),
            Cell::Time(time) => digits::time(out, *time),
            Cell::Timestamp(time) => digits::date(out, time.date()).and_then(|()| {
                out.push('T');
                digits::time(out, time.time())
            }),
        };
        debug_assert!(written.is_ok(), "writing to a string does not fail");
    }

    /// It as text.
    pub fn to_text(&self) -> String {
        let mut text = String::new();
        self.write_to(&mut text);
        text
    }
}

/// A cell of a [`Row`], its text elsewhere.
#[derive(Debug, Clone)]
enum Spot {
    Nothing,
    Text(Range<usize>),
    Integer(i64),
    Decimal(Range<usize>),
    Real(f64),
    Boolean(bool),
    Date(Date),
    Time(Time),
    Timestamp(DateTime),
    Error(Range<usize>),
}

/// A row that is filled again and again, so that cells cost no memory of their own.
#[derive(Debug, Clone, Default)]
pub struct Row {
    /// Line or row of the source on which it begins, from 1.
    pub number: u64,
    text: String,
    spots: Vec<Spot>,
}

impl Row {
    /// Empties it.
    pub fn clear(&mut self) {
        self.text.clear();
        self.spots.clear();
    }

    /// Number of cells.
    pub fn len(&self) -> usize {
        self.spots.len()
    }

    /// Whether it has no cell.
    pub fn is_empty(&self) -> bool {
        self.spots.is_empty()
    }

    /// Whether nothing stands in any cell.
    pub fn is_blank(&self) -> bool {
        (0..self.len()).all(|at| self.cell(at).is_nothing())
    }

    /// Adds a cell.
    pub fn push(&mut self, cell: &Cell<'_>) {
        let mut kept = |text: &str| {
            let start = self.text.len();
            self.text.push_str(text);
            start..self.text.len()
        };
        let spot = match cell {
            Cell::Nothing => Spot::Nothing,
            Cell::Text(text) => Spot::Text(kept(text)),
            Cell::Decimal(text) => Spot::Decimal(kept(text)),
            Cell::Error(text) => Spot::Error(kept(text)),
            Cell::Integer(number) => Spot::Integer(*number),
            Cell::Real(number) => Spot::Real(*number),
            Cell::Boolean(value) => Spot::Boolean(*value),
            Cell::Date(date) => Spot::Date(*date),
            Cell::Time(time) => Spot::Time(*time),
            Cell::Timestamp(time) => Spot::Timestamp(*time),
        };
        self.spots.push(spot);
    }

    /// Adds a cell of text.
    pub fn push_text(&mut self, text: &str) {
        let start = self.text.len();
        self.text.push_str(text);
        self.spots.push(Spot::Text(start..self.text.len()));
    }

    /// Makes it as long as this, with cells in which nothing stands.
    pub fn fill_to(&mut self, length: usize) {
        while self.spots.len() < length {
            self.spots.push(Spot::Nothing);
        }
    }

    /// Leaves out what stands behind this many cells.
    pub fn truncate(&mut self, length: usize) {
        self.spots.truncate(length);
    }

    /// A cell; nothing behind the last.
    pub fn cell(&self, at: usize) -> Cell<'_> {
        let text = |range: &Range<usize>| Cow::Borrowed(&self.text[range.clone()]);
        match self.spots.get(at) {
            None | Some(Spot::Nothing) => Cell::Nothing,
            Some(Spot::Text(range)) => Cell::Text(text(range)),
            Some(Spot::Decimal(range)) => Cell::Decimal(text(range)),
            Some(Spot::Error(range)) => Cell::Error(text(range)),
            Some(Spot::Integer(number)) => Cell::Integer(*number),
            Some(Spot::Real(number)) => Cell::Real(*number),
            Some(Spot::Boolean(value)) => Cell::Boolean(*value),
            Some(Spot::Date(date)) => Cell::Date(*date),
            Some(Spot::Time(time)) => Cell::Time(*time),
            Some(Spot::Timestamp(time)) => Cell::Timestamp(*time),
        }
    }

    /// All cells, in order.
    pub fn cells(&self) -> impl Iterator<Item = Cell<'_>> {
        (0..self.len()).map(|at| self.cell(at))
    }
}
