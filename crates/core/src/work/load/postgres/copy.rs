//! COPY of rows: in its text format (PostgreSQL's documentation of COPY, "Text Format"), a
//! line for each row, a tab between cells, `\N` for nothing; or in its binary one, where rows
//! are many and the server's types are known.

use std::collections::VecDeque;
use std::io::{self, Write};

use postgres::Client;
use vadegate_tables::Cell;

use crate::work::load::block::Block;
use crate::work::load::destination::{DbError, Job, Refusal, RejectedRow, Written};
use crate::work::load::postgres::binary::{self, END, HEADER, Unfit, Wire, wires};
use crate::work::load::postgres::words::{away, told};

/// Bytes that are handed to the driver at once, about.
const PIECE: usize = 256 * 1024;

/// With fewer cells in the first block it is not worth asking for the types.
const MANY: usize = 4096;

/// Writes the rows into a table, or gives the row that the server refuses.
pub(crate) fn copy(
    client: &mut Client,
    table: &str,
    job: &Job,
    blocks: &mut dyn Iterator<Item = Block>,
) -> Result<Written, DbError> {
    let sql = format!("COPY {table} ({}) FROM STDIN", job.names());
    if let Some(most) = job.aside_up_to {
        return copy_apart(client, &sql, blocks, most);
    }
    let mut blocks = blocks.peekable();
    let many = blocks.peek().is_some_and(|first| first.cells.len() >= MANY);
    let wires = if many { wires(client, table, job)? } else { None };
    let (sql, piece) = match wires {
        Some(wires) => (format!("{sql} (FORMAT binary)"), Piece::Binary(HEADER.to_vec(), wires)),
        None => (sql, Piece::Text(String::with_capacity(PIECE + PIECE / 8))),
    };
    let how = if matches!(piece, Piece::Text(_)) { "text" } else { "their types" };
    tracing::debug!(table, "rows are sent as {how}");
    copy_all(client, &sql, job, &mut blocks, piece)
}

/// Rows on their way to the driver.
enum Piece {
    Text(String),
    Binary(Vec<u8>, Vec<Wire>),
}

impl Piece {
    fn add(&mut self, block: &Block, row: usize) -> Result<(), Unfit> {
        match self {
            Piece::Text(text) => encode(text, block, row),
            Piece::Binary(bytes, wires) => return binary::encode(bytes, block, row, wires),
        }
        Ok(())
    }

    /// Adds what stands behind all rows.
    fn end(&mut self) {
        if let Piece::Binary(bytes, _) = self {
            bytes.extend_from_slice(END);
        }
    }

    fn bytes(&self) -> &[u8] {
        match self {
            Piece::Text(text) => text.as_bytes(),
            Piece::Binary(bytes, _) => bytes,
        }
    }

    fn clear(&mut self) {
        match self {
            Piece::Text(text) => text.clear(),
            Piece::Binary(bytes, _) => bytes.clear(),
        }
    }
}

/// Which row stands on which line of a COPY, kept as runs of rows that follow each
/// other.
#[derive(Default)]
struct Lines {
    /// First line of a run, its table, and its first row.
    runs: VecDeque<(u64, usize, u64)>,
    lines: u64,
}

/// Runs that are remembered: of a table with line breaks in its cells each row may be
/// one, and the server tells of a row soon after it was sent.
const RUNS: usize = 65_536;

impl Lines {
    fn add(&mut self, table: usize, row: u64) {
        self.lines += 1;
        if let Some((first, known, begins)) = self.runs.back()
            && *known == table
            && begins + (self.lines - first) == row
        {
            return;
        }
        if self.runs.len() == RUNS {
            self.runs.pop_front();
        }
        self.runs.push_back((self.lines, table, row));
    }

    fn row(&self, line: u64) -> Option<(usize, u64)> {
        let run = self.runs.iter().rev().find(|(first, ..)| *first <= line);
        run.map(|(first, table, row)| (*table, row + (line - first)))
    }
}

/// One COPY for all rows.
fn copy_all(
    client: &mut Client,
    sql: &str,
    job: &Job,
    blocks: &mut dyn Iterator<Item = Block>,
    mut piece: Piece,
) -> Result<Written, DbError> {
    let mut lines = Lines::default();
    let write = || -> Result<u64, Failed> {
        let mut writer = client.copy_in(sql)?;
        for block in blocks {
            for (row, number) in block.numbers.iter().enumerate() {
                let added = piece.add(&block, row);
                added.map_err(|unfit| refusal(job, unfit, (block.table, *number)))?;
                lines.add(block.table, *number);
            }
            if piece.bytes().len() >= PIECE {
                send(&mut writer, piece.bytes())?;
                piece.clear();
            }
        }
        piece.end();
        send(&mut writer, piece.bytes())?;
        Ok(writer.finish()?)
    };
    match write().map_err(Failed::told) {
        Ok(rows) => Ok(Written { rows, aside: Vec::new() }),
        Err((DbError::Refused(refusal), line)) => {
            let at = line.and_then(|line| lines.row(line)).or(refusal.at);
            Err(DbError::Refused(Refusal { at, ..refusal }))
        }
        Err((other, _)) => Err(other),
    }
}

/// The refusal of a row that cannot be sent, as the server would tell it.
fn refusal(job: &Job, unfit: Unfit, at: (usize, u64)) -> Failed {
    let column = job.columns.get(unfit.column).map(|head| head.name.clone());
    Failed::Unfit(Refusal { why: unfit.words(), at: Some(at), column, value: Some(unfit.value) })
}

/// A COPY for each block, each in a savepoint: a row that is refused is left out, and
/// the block sent again.
fn copy_apart(
    client: &mut Client,
    sql: &str,
    blocks: &mut dyn Iterator<Item = Block>,
    most: u64,
) -> Result<Written, DbError> {
    let mut written = Written::default();
    for block in blocks {
        let mut rows: Vec<usize> = (0..block.len()).collect();
        loop {
            client.batch_execute("SAVEPOINT piece").map_err(away)?;
            let mut piece = String::new();
            rows.iter().for_each(|row| encode(&mut piece, &block, *row));
            let mut write = || -> Result<u64, Failed> {
                let mut writer = client.copy_in(sql)?;
                send(&mut writer, piece.as_bytes())?;
                Ok(writer.finish()?)
            };
            let (refusal, line) = match write().map_err(Failed::told) {
                Ok(count) => {
                    client.batch_execute("RELEASE piece").map_err(away)?;
                    written.rows += count;
                    break;
                }
                Err((DbError::Refused(refusal), line)) => (refusal, line),
                Err((other, _)) => return Err(other),
            };
            let place = line.and_then(|line| usize::try_from(line).ok());
            let place = place.and_then(|line| line.checked_sub(1)).filter(|at| *at < rows.len());
            client.batch_execute("ROLLBACK TO piece; RELEASE piece").map_err(away)?;
            let Some(row) = place.map(|place| rows.remove(place)) else {
                return Err(DbError::Refused(refusal));
            };
            let refusal = Refusal { at: Some((block.table, block.numbers[row])), ..refusal };
            if written.aside.len() as u64 >= most {
                return Err(DbError::Refused(refusal));
            }
            let values = block.row(row).map(|cell| cell.to_text()).collect();
            written.aside.push(RejectedRow { refusal, values });
        }
    }
    Ok(written)
}

/// Why rows could not be sent.
enum Failed {
    Server(postgres::Error),
    Sending(io::Error),
    Unfit(Refusal),
}

impl From<postgres::Error> for Failed {
    fn from(error: postgres::Error) -> Self {
        Failed::Server(error)
    }
}

impl From<io::Error> for Failed {
    fn from(error: io::Error) -> Self {
        // The driver wraps its own errors for `Write`.
        error.downcast().map_or_else(Failed::Sending, Failed::Server)
    }
}

impl Failed {
    /// It in words, and the line that it is about.
    fn told(self) -> (DbError, Option<u64>) {
        match self {
            Failed::Server(error) => {
                let line = line_of(&error);
                (told(error), line)
            }
            Failed::Sending(error) => (DbError::Away(error.to_string()), None),
            Failed::Unfit(refusal) => (DbError::Refused(refusal), None),
        }
    }
}

fn send(writer: &mut postgres::CopyInWriter<'_>, piece: &[u8]) -> io::Result<()> {
    if piece.is_empty() {
        return Ok(());
    }
    writer.write_all(piece)?;
    writer.flush()
}

/// The line of a COPY that an error is about.
fn line_of(error: &postgres::Error) -> Option<u64> {
    let place = error.as_db_error()?.where_()?;
    let (_, after) = place.rsplit_once(", line ")?;
    let digits: String = after.chars().take_while(char::is_ascii_digit).collect();
    digits.parse().ok()
}

/// Writes a row as a line.
fn encode(out: &mut String, block: &Block, row: usize) {
    for (at, cell) in block.row(row).enumerate() {
        if at > 0 {
            out.push('\t');
        }
        match &cell {
            Cell::Nothing => out.push_str("\\N"),
            Cell::Text(text) | Cell::Decimal(text) | Cell::Error(text) => escape(out, text),
            // What is no text has nothing in it that needs to be escaped.
            other => other.write_to(out),
        }
    }
    out.push('\n');
}

fn escape(out: &mut String, text: &str) {
    let mut rest = text;
    // All of them are letters of one byte.
    while let Some(at) = rest.bytes().position(|byte| matches!(byte, b'\\' | b'\n' | b'\r' | b'\t'))
    {
        out.push_str(&rest[..at]);
        out.push_str(match rest.as_bytes()[at] {
            b'\n' => "\\n",
            b'\r' => "\\r",
            b'\t' => "\\t",
            _ => "\\\\",
        });
        rest = &rest[at + 1..];
    }
    out.push_str(rest);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::work::load::postgres::words::place;
    use proptest::prelude::*;

    #[test]
    fn lines_are_rows_again() {
        let mut lines = Lines::default();
        for row in [2, 3, 5, 6, 9] {
            lines.add(0, row);
        }
        lines.add(1, 10);
        let rows: Vec<_> = (1..=6).filter_map(|line| lines.row(line)).collect();
        assert_eq!(rows, [(0, 2), (0, 3), (0, 5), (0, 6), (0, 9), (1, 10)]);
        assert_eq!(lines.runs.len(), 4);
    }

    proptest! {
        #[test]
        fn every_line_is_its_row_however_rows_are_left_out(
            rows in prop::collection::vec((0usize..3, 1u64..5), 1..200),
        ) {
            let (mut lines, mut all) = (Lines::default(), Vec::new());
            let (mut table, mut row) = (0, 1);
            for (next_table, step) in rows {
                // Tables come one after the other, rows go up in each.
                if next_table == 2 {
                    (table, row) = (table + 1, 1);
                }
                row += step;
                lines.add(table, row);
                all.push((table, row));
            }
            for (at, expected) in all.iter().enumerate() {
                prop_assert_eq!(lines.row(at as u64 + 1), Some(*expected));
            }
        }

        #[test]
        fn what_is_escaped_is_one_cell_and_can_be_read_again(text in "[\\x00-\\x7fü🌊]{0,40}") {
            let mut out = String::new();
            escape(&mut out, &text);
            prop_assert!(!out.contains(['\t', '\n', '\r']));
            let mut read = Vec::new();
            let mut bytes = out.into_bytes().into_iter();
            while let Some(byte) = bytes.next() {
                read.push(match byte {
                    b'\\' => match bytes.next() {
                        Some(b'n') => b'\n',
                        Some(b'r') => b'\r',
                        Some(b't') => b'\t',
                        other => other.unwrap(),
                    },
                    other => other,
                });
            }
            prop_assert_eq!(read, text.into_bytes());
        }
    }

    #[test]
    fn the_servers_words_name_column_and_value() {
        let told = place("COPY waves, line 3, column height_m: \"x: y\"");
        assert_eq!(told, (Some("height_m".into()), Some("x: y".into())));
        assert_eq!(place("COPY waves, line 3"), (None, None));
    }

    #[test]
    fn what_parts_rows_and_cells_is_escaped() {
        let mut out = String::new();
        escape(&mut out, "a\tb\\c\nd\re");
        assert_eq!(out, "a\\tb\\\\c\\nd\\re");
    }
}
