//! Writing tables: delimited text, JSON Lines, workbooks and Parquet.

mod delimited;
mod json;
mod parquet;
mod workbook;

use std::io::{self, Write};
use std::path::PathBuf;

use flate2::Compression;
use flate2::write::GzEncoder;

use crate::cell::Cell;
use crate::dialect::Encoding;
use crate::kind::Kind;

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
    /// Whether text is compressed (gzip).
    pub gzip: bool,
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
            gzip: false,
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
    /// of them also with `.gz`), `.xlsx` and `.parquet`.
    pub fn by_name(name: &str) -> Option<Self> {
        let lower = name.to_ascii_lowercase();
        let (stem, gzip) = match lower.strip_suffix(".gz") {
            Some(stem) => (stem, true),
            None => (lower.as_str(), false),
        };
        let (_, ending) = stem.rsplit_once('.')?;
        let (form, delimiter) = match ending {
            "csv" => (Form::Delimited, b','),
            "tsv" | "tab" | "txt" => (Form::Delimited, b'\t'),
            "jsonl" | "ndjson" => (Form::JsonLines, b','),
            "xlsx" if !gzip => (Form::Xlsx, b','),
            "parquet" if !gzip => (Form::Parquet, b','),
            _ => return None,
        };
        Some(Writing { form, gzip, ..Writing::delimited(delimiter) })
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

    /// Where records can be written as they stand; none where they cannot.
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
    let text = |out: Out<'a>| -> Out<'a> {
        if writing.gzip {
            Box::new(Packed(Some(GzEncoder::new(out, Compression::default()))))
        } else {
            out
        }
    };
    Ok(match writing.form {
        Form::Delimited => {
            Box::new(delimited::Delimited::begin(text(out), writing, columns, header)?)
        }
        Form::JsonLines => Box::new(json::JsonLines::new(text(out), columns)),
        Form::Xlsx => Box::new(workbook::Workbook::begin(out, writing, columns)?),
        Form::Parquet => Box::new(parquet::Parquet::begin(out, columns)?),
        Form::Given => return Err(invalid("rows that are given away are not written".into())),
    })
}

/// A gzip stream that is ended when it is flushed.
struct Packed<W: Write>(Option<GzEncoder<W>>);

impl<W: Write> Write for Packed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match &mut self.0 {
            Some(packed) => packed.write(bytes),
            None => Err(io::Error::other("the compressed stream was ended")),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self.0.take() {
            Some(packed) => packed.finish()?.flush(),
            None => Ok(()),
        }
    }
}

fn invalid(message: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, message)
}
