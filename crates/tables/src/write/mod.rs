//! Writing tables: delimited text, JSON Lines, workbooks and Parquet.

mod columns;
mod delimited;
mod gzip;
mod json;
mod parquet;
mod workbook;
mod zstd;

use std::io::{self, Write};
use std::path::PathBuf;
use std::sync::Arc;

use crate::cell::{Cell, Row};
use crate::dialect::Encoding;
use crate::kind::Kind;

pub use columns::Columns;
pub(crate) use columns::{Pending, days_of, micros_of};
pub use workbook::sheet_name;

/// In what form an output is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Delimited text.
    Delimited,
    /// One JSON object on each line.
    JsonLines,
    /// An Office Open XML workbook.
    Xlsx,
    /// Apache Parquet.
    Parquet,
    /// Typed rows that are given to a [`Sink`] of the caller's.
    Given,
}

/// How a text is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Packing {
    /// gzip (RFC 1952).
    Gzip,
    /// Zstandard (RFC 8878).
    Zstd,
}

impl Packing {
    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Packing::Gzip => "gzip",
            Packing::Zstd => "zstd",
        }
    }

    /// How a file begins that is compressed so.
    pub(crate) fn of(start: &[u8]) -> Option<Self> {
        match start {
            [0x1f, 0x8b, ..] => Some(Packing::Gzip),
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Packing::Zstd),
            _ => None,
        }
    }

    /// What the last ending of a name says, and the name without it.
    pub fn by_name(name: &str) -> (&str, Option<Self>) {
        let endings = [(".gz", Packing::Gzip), (".zst", Packing::Zstd)];
        let found = endings.into_iter().find_map(|(ending, packing)| {
            name.strip_suffix(ending).map(|stem| (stem, Some(packing)))
        });
        found.unwrap_or((name, None))
    }
}

/// How the rows of several sources stand in a workbook.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Stacking {
    /// On one sheet, below each other.
    #[default]
    One,
    /// A sheet for each source.
    Each,
}

/// How an output is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Writing {
    /// The form.
    pub form: Form,
    /// How text is compressed, if it is.
    pub packed: Option<Packing>,
    /// Parts the fields of delimited text.
    pub delimiter: u8,
    /// Whether every field stands in quotes.
    pub quote_all: bool,
    /// Whether lines end in a carriage return and a line feed.
    pub crlf: bool,
    /// Encoding of delimited text.
    pub encoding: Encoding,
    /// Whether the text begins with a byte-order mark.
    pub mark: bool,
    /// Whether text that a spreadsheet would take for a formula gets an apostrophe before
    /// it, so that it stays text.
    pub escape_formulas: bool,
    /// How sources stand in a workbook.
    pub stacking: Stacking,
    /// Where a workbook keeps its sheets until it is done; the system's folder for
    /// temporary files when none is said.
    pub scratch: Option<PathBuf>,
}

impl Writing {
    /// Delimited text as RFC 4180 has it, but for lines that end in a line feed.
    pub fn delimited(delimiter: u8) -> Self {
        Writing {
            form: Form::Delimited,
            packed: None,
            delimiter,
            quote_all: false,
            crlf: false,
            encoding: Encoding::UTF_8,
            mark: false,
            escape_formulas: false,
            stacking: Stacking::One,
            scratch: None,
        }
    }

    /// Typed rows that are given to a [`Sink`] of the caller's.
    pub fn given() -> Self {
        Writing { form: Form::Given, ..Writing::delimited(b',') }
    }

    /// What the name of an output says: `.csv`, `.tsv`, `.txt`, `.jsonl`, `.ndjson` (all
    /// of them also with `.gz` or `.zst`), `.xlsx` and `.parquet`.
    pub fn by_name(name: &str) -> Option<Self> {
        let lower = name.to_ascii_lowercase();
        let (stem, packed) = Packing::by_name(&lower);
        let (_, ending) = stem.rsplit_once('.')?;
        let (form, delimiter) = match ending {
            "csv" => (Form::Delimited, b','),
            "tsv" | "tab" | "txt" => (Form::Delimited, b'\t'),
            "jsonl" | "ndjson" => (Form::JsonLines, b','),
            "xlsx" if packed.is_none() => (Form::Xlsx, b','),
            "parquet" if packed.is_none() => (Form::Parquet, b','),
            _ => return None,
        };
        Some(Writing { form, packed, ..Writing::delimited(delimiter) })
    }

    /// Whether the types of columns are part of the output.
    pub fn is_typed(&self) -> bool {
        matches!(self.form, Form::Xlsx | Form::Parquet | Form::Given)
    }

    /// Whether rows can be added behind what a file has.
    pub fn can_grow(&self) -> bool {
        matches!(self.form, Form::Delimited | Form::JsonLines)
    }

    /// Whether records of a source in this dialect can be copied as they stand.
    pub(crate) fn takes_verbatim(&self, delimiter: u8, quote: Option<u8>) -> bool {
        self.form == Form::Delimited
            && self.encoding == Encoding::UTF_8
            && !self.quote_all
            && !self.escape_formulas
            && !self.crlf
            && self.delimiter == delimiter
            && quote == Some(b'"')
    }
}

/// A column as a writer sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Head {
    /// Its name.
    pub name: String,
    /// Its type.
    pub kind: Kind,
    /// The digits of its values, where they are decimals; none when there are more than
    /// 38.
    pub digits: Option<Digits>,
}

impl Head {
    /// A column of this name and type.
    pub fn of(name: &str, kind: Kind) -> Self {
        Head { name: name.to_owned(), kind, digits: None }
    }
}

/// How many digits the decimals of a column have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Digits {
    /// In all.
    pub precision: u32,
    /// Behind the point.
    pub scale: u32,
}

/// In what form a [`Sink`] takes many rows at once.
pub enum Way {
    /// As the bytes that this makes of them.
    Lines(Arc<dyn Lines>),
    /// As columns of these types.
    Columns(Arc<[Head]>),
    /// As cells.
    Rows,
}

/// Room for values on their way.
#[derive(Debug, Default)]
pub struct Room {
    text: String,
    line: Vec<u8>,
}

/// Writes rows as bytes, whoever asks, on any thread.
pub trait Lines: Send + Sync {
    /// Writes a row behind what is there.
    ///
    /// # Errors
    /// `InvalidData` for what the form cannot hold.
    fn row(&self, cells: &[Cell<'_>], room: &mut Room, out: &mut Vec<u8>) -> io::Result<()>;
}

/// Where an output goes.
pub type Out<'a> = Box<dyn Write + Send + 'a>;

/// Writes rows in some form.
pub trait Sink {
    /// Rows of this source follow; `sheet` is the name wanted for its sheet.
    ///
    /// # Errors
    /// The output's.
    fn source(&mut self, sheet: &str) -> io::Result<()> {
        let _ = sheet;
        Ok(())
    }

    /// Writes a row: a cell for each column, and the line or row of the source that it
    /// comes from.
    ///
    /// # Errors
    /// The output's, or `InvalidData` for what the form cannot hold.
    fn row(&mut self, cells: &[Cell<'_>], number: u64) -> io::Result<()>;

    /// In what form many rows are taken at once.
    fn way(&self) -> Way {
        Way::Rows
    }

    /// Takes rows as columns; who says [`Way::Columns`] has it.
    ///
    /// # Errors
    /// The output's.
    fn columns(&mut self, columns: Columns) -> io::Result<()> {
        let _ = columns;
        Err(invalid("it takes no columns".into()))
    }

    /// Takes many rows: their cells one behind the other, `width` for each, and the line
    /// or row of the source of each.
    ///
    /// # Errors
    /// As [`Sink::row`].
    fn rows(&mut self, cells: Row, numbers: Vec<u64>, width: usize) -> io::Result<()> {
        let mut row = Vec::with_capacity(width);
        for (at, number) in numbers.into_iter().enumerate() {
            row.clear();
            row.extend((at * width..(at + 1) * width).map(|cell| cells.cell(cell)));
            self.row(&row, number)?;
        }
        Ok(())
    }

    /// Where lines can be written as they stand; none where they cannot.
    fn verbatim(&mut self) -> Option<&mut dyn Write> {
        None
    }

    /// Ends the output.
    ///
    /// # Errors
    /// The output's.
    fn finish(self: Box<Self>) -> io::Result<()>;
}

/// Begins an output with these columns; the header is not written to an output that
/// rows are added to.
///
/// # Errors
/// The output's.
pub fn begin<'a>(
    out: Out<'a>,
    writing: &Writing,
    columns: &[Head],
    header: bool,
) -> io::Result<Box<dyn Sink + 'a>> {
    let text = |out: Out<'a>| -> io::Result<Out<'a>> {
        Ok(match writing.packed {
            Some(Packing::Gzip) => Box::new(gzip::Packed::new(out)),
            Some(Packing::Zstd) => Box::new(zstd::Packed::new(out)?),
            None => out,
        })
    };
    Ok(match writing.form {
        Form::Delimited => {
            Box::new(delimited::Delimited::begin(text(out)?, writing, columns, header)?)
        }
        Form::JsonLines => Box::new(json::JsonLines::begin(text(out)?, columns)?),
        Form::Xlsx => Box::new(workbook::Workbook::begin(out, writing, columns)?),
        Form::Parquet => Box::new(parquet::Parquet::begin(out, columns)?),
        Form::Given => return Err(invalid("rows that are given away are not written".into())),
    })
}

fn invalid(message: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, message)
}
