//! The content of an entry's file, wherever it lies: whole, or the lines around a fault.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::Path;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::ledger::ids::EntryId;
use crate::ledger::types::Entry;

/// So many bytes are looked through for a line.
const LOOKED_THROUGH: u64 = 256 * 1024 * 1024;

/// So much of a line is shown, in bytes.
const SHOWN: usize = 2_000;

/// So many bytes tell whether it is a text.
const BEGINNING: usize = 8_192;

/// Lines of a file, around one of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Excerpt {
    /// The line at which something is wrong; none where the reason names none.
    pub line: Option<u64>,
    /// What the reason quotes: values and names of columns.
    pub quoted: Vec<String>,
    /// The lines.
    pub lines: Vec<ExcerptLine>,
    /// Whether there are more behind them.
    pub more: bool,
    /// Whether it is no text, and has no lines.
    pub binary: bool,
}

/// A line of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ExcerptLine {
    /// Its number, from 1.
    pub number: u64,
    /// Its text; what is not UTF-8 is shown as U+FFFD.
    pub text: String,
    /// Whether more of it is not shown.
    pub cut: bool,
}

impl Engine {
    /// The content of an entry's file, as it came: what is compressed in the archive is
    /// unpacked.
    ///
    /// # Errors
    /// [`EngineError::NoEntry`]; [`EngineError::NotThere`] when it does not lie there any more,
    /// or another file does.
    pub fn content(&self, id: EntryId) -> Result<(Entry, Box<dyn Read>), EngineError> {
        let context = self.context();
        let entry = context.ledger.entry(id)?.ok_or(EngineError::NoEntry(id))?;
        let place = entry.lies_at();
        let shown = place.display();
        let not_there = |why: String| EngineError::NotThere(format!("`{shown}` {why}"));
        let file = context
            .config
            .reach
            .at(&place)
            .and_then(|at| at.open())
            .map_err(|error| not_there(format!("cannot be read: {error}")))?;
        if !is_of(&file, &entry) {
            return Err(not_there("is not the entry's file any more".into()));
        }
        let reader = match entry.packing {
            Some(packing) => packing
                .reader(file)
                .map_err(|error| not_there(format!("cannot be unpacked: {error}")))?,
            None => Box::new(file) as Box<dyn Read>,
        };
        Ok((entry, reader))
    }

    /// An output as it lies there now.
    ///
    /// # Errors
    /// [`EngineError::NotThere`] when nothing was ever written there, or it does not lie there.
    pub fn output(&self, path: &str) -> Result<File, EngineError> {
        let context = self.context();
        if !context.ledger.is_output(path)? {
            return Err(EngineError::NotThere(format!("`{path}` is no output")));
        }
        let opened = context.config.reach.at(Path::new(path)).and_then(|at| at.open());
        let file = opened.map_err(|error| {
            EngineError::NotThere(format!("the output `{path}` cannot be read: {error}"))
        })?;
        match file.metadata() {
            Ok(meta) if meta.is_file() => Ok(file),
            _ => Err(EngineError::NotThere(format!("the output `{path}` is no file"))),
        }
    }

    /// The lines around one of an entry's file: around the one that its reason names where
    /// `line` does not say another.
    ///
    /// # Errors
    /// As [`Engine::content`].
    pub fn excerpt(
        &self,
        id: EntryId,
        line: Option<u64>,
        around: u64,
    ) -> Result<Excerpt, EngineError> {
        let (entry, reader) = self.content(id)?;
        let reason = entry.reason.as_deref().unwrap_or("");
        let line = line.or_else(|| line_of(reason));
        let first = line.map_or(1, |line| line.saturating_sub(around)).max(1);
        let last = line.unwrap_or(first).saturating_add(around);
        let excerpt = read(reader, first, last).map_err(|error| {
            EngineError::NotThere(format!(
                "`{}` cannot be read: {error}",
                entry.lies_at().display()
            ))
        })?;
        Ok(Excerpt { line, quoted: quoted(reason), ..excerpt })
    }
}

fn is_of(file: &File, entry: &Entry) -> bool {
    file.metadata().is_ok_and(|meta| meta.is_file() && meta.len() == entry.bytes_there())
}

/// Reads some lines, and looks through what lies before them.
fn read(reader: Box<dyn Read>, first: u64, last: u64) -> io::Result<Excerpt> {
    let mut reader = BufReader::with_capacity(64 * 1024, reader.take(LOOKED_THROUGH));
    let mut excerpt =
        Excerpt { line: None, quoted: Vec::new(), lines: Vec::new(), more: false, binary: false };
    let beginning = reader.fill_buf()?;
    if beginning[..beginning.len().min(BEGINNING)].contains(&0) {
        excerpt.binary = true;
        return Ok(excerpt);
    }
    for number in 1.. {
        if number > last {
            excerpt.more = !reader.fill_buf()?.is_empty();
            break;
        }
        let Some((text, cut)) = one_line(&mut reader)? else { break };
        if number >= first {
            let text = String::from_utf8_lossy(&text).into_owned();
            excerpt.lines.push(ExcerptLine { number, text, cut });
        }
    }
    Ok(excerpt)
}

/// The next line, of which no more is kept than is shown; none at the end.
fn one_line(reader: &mut impl BufRead) -> io::Result<Option<(Vec<u8>, bool)>> {
    let (mut text, mut cut, mut any) = (Vec::new(), false, false);
    loop {
        let piece = reader.fill_buf()?;
        if piece.is_empty() {
            return Ok(any.then_some((text, cut)));
        }
        any = true;
        let end = piece.iter().position(|byte| *byte == b'\n');
        let part = &piece[..end.unwrap_or(piece.len())];
        let room = SHOWN.saturating_sub(text.len());
        text.extend_from_slice(&part[..part.len().min(room)]);
        cut |= part.len() > room;
        let used = end.map_or(piece.len(), |end| end + 1);
        reader.consume(used);
        if end.is_some() {
            if text.last() == Some(&b'\r') && !cut {
                text.pop();
            }
            return Ok(Some((text, cut)));
        }
    }
}

/// The line that a reason names.
fn line_of(reason: &str) -> Option<u64> {
    let mut rest = reason;
    while let Some(at) = rest.find("line ") {
        let begins = rest[..at].chars().next_back().is_none_or(|before| !before.is_alphanumeric());
        rest = &rest[at + 5..];
        let digits: String = rest
            .chars()
            .take_while(|c| c.is_ascii_digit() || *c == ',')
            .filter(char::is_ascii_digit)
            .collect();
        if let (true, Ok(line)) = (begins, digits.parse()) {
            return Some(line);
        }
    }
    None
}

/// What a reason quotes.
fn quoted(reason: &str) -> Vec<String> {
    let quoted = reason.split('`').skip(1).step_by(2);
    quoted.filter(|text| !text.trim().is_empty()).map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(content: &[u8], first: u64, last: u64) -> Vec<(u64, String, bool)> {
        let excerpt = read(Box::new(io::Cursor::new(content.to_vec())), first, last).unwrap();
        excerpt.lines.into_iter().map(|one| (one.number, one.text, one.cut)).collect()
    }

    #[test]
    fn a_reason_names_its_line_and_what_it_quotes() {
        assert_eq!(line_of("line 12, column `level_m`: `high` is no decimal"), Some(12));
        assert_eq!(line_of("`a.csv`: line 1,024: not valid UTF-8"), Some(1024));
        assert_eq!(line_of("the headline 7 is odd; line 3 too"), Some(3));
        assert_eq!(line_of("the deadline is over"), None);
        assert_eq!(quoted("line 12, column `level_m`: `high` is no decimal"), ["level_m", "high"]);
        assert!(quoted("nothing `").is_empty());
    }

    #[test]
    fn lines_are_found_however_they_end_and_however_long_they_are() {
        let one = |number, text: &str| (number, text.to_owned(), false);
        assert_eq!(lines(b"a\r\nb\nc", 2, 3), [one(2, "b"), one(3, "c")]);
        assert_eq!(lines(b"a\n", 1, 9), [one(1, "a")]);
        assert_eq!(lines(b"", 1, 9), []);
        assert_eq!(lines(b"\xffx\n", 1, 1), [one(1, "\u{fffd}x")]);
        let long = [vec![b'x'; 200_000], b"\nend".to_vec()].concat();
        let found = lines(&long, 1, 2);
        assert_eq!((found[0].1.len(), found[0].2), (SHOWN, true));
        assert_eq!(found[1], one(2, "end"));
        let binary = read(Box::new(io::Cursor::new(b"PK\x03\x04\0\0".to_vec())), 1, 3).unwrap();
        assert!(binary.binary && binary.lines.is_empty());
    }
}
