//! Delimited text as RFC 4180 has it: a header line, records of the same
//! number of fields, quotes doubled inside quoted fields.
//!
//! The reader is strict, because a lenient reader turns a half-written file
//! into quietly wrong rows. What RFC 4180 leaves open is decided so: a line may
//! end in CRLF or LF, the last line may lack its end, a byte-order mark is
//! skipped, blank lines are skipped, text must be UTF-8.

use std::io::{self, Read, Write};
use std::ops::Range;

use memchr::{memchr, memchr2};

/// Records longer than this are refused, in bytes: an unclosed quote would
/// otherwise read the rest of a large file into memory.
pub const RECORD_LIMIT: usize = 8 * 1024 * 1024;

const CHUNK: usize = 256 * 1024;

/// What is wrong with a delimited text, and on which line (counted from 1).
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
    #[error("line {line}: not valid UTF-8")]
    NotUtf8 {
        /// Line on which the record begins.
        line: u64,
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
    #[error("line {line}: this is a row of values, not a header: `{text}`")]
    NoHeader {
        /// Line of the would-be header.
        line: u64,
        /// The start of that line.
        text: String,
    },
}

/// One record: the spans of its fields in the reader's buffer.
#[derive(Debug)]
pub struct Record<'a> {
    /// Line on which the record begins, from 1.
    pub line: u64,
    raw: &'a [u8],
    fields: &'a [Field],
}

#[derive(Debug, Clone)]
struct Field {
    span: Range<usize>,
    quoted: bool,
}

impl<'a> Record<'a> {
    /// Number of fields.
    pub fn len(&self) -> usize {
        self.fields.len()
    }

    /// Whether there is no field; a record from the reader has at least one.
    pub fn is_empty(&self) -> bool {
        self.fields.is_empty()
    }

    /// The record as it stands in the source, without its line end.
    pub fn raw(&self) -> &'a [u8] {
        self.raw
    }

    /// Field `index` as it stands in the source, quotes included; it can be
    /// copied as it is into text with the same delimiter.
    ///
    /// # Panics
    /// When `index` is not below [`Record::len`].
    pub fn verbatim(&self, index: usize) -> &'a [u8] {
        &self.raw[self.fields[index].span.clone()]
    }

    /// Field `index` as text: without its quotes, doubled quotes made single.
    ///
    /// # Panics
    /// When `index` is not below [`Record::len`].
    pub fn text(&self, index: usize) -> String {
        let bytes = self.verbatim(index);
        let text = String::from_utf8_lossy(bytes);
        if self.fields[index].quoted {
            text[1..text.len() - 1].replace("\"\"", "\"")
        } else {
            text.into_owned()
        }
    }
}

/// Reads delimited text record by record from one growing buffer.
pub struct Reader<R> {
    input: R,
    delimiter: u8,
    buffer: Vec<u8>,
    start: usize,
    filled: usize,
    ended: bool,
    line: u64,
    begun: bool,
    fields: Vec<Field>,
}

impl<R: Read> Reader<R> {
    /// A reader of `input` whose fields are parted by `delimiter`.
    pub fn new(input: R, delimiter: u8) -> Self {
        Reader {
            input,
            delimiter,
            buffer: vec![0; CHUNK],
            start: 0,
            filled: 0,
            ended: false,
            line: 1,
            begun: false,
            fields: Vec::new(),
        }
    }

    /// Reads the header: unique, non-empty names, trimmed of outer space.
    ///
    /// # Errors
    /// Any [`Fault`]; [`Fault::NoHeader`] when every cell is a number or time.
    pub fn header(&mut self) -> Result<Vec<String>, Fault> {
        let Some(record) = self.next()? else {
            return Err(Fault::Empty);
        };
        let line = record.line;
        let names: Vec<String> =
            (0..record.len()).map(|i| record.text(i).trim().to_owned()).collect();
        if let Some(at) = names.iter().position(String::is_empty) {
            return Err(Fault::Unnamed { line, column: at + 1 });
        }
        if names.iter().all(|name| looks_like_value(name)) {
            let text: String = names.join(",").chars().take(60).collect();
            return Err(Fault::NoHeader { line, text });
        }
        for (at, name) in names.iter().enumerate() {
            if names[..at].contains(name) {
                return Err(Fault::TwiceNamed { line, name: name.clone() });
            }
        }
        Ok(names)
    }

    /// The next record, or `None` at the end. Blank lines are skipped.
    ///
    /// # Errors
    /// Any [`Fault`] but the header's.
    #[expect(clippy::should_implement_trait, reason = "a lending iterator cannot be an Iterator")]
    pub fn next(&mut self) -> Result<Option<Record<'_>>, Fault> {
        if !self.begun {
            self.begun = true;
            while self.filled < 3 && !self.ended {
                self.fill()?;
            }
            if self.buffer[..self.filled].starts_with(b"\xEF\xBB\xBF") {
                self.start = 3;
            }
        }
        loop {
            let Some((length, lines)) = self.find_end()? else {
                return Ok(None);
            };
            let line = self.line;
            let from = self.start;
            self.start += length;
            self.line += lines;
            let raw = trim_end(&self.buffer[from..from + length]);
            if raw.is_empty() {
                continue;
            }
            let until = from + raw.len();
            if std::str::from_utf8(raw).is_err() {
                return Err(Fault::NotUtf8 { line });
            }
            split(raw, self.delimiter, line, &mut self.fields)?;
            return Ok(Some(Record { line, raw: &self.buffer[from..until], fields: &self.fields }));
        }
    }

    /// Length of the next record with its line end, and the line ends in it.
    fn find_end(&mut self) -> Result<Option<(usize, u64)>, Fault> {
        let mut at = 0;
        let mut quoted = false;
        let mut lines = 0;
        let mut opened = self.line;
        loop {
            let unread = &self.buffer[self.start..self.filled];
            match memchr2(b'"', b'\n', &unread[at..]) {
                Some(found) => {
                    let byte = unread[at + found];
                    at += found + 1;
                    if byte == b'\n' {
                        lines += 1;
                        if !quoted {
                            return Ok(Some((at, lines)));
                        }
                    } else {
                        quoted = !quoted;
                        opened = self.line + lines;
                    }
                }
                None => {
                    at = unread.len();
                    if self.ended {
                        if quoted {
                            return Err(Fault::OpenQuote { line: opened });
                        }
                        return Ok((at > 0).then_some((at, lines + 1)));
                    }
                    if at > RECORD_LIMIT {
                        return Err(Fault::TooLong { line: self.line });
                    }
                    self.fill()?;
                }
            }
        }
    }

    fn fill(&mut self) -> Result<(), Fault> {
        if self.start > 0 {
            self.buffer.copy_within(self.start..self.filled, 0);
            self.filled -= self.start;
            self.start = 0;
        }
        if self.filled == self.buffer.len() {
            self.buffer.resize(self.buffer.len() * 2, 0);
        }
        loop {
            match self.input.read(&mut self.buffer[self.filled..]) {
                Ok(0) => {
                    self.ended = true;
                    return Ok(());
                }
                Ok(count) => {
                    self.filled += count;
                    return Ok(());
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error.into()),
            }
        }
    }
}

fn trim_end(line: &[u8]) -> &[u8] {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    line.strip_suffix(b"\r").unwrap_or(line)
}

/// Finds the fields of one record, whose quotes are known to be balanced.
fn split(raw: &[u8], delimiter: u8, line: u64, fields: &mut Vec<Field>) -> Result<(), Fault> {
    fields.clear();
    let mut at = 0;
    loop {
        let number = fields.len() + 1;
        let (end, quoted) = if raw.get(at) == Some(&b'"') {
            (end_of_quoted(raw, at, line)?, true)
        } else {
            let end = memchr(delimiter, &raw[at..]).map_or(raw.len(), |found| at + found);
            if memchr(b'"', &raw[at..end]).is_some() {
                return Err(Fault::BareQuote { line, field: number });
            }
            (end, false)
        };
        fields.push(Field { span: at..end, quoted });
        match raw.get(end) {
            None => return Ok(()),
            Some(byte) if *byte == delimiter => at = end + 1,
            Some(_) => return Err(Fault::AfterQuote { line, field: number }),
        }
    }
}

fn end_of_quoted(raw: &[u8], from: usize, line: u64) -> Result<usize, Fault> {
    let mut at = from + 1;
    while let Some(found) = memchr(b'"', &raw[at..]) {
        at += found + 1;
        if raw.get(at) != Some(&b'"') {
            return Ok(at);
        }
        at += 1;
    }
    Err(Fault::OpenQuote { line })
}

/// Whether a cell is plainly a value: a number, or a text that begins as an
/// ISO 8601 date does.
fn looks_like_value(cell: &str) -> bool {
    let bytes = cell.as_bytes();
    let dated = bytes.len() >= 10
        && bytes[..10].iter().enumerate().all(|(at, byte)| match at {
            4 | 7 => *byte == b'-',
            _ => byte.is_ascii_digit(),
        });
    dated || cell.parse::<f64>().is_ok()
}

/// Writes `text` as one field, quoted only where RFC 4180 asks for it.
///
/// # Errors
/// The writer's.
pub fn write_field(out: &mut impl Write, text: &str, delimiter: u8) -> io::Result<()> {
    let special = |byte: &u8| *byte == delimiter || matches!(byte, b'"' | b'\n' | b'\r');
    if text.bytes().any(|byte| special(&byte)) {
        out.write_all(b"\"")?;
        out.write_all(text.replace('"', "\"\"").as_bytes())?;
        out.write_all(b"\"")
    } else {
        out.write_all(text.as_bytes())
    }
}

#[cfg(test)]
mod tests;
