//! JSON Lines and JSON arrays of objects, read one object at a time.

mod lines;
mod usual;

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::fmt;
use std::io::Read;

use serde::Deserialize;
use serde::de::{Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;

use crate::budget::MOST_COLUMNS;
use crate::cell::{Cell, Row};
use crate::decode::read_some;
use crate::fault::{Fault, RECORD_LIMIT};
use crate::source::{Bytes, Format, Found, Table, text_of};

pub(crate) use lines::{AsLine, Lines};

const CHUNK: usize = 128 * 1024;

/// Whether a text that begins so is JSON records.
pub(crate) fn by_bytes(start: &[u8]) -> Option<Format> {
    let mut letters = start.iter().filter(|byte| !byte.is_ascii_whitespace());
    match (letters.next(), letters.next()) {
        (Some(b'{'), Some(b'"' | b'}')) => Some(Format::JsonLines),
        (Some(b'['), Some(b'{' | b']')) => Some(Format::JsonArray),
        _ => None,
    }
}

/// Members of an object in their order, each value as it was written: numbers keep all
/// their digits.
struct Members(Vec<(String, Box<RawValue>)>);

impl<'de> Deserialize<'de> for Members {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reading;

        impl<'de> Visitor<'de> for Reading {
            type Value = Members;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a record")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Members, A::Error> {
                let mut members = Vec::new();
                while let Some(member) = map.next_entry()? {
                    members.push(member);
                }
                Ok(Members(members))
            }
        }

        deserializer.deserialize_map(Reading)
    }
}

/// An object, and the line on which it begins.
type Object = (u64, Members);

/// Finds one object after the other in a text.
struct Objects<R> {
    input: R,
    buffer: Vec<u8>,
    start: usize,
    filled: usize,
    line: u64,
    /// Within the brackets of an array.
    in_array: bool,
    begun: bool,
    /// An object has come since the last comma.
    parted: bool,
    /// The array has ended.
    over: bool,
}

impl<R: Read> Objects<R> {
    fn new(input: R) -> Self {
        Objects {
            input,
            buffer: vec![0; CHUNK],
            start: 0,
            filled: 0,
            line: 1,
            in_array: false,
            begun: false,
            parted: true,
            over: false,
        }
    }

    fn fault<T>(&self, what: impl Into<String>) -> Result<T, Fault> {
        Err(Fault::Json { line: self.line, what: what.into() })
    }

    /// Reads more; false at the end.
    fn fill(&mut self) -> Result<bool, Fault> {
        self.buffer.copy_within(self.start..self.filled, 0);
        self.filled -= self.start;
        self.start = 0;
        if self.filled > RECORD_LIMIT {
            return self.fault(format!("a record longer than {RECORD_LIMIT} bytes"));
        }
        if self.filled == self.buffer.len() {
            self.buffer.resize(self.buffer.len() * 2, 0);
        }
        let count = read_some(&mut self.input, &mut self.buffer[self.filled..])?;
        self.filled += count;
        Ok(count > 0)
    }

    /// Goes to the next object: true when it begins at `start`.
    fn seek_object(&mut self) -> Result<bool, Fault> {
        if !self.begun {
            while self.filled < 3 && self.fill()? {}
            if self.buffer[..self.filled].starts_with(b"\xEF\xBB\xBF") {
                self.start = 3;
            }
        }
        loop {
            if self.start == self.filled && !self.fill()? {
                if self.in_array && !self.over {
                    return self.fault("the array is never closed; was the file cut off?");
                }
                return Ok(false);
            }
            let byte = self.buffer[self.start];
            match byte {
                b'\n' => self.line += 1,
                _ if byte.is_ascii_whitespace() => {}
                b'[' if !self.begun => self.in_array = true,
                b']' if self.in_array && !self.over => self.over = true,
                b',' if self.in_array && !self.parted && !self.over => self.parted = true,
                b'{' if self.over => return self.fault("something follows the end of the array"),
                b'{' if self.in_array && !self.parted => {
                    return self.fault("a comma is missing between two records");
                }
                b'{' => {
                    self.begun = true;
                    self.parted = false;
                    return Ok(true);
                }
                other => {
                    let found = char::from(other);
                    return self.fault(format!("`{found}` where a record `{{…}}` was expected"));
                }
            }
            self.begun |= !byte.is_ascii_whitespace();
            self.start += 1;
        }
    }

    /// The next object, and the line on which it begins.
    fn next(&mut self) -> Result<Option<Object>, Fault> {
        if !self.seek_object()? {
            return Ok(None);
        }
        let (mut at, mut depth, mut quoted, mut escaped) = (0, 0u32, false, false);
        let begins = self.line;
        loop {
            if self.start + at == self.filled && !self.fill()? {
                self.line = begins;
                return self.fault("a record is never closed; was the file cut off?");
            }
            let byte = self.buffer[self.start + at];
            at += 1;
            match byte {
                b'\n' => self.line += 1,
                _ if escaped => escaped = false,
                b'\\' if quoted => escaped = true,
                b'"' => quoted = !quoted,
                b'{' | b'[' if !quoted => depth += 1,
                b'}' | b']' if !quoted => depth -= 1,
                _ => {}
            }
            if depth == 0 {
                break;
            }
        }
        let text = &self.buffer[self.start..self.start + at];
        self.start += at;
        match serde_json::from_slice(text) {
            Ok(object) => Ok(Some((begins, object))),
            Err(error) => Err(no_json(begins, &error)),
        }
    }
}

/// What is wrong with a record that begins on this line: its reader counts from there.
fn no_json(begins: u64, error: &serde_json::Error) -> Fault {
    let told = error.to_string();
    let words = told.rsplit_once(" at line ").map_or(told.as_str(), |(words, _)| words);
    let line = begins + (error.line() as u64).saturating_sub(1);
    Fault::Json { line, what: format!("no JSON: {words}, at column {}", error.column()) }
}

/// Names of all columns, in the order of first sight.
///
/// # Errors
/// [`Fault::Json`] and [`Fault::Io`].
pub(crate) fn columns(text: impl Read) -> Result<Vec<String>, Fault> {
    columns_of(text, u64::MAX)
}

/// The same of the first so many records; what is wrong behind one is told when it is
/// read.
///
/// # Errors
/// [`Fault::Json`] and [`Fault::Io`].
pub(crate) fn columns_of(text: impl Read, records: u64) -> Result<Vec<String>, Fault> {
    let mut objects = Objects::new(text);
    let mut columns = Vec::new();
    let mut known = HashSet::new();
    let mut left = records;
    while left > 0 {
        left -= 1;
        let Some((line, object)) = objects.next()? else { break };
        for (name, _) in object.0 {
            if !known.contains(&name) {
                known.insert(name.clone());
                columns.push(name);
            }
        }
        if columns.len() > MOST_COLUMNS {
            return Err(Fault::TooWide { line, columns: columns.len() });
        }
    }
    Ok(columns)
}

/// Names of the members of the first record.
///
/// # Errors
/// [`Fault::Json`] and [`Fault::Io`].
pub(crate) fn first_columns(bytes: Bytes<'_>, found: &Found) -> Result<Vec<String>, Fault> {
    let first = Objects::new(text_of(bytes, found)?).next()?;
    Ok(first
        .map(|(_, object)| object.0.into_iter().map(|(name, _)| name).collect())
        .unwrap_or_default())
}

/// JSON records as a table. Members that are objects or arrays stand as JSON text.
pub(crate) struct Records<R> {
    objects: Objects<R>,
    columns: Vec<String>,
}

impl<R: Read> Records<R> {
    pub fn new(text: R, columns: Vec<String>) -> Self {
        Records { objects: Objects::new(text), columns }
    }
}

impl<R: Read> Table for Records<R> {
    fn sheet(&self) -> Option<&str> {
        None
    }

    fn columns(&self) -> &[String] {
        &self.columns
    }

    fn next(&mut self, row: &mut Row) -> Result<bool, Fault> {
        let Some((line, object)) = self.objects.next()? else { return Ok(false) };
        row.clear();
        row.number = line;
        // Of two members of one name the last counts.
        let members: HashMap<&str, &RawValue> =
            object.0.iter().map(|(name, value)| (name.as_str(), &**value)).collect();
        for name in &self.columns {
            row.push(&members.get(name.as_str()).map_or(Cell::Nothing, |value| cell(value.get())));
        }
        Ok(true)
    }
}

fn cell(text: &str) -> Cell<'_> {
    match text.as_bytes().first() {
        // Most texts stand as they are.
        Some(b'"') if !text.contains('\\') => Cell::Text(Cow::Borrowed(&text[1..text.len() - 1])),
        Some(b'"') => match serde_json::from_str::<Cow<'_, str>>(text) {
            Ok(value) => Cell::Text(Cow::Owned(value.into_owned())),
            Err(_) => Cell::Text(Cow::Borrowed(text)),
        },
        Some(b't') => Cell::Boolean(true),
        Some(b'f') => Cell::Boolean(false),
        Some(b'n') | None => Cell::Nothing,
        Some(b'{' | b'[') => Cell::Text(Cow::Owned(compact(text))),
        Some(_) => number(text),
    }
}

/// A number as it was written, when a number of the machine would not write it so.
fn number(text: &str) -> Cell<'_> {
    if let Ok(whole) = text.parse::<i64>()
        && text != "-0"
    {
        return Cell::Integer(whole);
    }
    // Of so few digits all come back from floating point, but for noughts at the end.
    let few = text.len() <= 16 && !text.contains(['e', 'E']);
    if few && let Some((_, fraction)) = text.split_once('.') {
        return match text.parse() {
            Ok(real) if !fraction.ends_with('0') => Cell::Real(real),
            _ => Cell::Decimal(Cow::Borrowed(text)),
        };
    }
    if let Ok(real) = text.parse::<f64>()
        && real.is_finite()
        && Cell::Real(real).to_text() == text
    {
        return Cell::Real(real);
    }
    let plain = !text.contains(['e', 'E']);
    if plain { Cell::Decimal(Cow::Borrowed(text)) } else { Cell::Text(Cow::Borrowed(text)) }
}

/// JSON without the space between its parts.
fn compact(text: &str) -> String {
    let (mut compact, mut quoted, mut escaped) = (String::with_capacity(text.len()), false, false);
    for c in text.chars() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            '"' => quoted = !quoted,
            c if !quoted && c.is_ascii_whitespace() => continue,
            _ => {}
        }
        compact.push(c);
    }
    compact
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Vec<Vec<String>>, Fault> {
        let columns = columns(text.as_bytes())?;
        let mut table = Records::new(text.as_bytes(), columns.clone());
        let mut rows = vec![columns];
        let mut row = Row::default();
        while table.next(&mut row)? {
            rows.push(row.cells().map(|cell| cell.to_text()).collect());
        }
        Ok(rows)
    }

    #[test]
    fn lines_and_arrays_are_read_alike() {
        let expected = vec![
            vec!["station".to_owned(), "level_m".into(), "note".into()],
            vec!["Ullin Bay".into(), "1.25".into(), String::new()],
            vec!["Tarn {Ness}".into(), String::new(), "[1,2]".into()],
        ];
        let one = r#"{"station": "Ullin Bay", "level_m": 1.25}"#;
        let other = r#"{"station": "Tarn {Ness}", "level_m": null, "note": [1, 2]}"#;
        for text in [
            format!("{one}\n{other}\n"),
            format!("\u{feff}{one}\n\n{other}"),
            format!("[{one},{other}]"),
            format!("[\n  {one},\n  {other}\n]\n"),
        ] {
            assert_eq!(read(&text).unwrap(), expected, "{text}");
        }
        assert_eq!(read("[]").unwrap(), [Vec::<String>::new()]);
    }

    #[test]
    fn numbers_keep_their_digits() {
        let text = r#"{"a": 123456789012345678901234567890, "b": 0.1234567890123456789, "c": 1.50, "d": 1.5, "e": 1e3, "f": -0}"#;
        let rows = read(text).unwrap();
        assert_eq!(
            rows[1],
            ["123456789012345678901234567890", "0.1234567890123456789", "1.50", "1.5", "1e3", "-0"]
        );
    }

    #[test]
    fn what_is_no_json_is_told_with_its_line() {
        for (text, words) in [
            ("{\"a\": 1}\n{\"a\": }\n", "line 2: no JSON: expected value, at column 7"),
            ("[{\"a\": 1},\n{\"a\": 2,\n \"b\": x}]", "line 3: no JSON: expected value"),
            ("{\"a\": 1}\nnext\n", "line 2: `n` where a record"),
            ("[{\"a\": 1}\n{\"a\": 2}]", "line 2: a comma is missing"),
            ("[{\"a\": 1},\n", "the array is never closed"),
            ("{\"a\": 1}\n{\"a\": \"}\n", "line 2: a record is never closed"),
            ("[{}]\n{}", "line 2: something follows"),
        ] {
            let error = read(text).unwrap_err().to_string();
            assert!(error.contains(words), "{text}: {error}");
        }
    }
}
