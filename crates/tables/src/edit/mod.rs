//! Changing what stands in a file, and nothing else: cells of workbooks, words of texts.
//!
//! A workbook is a package of parts (ECMA-376). Those that do not change are copied as they
//! stand, compressed bytes and all; of a sheet only the cells that are set are written anew.

mod book;
mod cells;
mod chain;
mod content;
mod package;
mod sheet;
mod styles;
pub mod text;
mod value;
mod xml;

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, Write};

use crate::edit::book::Book;
use crate::edit::package::Package;
use crate::edit::sheet::SheetEdit;
use crate::edit::styles::Styles;
pub use crate::edit::value::{CellValue, ValueType};
use crate::workbook::{letters, parse_cell};

/// Why a file was not edited.
#[derive(Debug, thiserror::Error)]
pub enum EditFault {
    /// What it is, or what stands in it, does not allow it.
    #[error("{0}")]
    Refused(String),
    /// It cannot be read.
    #[error("cannot be read: {0}")]
    Source(io::Error),
    /// What was made of it cannot be written.
    #[error("cannot be written: {0}")]
    Output(io::Error),
}

pub(crate) fn refused(why: impl Into<String>) -> EditFault {
    EditFault::Refused(why.into())
}

/// A place in a sheet: row and column, from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct CellPlace {
    /// The row.
    pub row: u32,
    /// The column.
    pub column: u32,
}

impl CellPlace {
    /// Reads `B2`; nothing where it is no cell that a sheet has.
    pub fn parse(text: &str) -> Option<Self> {
        let (row, column) = parse_cell(text)?;
        (row < cells::ROWS && column < cells::COLUMNS).then_some(CellPlace { row, column })
    }
}

impl std::fmt::Display for CellPlace {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}{}", letters(self.column), self.row + 1)
    }
}

/// Which sheets are meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SheetChoice {
    /// That of this name; case is ignored.
    Named(String),
    /// That of this number, from 1, hidden ones counted.
    Number(u32),
    /// All sheets of cells.
    All,
}

impl std::fmt::Display for SheetChoice {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            SheetChoice::Named(name) => write!(f, "sheet `{name}`"),
            SheetChoice::Number(number) => write!(f, "sheet number {number}"),
            SheetChoice::All => f.write_str("any sheet"),
        }
    }
}

/// A cell that is to be set.
#[derive(Debug, Clone, PartialEq)]
pub struct CellEdit {
    /// In which sheets.
    pub sheet: SheetChoice,
    /// Where.
    pub place: CellPlace,
    /// To what.
    pub value: CellValue,
}

/// A cell that was set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CellSet {
    /// The sheet's name.
    pub sheet: String,
    /// The cell, such as `B2`.
    pub cell: String,
    /// What stands there now.
    pub value: String,
}

/// Sets cells of an xlsx or xlsm workbook, and writes the workbook to `output`; gives the
/// cells that were set.
///
/// # Errors
/// [`EditFault`].
pub fn edit_workbook<R: Read + Seek>(
    input: R,
    edits: &[CellEdit],
    output: &mut dyn Write,
) -> Result<Vec<CellSet>, EditFault> {
    let mut package = Package::open(input)?;
    let book = Book::read(&mut package)?;
    let wanted = wanted_cells(&book, edits)?;
    let mut styles = Styles::read(&mut package, &book)?;
    let (mut set, mut lost) = (Vec::new(), Vec::new());
    for (number, cells) in wanted {
        let sheet = &book.sheets[number];
        let headers = book::table_headers(&mut package, &sheet.part)?;
        let mut edit = SheetEdit::new(&sheet.name, &cells, &headers, book.epoch_1904);
        package.rewrite(&sheet.part, |reader, writer| edit.run(reader, writer, &mut styles))?;
        lost.extend(edit.lost_formulas.iter().map(|place| (sheet.id, *place)));
        set.extend(cells.iter().map(|(place, value)| CellSet {
            sheet: sheet.name.clone(),
            cell: place.to_string(),
            value: value.to_string(),
        }));
    }
    styles.write(&mut package)?;
    if !set.is_empty() {
        package.rewrite(&book.part, book::calculate_on_load)?;
    }
    chain::forget(&mut package, &book, &lost)?;
    package.write_to(output)?;
    Ok(set)
}

/// Cells of sheets, by the number of the sheet.
type Wanted<'e> = BTreeMap<usize, BTreeMap<CellPlace, &'e CellValue>>;

/// The cells that are set in each sheet; of two that are one cell the later counts.
fn wanted_cells<'e>(book: &Book, edits: &'e [CellEdit]) -> Result<Wanted<'e>, EditFault> {
    let mut wanted = Wanted::new();
    for edit in edits {
        let found = book.choose(&edit.sheet);
        if found.is_empty() {
            let there: Vec<String> =
                book.sheets.iter().map(|sheet| format!("`{}`", sheet.name)).collect();
            return Err(refused(format!(
                "it has no {}; there {} {}",
                edit.sheet,
                if there.len() == 1 { "is" } else { "are" },
                there.join(", ")
            )));
        }
        for number in found {
            wanted.entry(number).or_default().insert(edit.place, &edit.value);
        }
    }
    Ok(wanted)
}

#[cfg(test)]
mod tests;
