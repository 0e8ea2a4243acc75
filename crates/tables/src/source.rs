//! Sources: a file of any kind as one table or several.

mod bytes;

use std::io::{self, Read};

use crate::budget::{self, MOST_COLUMNS};
use crate::cell::Row;
use crate::decode::{Decoded, read_full};
use crate::delimited::Reader;
use crate::dialect::{Dialect, Encoding, find_delimiter, find_encoding, find_line_end};
use crate::fault::Fault;
use crate::records::{self, Records};
use crate::workbook;
use crate::write::Packing;

use bytes::unpacked;
pub use bytes::{Bytes, Text, is_stopped};
pub(crate) use bytes::{FromStart, stopped, text_of};

/// Bytes that are looked at to tell what a file is.
const LOOK: usize = 64 * 1024;

/// What kind of file a table stands in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Delimited text.
    Delimited,
    /// One JSON object on each line.
    JsonLines,
    /// A JSON array of objects.
    JsonArray,
    /// An Office Open XML workbook: xlsx or xlsm.
    Xlsx,
    /// A workbook of the binary kind that came before it.
    Xls,
    /// An OpenDocument spreadsheet.
    Ods,
}

impl Format {
    /// Its name, for people.
    pub fn words(self) -> &'static str {
        match self {
            Format::Delimited => "delimited text",
            Format::JsonLines => "JSON Lines",
            Format::JsonArray => "a JSON array of records",
            Format::Xlsx => "a workbook (xlsx)",
            Format::Xls => "a workbook (xls)",
            Format::Ods => "a workbook (ods)",
        }
    }

    /// Whether it is a workbook, which has sheets.
    pub fn is_workbook(self) -> bool {
        matches!(self, Format::Xlsx | Format::Xls | Format::Ods)
    }
}

/// Where the names of the columns stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Header {
    /// In the first row that is not blank.
    #[default]
    First,
    /// In this row of a sheet, from 1.
    Row(u32),
    /// Nowhere: the columns are `column_1` and so on.
    None,
}

/// Which sheets of a workbook are read.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Sheets {
    /// The first that is not hidden.
    #[default]
    First,
    /// All.
    All,
    /// This one, from 1, hidden ones counted.
    Number(usize),
    /// Those with one of these names; `*` stands for any letters, case is ignored.
    Named(Vec<String>),
}

/// What is done with merged cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Merged {
    /// The value stands in the first cell, the others are empty.
    #[default]
    First,
    /// The value stands in all of them.
    Fill,
}

/// How sources are read. What is not said is found by looking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading {
    /// Parts the fields of delimited text.
    pub delimiter: Option<u8>,
    /// Stands around fields; `None`: no byte does.
    pub quote: Option<u8>,
    /// Encoding of text.
    pub encoding: Option<Encoding>,
    /// Where the names of the columns stand.
    pub header: Header,
    /// Lines before the header, which are not looked at.
    pub preamble: usize,
    /// Lines that begin with it are left out.
    pub comment: Option<u8>,
    /// Whether records may be shorter than the header, or longer by empty fields.
    pub ragged: bool,
    /// Sheets of workbooks.
    pub sheets: Sheets,
    /// Whether hidden sheets are read too.
    pub hidden: bool,
    /// The part of a sheet that is read: first row and column, last row and column,
    /// from 0.
    pub range: Option<[u32; 4]>,
    /// What is done with merged cells.
    pub merged: Merged,
}

impl Default for Reading {
    fn default() -> Self {
        Reading {
            delimiter: None,
            quote: Some(b'"'),
            encoding: None,
            header: Header::First,
            preamble: 0,
            comment: None,
            ragged: false,
            sheets: Sheets::First,
            hidden: false,
            range: None,
            merged: Merged::First,
        }
    }
}

/// A table that is read row by row.
pub trait Table {
    /// The sheet of a workbook.
    fn sheet(&self) -> Option<&str>;
    /// Names of the columns.
    fn columns(&self) -> &[String];
    /// Reads the next row that is not blank; false at the end. The row has a cell for
    /// each column.
    ///
    /// # Errors
    /// [`Fault`].
    fn next(&mut self, row: &mut Row) -> Result<bool, Fault>;
}

/// What was found out about a file by looking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Its kind.
    pub format: Format,
    /// How it is compressed, if it is.
    pub packed: Option<Packing>,
    /// Encoding of text.
    pub encoding: Encoding,
    /// Dialect of delimited text.
    pub dialect: Dialect,
}

/// Looks at the first bytes of a file to tell what it is.
///
/// # Errors
/// [`Fault::Io`], and [`Fault::Unknown`] for what is no table.
pub fn look(bytes: Bytes<'_>, reading: &Reading) -> Result<Found, Fault> {
    let file = Bytes { read: None, ..bytes };
    let size = usize::try_from(file.file.metadata()?.len()).unwrap_or(LOOK);
    // What has no size, as a pipe has none, may still have bytes.
    let mut start = vec![0; if size == 0 { LOOK } else { LOOK.min(size + 1) }];
    let length = read_full(&mut FromStart::new(file), &mut start)?;
    let mut whole = length < start.len();
    let packed = Packing::of(&start[..length]);
    start.truncate(length);
    if packed.is_some() {
        start.resize(LOOK, 0);
        let length = read_full(&mut unpacked(file, packed)?, &mut start)?;
        whole = length < LOOK;
        start.truncate(length);
    }
    let text = |format, encoding, dialect| Found { format, packed, encoding, dialect };
    let utf8 = Encoding::UTF_8;
    let plain = Dialect::of(b',');
    if let Some(format) = workbook_by_bytes(&start, file, packed)? {
        if let Some(packing) = packed {
            let what = format!("a workbook inside {}; unpack it first", packing.word());
            return Err(Fault::Unknown(what));
        }
        return Ok(text(format, utf8, plain));
    }
    // A mark says more than who describes the file.
    let said = Encoding::by_mark(&start).or(reading.encoding);
    if let Some(said) = said.filter(|said| said.misreads(&start)) {
        return Err(Fault::Misread { said: said.name() });
    }
    let encoding = said.unwrap_or_else(|| find_encoding(&start, whole));
    if encoding != utf8 {
        let mut decoded = Vec::new();
        let kept = if whole { start.len() } else { start.len() / 4 * 4 };
        // What is wrong with it is told when it is read.
        let _ = Decoded::new(&start[..kept], encoding).read_to_end(&mut decoded);
        start = decoded;
    } else if memchr::memchr(0, &start).is_some() {
        return Err(Fault::Unknown("it has zero bytes as no text has".into()));
    }
    let start = start.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(&start);
    if let Some(format) = records::by_bytes(start) {
        return Ok(text(format, encoding, plain));
    }
    let dialect = Dialect {
        delimiter: reading.delimiter.unwrap_or(b','),
        quote: reading.quote,
        line_end: find_line_end(start),
        comment: reading.comment,
    };
    let delimiter = match reading.delimiter {
        Some(delimiter) => delimiter,
        None => {
            let start = after_lines(start, reading.preamble, dialect.line_end);
            find_delimiter(start, &dialect, 0)
        }
    };
    Ok(text(Format::Delimited, encoding, Dialect { delimiter, ..dialect }))
}

fn after_lines(mut text: &[u8], lines: usize, line_end: u8) -> &[u8] {
    for _ in 0..lines {
        text = memchr::memchr(line_end, text).map_or(&[], |end| &text[end + 1..]);
    }
    text
}

/// Kinds of files that are no tables, by the bytes with which they begin.
const OTHERS: [(&[u8], &str); 8] = [
    (b"%PDF", "a PDF document"),
    (b"PAR1", "a Parquet file, which is written and not read"),
    (b"BZh", "a file compressed by bzip2; unpack it first"),
    (b"Rar!\x1a\x07", "a RAR archive; unpack it first"),
    (b"7z\xbc\xaf\x27\x1c", "a 7z archive; unpack it first"),
    (b"\xfd7zXZ\0", "a file compressed by xz; unpack it first"),
    (b"{\\rtf", "a rich text document"),
    (b"PK\x05\x06", "an empty zip archive"),
];

fn workbook_by_bytes(
    start: &[u8],
    file: Bytes<'_>,
    packed: Option<Packing>,
) -> Result<Option<Format>, Fault> {
    let unknown = |what: &str| Err(Fault::Unknown(what.to_owned()));
    if start.starts_with(b"PK\x03\x04") {
        if let Some(packing) = packed {
            let packing = packing.word();
            return unknown(&format!(
                "a zip archive or workbook inside {packing}; unpack it first"
            ));
        }
        return match budget::workbook_kind(io::BufReader::new(FromStart::new(file))) {
            Some(format) => Ok(Some(format)),
            // A workbook that is cut off has no list of its parts.
            None if start.windows(3).any(|three| three == b"xl/") => Ok(Some(Format::Xlsx)),
            None => unknown("a zip archive and no workbook; unpack it first"),
        };
    }
    if start.starts_with(b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1") {
        return Ok(Some(Format::Xls));
    }
    if let Some((_, what)) = OTHERS.iter().find(|(begins, _)| start.starts_with(begins)) {
        return unknown(what);
    }
    if start.get(257..262) == Some(b"ustar") {
        return unknown("a tar archive; unpack it first");
    }
    let words = start.trim_ascii_start();
    let words = words.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(words).trim_ascii_start();
    let begin = String::from_utf8_lossy(&words[..words.len().min(15)]).to_lowercase();
    if ["<!doctype html", "<html", "<?xml", "<table", "<head", "<body"]
        .iter()
        .any(|tag| begin.starts_with(tag))
    {
        return unknown("a page of HTML or XML, whatever its name says; save it as csv or xlsx");
    }
    Ok(None)
}

/// Delimited text whose header was read.
pub struct TextTable<'a> {
    reader: Reader<Text<'a>>,
    columns: Vec<String>,
    ragged: bool,
    /// The first record, where there is no header.
    first: Option<Row>,
}

impl<'a> TextTable<'a> {
    /// Reads the header of a delimited text.
    ///
    /// # Errors
    /// Any [`Fault`] of a header.
    pub fn open(file: Bytes<'a>, found: &Found, reading: &Reading) -> Result<Self, Fault> {
        let plain = found.packed.is_none() && found.encoding == Encoding::UTF_8;
        let length = if plain { Some(file.file.metadata()?.len()) } else { None };
        let mut reader = Reader::of_length(text_of(file, found)?, found.dialect, length);
        reader.skip_lines(reading.preamble)?;
        if let Header::Row(row) = reading.header {
            reader.skip_lines(row.saturating_sub(1) as usize)?;
        }
        let (columns, first) = if reading.header == Header::None {
            let mut row = Row::default();
            let Some(record) = reader.next()? else { return Err(Fault::Empty) };
            if record.len() > MOST_COLUMNS {
                return Err(Fault::TooWide { line: record.line, columns: record.len() });
            }
            row.number = record.line;
            (0..record.len()).for_each(|at| row.push_text(&record.text(at)));
            ((1..=row.len()).map(|at| format!("column_{at}")).collect(), Some(row))
        } else {
            (reader.header()?, None)
        };
        Ok(TextTable { reader, columns, ragged: reading.ragged, first })
    }

    /// The reader behind the header, for who copies records as they stand; none when
    /// the first record was read already or records may be ragged.
    pub(crate) fn into_reader(self) -> Option<Reader<Text<'a>>> {
        (self.first.is_none() && !self.ragged).then_some(self.reader)
    }

    /// Whether [`TextTable::into_reader`] gives a reader.
    pub(crate) fn is_regular(&self) -> bool {
        self.first.is_none() && !self.ragged
    }
}

impl Table for TextTable<'_> {
    fn sheet(&self) -> Option<&str> {
        None
    }

    fn columns(&self) -> &[String] {
        &self.columns
    }

    fn next(&mut self, row: &mut Row) -> Result<bool, Fault> {
        if let Some(first) = self.first.take() {
            *row = first;
            return Ok(true);
        }
        let Some(record) = self.reader.next()? else { return Ok(false) };
        row.clear();
        row.number = record.line;
        let (expected, found) = (self.columns.len(), record.len());
        let too_many = (expected..found).any(|at| !record.verbatim(at).is_empty());
        if found != expected && (!self.ragged || too_many) {
            return Err(Fault::Ragged { line: record.line, expected, found });
        }
        for at in 0..found.min(expected) {
            row.push_text(&record.text(at));
        }
        row.fill_to(expected);
        Ok(true)
    }
}

/// Who looks at the tables of a file; false ends it.
pub type Visit<'v, E> = &'v mut dyn FnMut(&mut dyn Table) -> Result<bool, E>;

/// Opens each table of a file in turn: one for text, one for each wanted sheet of a
/// workbook.
///
/// # Errors
/// A [`Fault`] of the file, or what `visit` gives.
pub fn each_table<E: From<Fault>>(
    file: Bytes<'_>,
    reading: &Reading,
    visit: Visit<'_, E>,
) -> Result<Found, E> {
    let found = look(file, reading)?;
    match found.format {
        Format::Delimited => {
            visit(&mut TextTable::open(file, &found, reading)?)?;
        }
        Format::JsonLines | Format::JsonArray => {
            let columns = records::columns(text_of(Bytes { read: None, ..file }, &found)?)?;
            visit(&mut Records::new(text_of(file, &found)?, columns))?;
        }
        format => workbook::each_sheet(FromStart::new(file), format, reading, visit)?,
    }
    Ok(found)
}
