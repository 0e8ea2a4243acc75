//! Prepared inserts: many rows in one statement, one by one where one is refused.

use std::fmt::Write;
use std::ops::Range;

use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{CachedStatement, Connection, Statement, ToSql};
use vadegate_tables::Cell;

use crate::work::load::block::Block;
use crate::work::load::config::Mode;
use crate::work::load::destination::{DbError, Job, Refusal, RejectedRow, Written, quoted_table};
use crate::work::load::sqlite::words::{away, is_refusal, word};

/// A cell as SQLite keeps it: dates and times as ISO 8601 text with a space between
/// them, truth as 0 and 1.
struct Bound<'a> {
    cell: &'a Cell<'a>,
    /// The text of a date or time.
    text: &'a str,
}

impl<'a> Bound<'a> {
    /// With room for its text.
    fn new(cell: &'a Cell<'a>, room: &'a mut String) -> Self {
        room.clear();
        // Writing to a String does not fail.
        let _ = match cell {
            Cell::Date(date) => write!(room, "{date}"),
            Cell::Time(time) => write!(room, "{time}"),
            Cell::Timestamp(time) => write!(room, "{} {}", time.date(), time.time()),
            _ => Ok(()),
        };
        Bound { cell, text: room }
    }
}

impl ToSql for Bound<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self.cell {
            Cell::Nothing => ToSqlOutput::Borrowed(ValueRef::Null),
            Cell::Text(text) | Cell::Decimal(text) | Cell::Error(text) => {
                ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes()))
            }
            Cell::Integer(number) => ToSqlOutput::Owned(Value::Integer(*number)),
            Cell::Real(number) => ToSqlOutput::Owned(Value::Real(*number)),
            Cell::Boolean(value) => ToSqlOutput::Owned(Value::Integer((*value).into())),
            Cell::Date(_) | Cell::Time(_) | Cell::Timestamp(_) => {
                ToSqlOutput::Borrowed(ValueRef::Text(self.text.as_bytes()))
            }
        })
    }
}

/// Rows that one statement inserts: what a statement costs by itself is shared by them.
const ROWS: usize = 64;
/// Values that one statement may have (SQLite's own bound, `SQLITE_MAX_VARIABLE_NUMBER`).
const VALUES: usize = 32_766;

/// Inserts rows, many at once where nothing is wrong with them.
struct Inserting<'c> {
    connection: &'c Connection,
    /// For so many rows; made when there are so many.
    many: Option<CachedStatement<'c>>,
    rows: usize,
    one: Option<CachedStatement<'c>>,
    upsert: bool,
}

impl<'c> Inserting<'c> {
    fn new(connection: &'c Connection, job: &Job) -> Self {
        let rows = (VALUES / job.columns.len().max(1)).clamp(1, ROWS);
        let upsert = job.mode == Mode::Upsert;
        Inserting { connection, many: None, rows, one: None, upsert }
    }

    /// The statement for so many rows, which the connection keeps for the next load.
    fn prepared(&self, job: &Job, rows: usize) -> Result<CachedStatement<'c>, DbError> {
        let marks = format!("({})", vec!["?"; job.columns.len()].join(", "));
        let values = vec![marks.as_str(); rows].join(", ");
        let conflict = if self.upsert { job.on_conflict() } else { String::new() };
        let (table, names) = (quoted_table(&job.table), job.names());
        let sql = format!("INSERT INTO {table} ({names}) VALUES {values} {conflict}");
        self.connection.prepare_cached(&sql).map_err(away)
    }

    /// Writes the rows of one block.
    fn block(&mut self, block: &Block, job: &Job, written: &mut Written) -> Result<(), DbError> {
        let mut row = 0;
        while row + self.rows <= block.len() {
            let mut many = match self.many.take() {
                Some(many) => many,
                None => self.prepared(job, self.rows)?,
            };
            let inserted = insert(&mut many, block, row..row + self.rows);
            self.many = Some(many);
            match inserted {
                Ok(rows) => written.rows += if self.upsert { self.rows as u64 } else { rows },
                // Which of them it is shows when they come one by one.
                Err(error) if is_refusal(&error) => {
                    self.one_by_one(block, row..row + self.rows, job, written)?;
                }
                Err(error) => return Err(away(error)),
            }
            row += self.rows;
        }
        self.one_by_one(block, row..block.len(), job, written)
    }

    fn one_by_one(
        &mut self,
        block: &Block,
        rows: Range<usize>,
        job: &Job,
        written: &mut Written,
    ) -> Result<(), DbError> {
        let mut one = match self.one.take() {
            Some(one) => one,
            None if rows.is_empty() => return Ok(()),
            None => self.prepared(job, 1)?,
        };
        for row in rows {
            match insert(&mut one, block, row..row + 1) {
                // Where there is nothing but the key there is nothing to change.
                Ok(rows) => written.rows += if self.upsert { 1 } else { rows },
                Err(error) if is_refusal(&error) => {
                    let at = Some((block.table, block.numbers[row]));
                    let refusal = Refusal { why: error.to_string(), at, ..Refusal::default() };
                    if job.aside_up_to.is_none_or(|most| written.aside.len() as u64 >= most) {
                        return Err(DbError::Refused(refusal));
                    }
                    let values = block.row(row).map(|cell| cell.to_text()).collect();
                    written.aside.push(RejectedRow { refusal, values });
                }
                Err(error) => return Err(away(error)),
            }
        }
        self.one = Some(one);
        Ok(())
    }
}

/// Gives how many rows were written, as SQLite counts them.
fn insert(
    statement: &mut Statement<'_>,
    block: &Block,
    rows: Range<usize>,
) -> rusqlite::Result<u64> {
    let mut room = String::new();
    for (at, cell) in rows.flat_map(|row| block.row(row)).enumerate() {
        statement.raw_bind_parameter(at + 1, Bound::new(&cell, &mut room))?;
    }
    statement.raw_execute().map(|rows| rows as u64)
}

pub(crate) fn write_rows(
    connection: &Connection,
    job: &Job,
    blocks: &mut dyn Iterator<Item = Block>,
) -> Result<Written, DbError> {
    if job.create {
        connection.execute_batch(&job.create(word)).map_err(away)?;
    }
    if job.mode == Mode::Replace {
        let delete = format!("DELETE FROM {}", quoted_table(&job.table));
        connection.execute_batch(&delete).map_err(away)?;
    }
    let mut inserting = Inserting::new(connection, job);
    let mut written = Written::default();
    for block in blocks {
        inserting.block(&block, job, &mut written)?;
    }
    Ok(written)
}
