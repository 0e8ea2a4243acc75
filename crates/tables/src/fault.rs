//! What is wrong with a source, in words that say where and what to do.

use std::io;

/// Records longer than this are refused, in bytes: an unclosed quote would
/// otherwise read the rest of a large file into memory.
pub const RECORD_LIMIT: usize = 8 * 1024 * 1024;

/// What is wrong with a source, and on which line or row (counted from 1).
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// The input could not be read.
    #[error("cannot be read: {0}")]
    Io(#[from] io::Error),
    /// There is no line at all.
    #[error("is empty: a header line was expected")]
    Empty,
    /// A quoted field has no closing quote before the end of the file.
    #[error("line {line}: a quote opened here is never closed")]
    OpenQuote {
        /// Line on which the field begins.
        line: u64,
    },
    /// Text follows the closing quote of a field.
    #[error("line {line}: text after the closing quote of field {field}")]
    AfterQuote {
        /// Line on which the record begins.
        line: u64,
        /// Field number, from 1.
        field: usize,
    },
    /// A quote stands inside a field that does not begin with one.
    #[error("line {line}: a bare quote inside field {field}; quote the field and double the quote")]
    BareQuote {
        /// Line on which the record begins.
        line: u64,
        /// Field number, from 1.
        field: usize,
    },
    /// The record has another number of fields than the header.
    #[error("line {line}: {found} fields where the header has {expected}")]
    Ragged {
        /// Line on which the record begins.
        line: u64,
        /// Number of columns in the header.
        expected: usize,
        /// Number of fields in this record.
        found: usize,
    },
    /// The record is not UTF-8.
    #[error("line {line}: not valid UTF-8; is it in another `encoding`, such as windows-1252?")]
    NotUtf8 {
        /// Line on which the record begins.
        line: u64,
    },
    /// Bytes that the encoding does not have.
    #[error("bytes that are no {encoding} stand in it; say the right `encoding`")]
    Encoding {
        /// Name of the encoding.
        encoding: &'static str,
    },
    /// The encoding that was said would make other letters of it.
    #[error(
        "it is no {said}, as `encoding` says: it reads as utf-8; leave `encoding` away, or say the right one"
    )]
    Misread {
        /// Name of the encoding that was said.
        said: &'static str,
    },
    /// A record is longer than [`RECORD_LIMIT`].
    #[error("line {line}: a record longer than {RECORD_LIMIT} bytes; is a quote left open?")]
    TooLong {
        /// Line on which the record begins.
        line: u64,
    },
    /// Two columns of the header have the same name.
    #[error("line {line}: the header has column `{name}` twice")]
    TwiceNamed {
        /// Line of the header.
        line: u64,
        /// The name that occurs twice.
        name: String,
    },
    /// A column of the header has no name.
    #[error("line {line}: column {column} of the header has no name")]
    Unnamed {
        /// Line of the header.
        line: u64,
        /// Column number, from 1.
        column: usize,
    },
    /// Every cell of the first line is a number or a time.
    #[error(
        "line {line}: this is a row of values, not a header: `{text}`; say header = \"none\" where files have none"
    )]
    NoHeader {
        /// Line of the would-be header.
        line: u64,
        /// The start of that line.
        text: String,
    },
    /// A workbook that cannot be opened.
    #[error("no workbook that can be read: {0}")]
    Workbook(String),
    /// A workbook behind a password.
    #[error("the workbook is protected by a password; save it without one")]
    Protected,
    /// No sheet is as was asked for.
    #[error("no sheet {wanted}; the workbook has {there}")]
    NoSheet {
        /// What was asked for, in words.
        wanted: String,
        /// The sheets that are there.
        there: String,
    },
    /// Something stands in a row beyond the columns of the header.
    #[error("row {row}: a value in column {column}, which has no name in the header")]
    BeyondHeader {
        /// Row of the sheet.
        row: u64,
        /// Letters of the column.
        column: String,
    },
    /// JSON that is none, or no records.
    #[error("line {line}: {what}")]
    Json {
        /// Line of the fault.
        line: u64,
        /// What is wrong.
        what: String,
    },
    /// A table has more columns than are read.
    #[error("line {line}: {columns} columns, and {most} at the most are read", most = crate::budget::MOST_COLUMNS)]
    TooWide {
        /// Line or row of the header.
        line: u64,
        /// How many there are.
        columns: usize,
    },
    /// The kind of file is not known.
    #[error("it is no table that can be read: {0}")]
    Unknown(String),
}

impl Fault {
    /// Whether the input could not be read, so that it may be tried again.
    pub fn is_io(&self) -> bool {
        matches!(self, Fault::Io(_))
    }
}
