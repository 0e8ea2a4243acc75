//! Delimited text as RFC 4180 has it: a header line, records of the same
//! number of fields, quotes doubled inside quoted fields.
//!
//! The reader is strict, because a lenient reader turns a half-written file
//! into quietly wrong rows. What RFC 4180 leaves open is decided so: a line may
//! end in CRLF or LF, the last line may lack its end, a byte-order mark is
//! skipped, blank lines are skipped, text must be UTF-8. Other dialects are read as
//! they are said to be.

mod field;

use std::borrow::Cow;
use std::collections::HashSet;
use std::io::{self, Read};
use std::ops::Range;

use memchr::{memchr, memchr2};

use crate::budget::MOST_COLUMNS;
use crate::dialect::Dialect;
use crate::fault::{Fault, RECORD_LIMIT};

pub(crate) use field::push_field;
pub use field::write_field;

const CHUNK: usize = 256 * 1024;

/// One record: the spans of its fields in the reader's buffer.
#[derive(Debug)]
pub struct Record<'a> {
    /// Line on which the record begins, from 1.
    pub line: u64,
    raw: &'a [u8],
    fields: &'a [Field],
    quote: u8,
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
    pub fn text(&self, index: usize) -> Cow<'a, str> {
        // SAFETY: the record was seen to be UTF-8 when it was read, and its fields lie
        // between bytes of ASCII.
        let text = unsafe { std::str::from_utf8_unchecked(self.verbatim(index)) };
        if !self.fields[index].quoted {
            return Cow::Borrowed(text);
        }
        let inner = &text[1..text.len() - 1];
        if memchr(self.quote, inner.as_bytes()).is_none() {
            return Cow::Borrowed(inner);
        }
        let quote = char::from(self.quote).to_string();
        Cow::Owned(inner.replace(&quote.repeat(2), &quote))
    }

    /// Whether nothing stands in any field.
    pub fn is_blank(&self) -> bool {
        self.fields.iter().all(|field| field.span.len() == if field.quoted { 2 } else { 0 })
    }
}

/// Reads delimited text record by record from one growing buffer.
pub struct Reader<R> {
    input: R,
    dialect: Dialect,
    buffer: Vec<u8>,
    start: usize,
    filled: usize,
    ended: bool,
    line: u64,
    begun: bool,
    fields: Vec<Field>,
}

impl<R: Read> Reader<R> {
    /// A reader of `input`, as RFC 4180 has it, whose fields are separated by `delimiter`.
    pub fn new(input: R, delimiter: u8) -> Self {
        Self::with(input, Dialect::of(delimiter))
    }

    /// A reader of `input` in this dialect.
    pub fn with(input: R, dialect: Dialect) -> Self {
        Self::of_length(input, dialect, None)
    }

    /// The same of a text of this length in bytes, where it is known: a short one needs
    /// little room.
    pub(crate) fn of_length(input: R, dialect: Dialect, length: Option<u64>) -> Self {
        // One more byte, so that its end is seen at once.
        let length = length.and_then(|length| usize::try_from(length + 1).ok());
        let room = length.map_or(CHUNK, |length| length.clamp(512, CHUNK));
        Reader {
            input,
            dialect,
            buffer: vec![0; room],
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
        if record.len() > MOST_COLUMNS {
            return Err(Fault::TooWide { line, columns: record.len() });
        }
        let names: Vec<String> =
            (0..record.len()).map(|i| column_name(&record.text(i)).to_owned()).collect();
        if let Some(at) = names.iter().position(String::is_empty) {
            return Err(Fault::Unnamed { line, column: at + 1 });
        }
        if names.iter().all(|name| looks_like_value(name)) {
            let text: String = names.join(",").chars().take(60).collect();
            return Err(Fault::NoHeader { line, text });
        }
        let mut known = HashSet::with_capacity(names.len());
        if let Some(name) = names.iter().find(|name| !known.insert(name.as_str())) {
            return Err(Fault::TwiceNamed { line, name: name.clone() });
        }
        Ok(names)
    }

    /// Skips so many lines, whatever stands in them.
    ///
    /// # Errors
    /// [`Fault::Io`], and [`Fault::TooLong`].
    pub fn skip_lines(&mut self, lines: usize) -> Result<(), Fault> {
        self.begin()?;
        for _ in 0..lines {
            let mut at = 0;
            loop {
                let unread = &self.buffer[self.start..self.filled];
                if let Some(found) = memchr(self.dialect.line_end, &unread[at..]) {
                    self.start += at + found + 1;
                    self.line += 1;
                    break;
                }
                at = unread.len();
                if self.ended {
                    self.start = self.filled;
                    return Ok(());
                }
                if at > RECORD_LIMIT {
                    return Err(Fault::TooLong { line: self.line });
                }
                self.fill()?;
            }
        }
        Ok(())
    }

    /// What was read and not given yet, and the rest of the input.
    pub(crate) fn into_rest(self) -> (Vec<u8>, Range<usize>, R, u64) {
        (self.buffer, self.start..self.filled, self.input, self.line)
    }

    /// Looks for a byte-order mark, and skips it.
    fn begin(&mut self) -> Result<(), Fault> {
        if !self.begun {
            self.begun = true;
            while self.filled < 3 && !self.ended {
                self.fill()?;
            }
            if self.buffer[..self.filled].starts_with(b"\xEF\xBB\xBF") {
                self.start = 3;
            }
        }
        Ok(())
    }

    /// The next record, or `None` at the end. Blank lines are skipped.
    ///
    /// # Errors
    /// Any [`Fault`] but the header's.
    #[expect(clippy::should_implement_trait, reason = "a lending iterator cannot be an Iterator")]
    pub fn next(&mut self) -> Result<Option<Record<'_>>, Fault> {
        self.begin()?;
        loop {
            let Some((length, lines)) = self.find_end()? else {
                return Ok(None);
            };
            let line = self.line;
            let from = self.start;
            self.start += length;
            self.line += lines;
            let raw = trim_end(&self.buffer[from..from + length], self.dialect.line_end);
            if raw.is_empty() || raw.first().copied() == self.dialect.comment {
                continue;
            }
            let until = from + raw.len();
            if std::str::from_utf8(raw).is_err() {
                return Err(Fault::NotUtf8 { line });
            }
            split(raw, &self.dialect, line, &mut self.fields)?;
            let quote = self.dialect.quote.unwrap_or(b'"');
            let raw = &self.buffer[from..until];
            return Ok(Some(Record { line, raw, fields: &self.fields, quote }));
        }
    }

    /// Length of the next record with its line end, and the line ends in it.
    fn find_end(&mut self) -> Result<Option<(usize, u64)>, Fault> {
        let mut at = 0;
        let mut quoted = false;
        let mut lines = 0;
        let mut opened = self.line;
        let Dialect { quote, line_end, comment, .. } = self.dialect;
        if self.start == self.filled && !self.ended {
            self.fill()?;
        }
        // In a comment a quote is a letter like others.
        let commented =
            comment.is_some() && self.buffer[self.start..self.filled].first().copied() == comment;
        let quote = if commented { line_end } else { quote.unwrap_or(line_end) };
        loop {
            let unread = &self.buffer[self.start..self.filled];
            match memchr2(quote, line_end, &unread[at..]) {
                Some(found) => {
                    let byte = unread[at + found];
                    at += found + 1;
                    if byte == line_end {
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

/// A record without its line end; carriage returns before it belong to it, however many
/// a careless conversion has left.
fn trim_end(line: &[u8], line_end: u8) -> &[u8] {
    let mut line = line.strip_suffix(&[line_end]).unwrap_or(line);
    while let Some(rest) = line.strip_suffix(b"\r") {
        line = rest;
    }
    line
}

/// Finds the fields of one record, whose quotes are known to be balanced.
fn split(raw: &[u8], dialect: &Dialect, line: u64, fields: &mut Vec<Field>) -> Result<(), Fault> {
    fields.clear();
    let delimiter = dialect.delimiter;
    let mut at = 0;
    loop {
        let number = fields.len() + 1;
        let (end, quoted) = match dialect.quote {
            Some(quote) if raw.get(at) == Some(&quote) => {
                (end_of_quoted(raw, at, quote, line)?, true)
            }
            quote => {
                let end = memchr(delimiter, &raw[at..]).map_or(raw.len(), |found| at + found);
                if quote.is_some_and(|quote| memchr(quote, &raw[at..end]).is_some()) {
                    return Err(Fault::BareQuote { line, field: number });
                }
                (end, false)
            }
        };
        fields.push(Field { span: at..end, quoted });
        match raw.get(end) {
            None => return Ok(()),
            Some(byte) if *byte == delimiter => at = end + 1,
            Some(_) => return Err(Fault::AfterQuote { line, field: number }),
        }
    }
}

fn end_of_quoted(raw: &[u8], from: usize, quote: u8, line: u64) -> Result<usize, Fault> {
    let mut at = from + 1;
    while let Some(found) = memchr(quote, &raw[at..]) {
        at += found + 1;
        if raw.get(at) != Some(&quote) {
            return Ok(at);
        }
        at += 1;
    }
    Err(Fault::OpenQuote { line })
}

/// The name of a column, without the space around it and without byte-order marks,
/// which nobody sees.
pub(crate) fn column_name(text: &str) -> &str {
    text.trim_matches(|c: char| c.is_whitespace() || c == '\u{feff}')
}

/// Whether a cell is plainly a value: a number, or a text that begins as an
/// ISO 8601 date does.
pub(crate) fn looks_like_value(cell: &str) -> bool {
    let bytes = cell.as_bytes();
    let dated = bytes.len() >= 10
        && bytes[..10].iter().enumerate().all(|(at, byte)| match at {
            4 | 7 => *byte == b'-',
            _ => byte.is_ascii_digit(),
        });
    dated || cell.parse::<f64>().is_ok()
}

#[cfg(test)]
mod tests;
