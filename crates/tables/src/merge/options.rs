//! What a merge is given: its sources, and how they are put together.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use crate::fault::Fault;
use crate::layout::Layout;
use crate::source::{Bytes, Reading};
use crate::write::Writing;

/// A part of a value that is added to rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// Text.
    Text(String),
    /// The number of the row in its source.
    Row,
    /// The sheet of a workbook.
    Sheet,
}

/// A column that is added to every row of a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Added {
    /// Name of the output's column.
    pub column: String,
    /// Its value for this source, one part behind the other.
    pub parts: Vec<Part>,
}

impl Added {
    /// A column with one value.
    pub fn text(column: &str, value: &str) -> Self {
        Added { column: column.to_owned(), parts: vec![Part::Text(value.to_owned())] }
    }
}

/// A source of a merge.
#[derive(Debug, Clone, Copy)]
pub struct Input<'a> {
    /// Its name, for people.
    pub name: &'a str,
    /// Where it is read.
    pub file: &'a std::fs::File,
    /// Columns that are added to its rows.
    pub added: &'a [Added],
    /// Name of its sheet in a workbook that has a sheet for each source.
    pub sheet: Option<&'a [Part]>,
    /// Counts the bytes that are read, for who shows how far it is.
    pub read: Option<&'a AtomicU64>,
    /// Once it is true nothing more is read of it.
    pub stop: Option<&'a AtomicBool>,
}

/// Rows between two looks whether to stop.
const LOOK_EVERY: u64 = 256;

impl<'a> Input<'a> {
    /// Ends a long walk through rows when it is told to stop.
    ///
    /// # Errors
    /// [`Fault::Io`], of which [`crate::source::is_stopped`] knows.
    pub(super) fn go_on(&self, rows: u64) -> Result<(), Fault> {
        let stop = rows.is_multiple_of(LOOK_EVERY)
            && self.stop.is_some_and(|stop| stop.load(Ordering::Relaxed));
        if stop { Err(Fault::Io(crate::source::stopped())) } else { Ok(()) }
    }

    /// Its bytes, when reading them does not count: they are read once more.
    pub(super) fn uncounted(&self) -> Bytes<'a> {
        Bytes { read: None, ..self.bytes() }
    }

    pub(super) fn bytes(&self) -> Bytes<'a> {
        Bytes { file: self.file, read: self.read, stop: self.stop }
    }
}

/// What is done with rows of which a value does not fit its column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Misfits {
    /// The whole source is refused.
    #[default]
    Hold,
    /// The row is set aside.
    SetAside,
    /// The value is emptied.
    Empty,
}

/// How many rows of a source may not fit before it is refused.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum UpTo {
    /// So many rows.
    Rows(u64),
    /// Such a share of its rows, 0 to 1.
    Share(f64),
}

/// What is done with rows that were there already.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Repeated {
    /// They are written again.
    #[default]
    Keep,
    /// They are left out when all values are the same.
    Drop,
    /// They are left out when the values of these columns are the same.
    ByKey(Vec<String>),
}

/// How a merge is done.
#[derive(Debug, Clone, PartialEq)]
pub struct Options {
    /// How sources are read.
    pub reading: Reading,
    /// The columns.
    pub layout: Layout,
    /// What is done with rows that do not fit.
    pub misfits: Misfits,
    /// How many of them there may be in a source.
    pub misfits_up_to: Option<UpTo>,
    /// Whether rows in which nothing stands are written.
    pub keep_blank: bool,
    /// What is done with rows that were there already.
    pub repeated: Repeated,
    /// Columns of which a total is made.
    pub totals: Vec<String>,
    /// Whether types are guessed where none is said and the output has types.
    pub guess: bool,
    /// How the output is written.
    pub writing: Writing,
}

impl Options {
    /// The union of all columns, as they stand.
    pub fn new(layout: Layout, writing: Writing) -> Self {
        Options {
            reading: Reading::default(),
            layout,
            misfits: Misfits::Hold,
            misfits_up_to: None,
            keep_blank: false,
            repeated: Repeated::Keep,
            totals: Vec::new(),
            guess: true,
            writing,
        }
    }

    /// Whether the first row that does not fit refuses its source.
    pub(super) fn holds(&self) -> bool {
        self.misfits == Misfits::Hold && self.misfits_up_to.is_none()
    }
}
