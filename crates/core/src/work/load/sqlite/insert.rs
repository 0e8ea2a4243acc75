//! Inserts: a block with one statement, fewer rows where one is refused.

use std::sync::Arc;

use rusqlite::Connection;
use vadegate_tables::Kind;

use crate::work::load::block::Block;
use crate::work::load::config::Mode;
use crate::work::load::destination::{
    DbError, Job, Refusal, RejectedRow, Written, parts, quoted_table,
};
use crate::work::load::sqlite::given::{GivenTables, Giving};
use crate::work::load::sqlite::words::{away, is_refusal, keeps_numbers, word};

/// What of a refused piece is tried next where nobody can say which row it is.
const PART: usize = 8;

/// Inserts rows, many at once where nothing is wrong with them.
struct Inserting<'c> {
    connection: &'c Connection,
    giving: Arc<Giving>,
    sql: String,
    /// Of each column whether it keeps decimals as numbers.
    numeric: Arc<[bool]>,
    upsert: bool,
    /// Rows that the next statement inserts.
    rows: usize,
}

impl<'c> Inserting<'c> {
    fn new(connection: &'c Connection, giving: Arc<Giving>, job: &Job) -> Result<Self, DbError> {
        let upsert = job.mode == Mode::Upsert;
        // Without a condition `ON` would be taken for one of a join.
        let conflict =
            if upsert { format!("WHERE true {}", job.on_conflict()) } else { String::new() };
        let (table, names) = (quoted_table(&job.table), job.names());
        let given = GivenTables::select(job.columns.len());
        let sql = format!("INSERT INTO {table} ({names}) {given} {conflict}");
        let numeric = numeric(connection, job).map_err(away)?;
        Ok(Inserting { connection, giving, sql, numeric, upsert, rows: usize::MAX })
    }

    /// Writes the rows of one block.
    fn block(&mut self, block: Block, job: &Job, written: &mut Written) -> Result<(), DbError> {
        let block = Arc::new(block);
        let mut insert = self.connection.prepare_cached(&self.sql).map_err(away)?;
        let mut from = 0;
        while from < block.len() {
            let to = from.saturating_add(self.rows).min(block.len());
            self.giving.give(&block, from..to, &self.numeric);
            let error = match insert.execute([]) {
                Ok(rows) => {
                    // Where there is nothing but the key there is nothing to change.
                    written.rows += if self.upsert { to - from } else { rows } as u64;
                    (from, self.rows) = (to, self.rows.saturating_mul(2));
                    continue;
                }
                Err(error) => error,
            };
            if !is_refusal(&error) {
                return Err(away(error));
            }
            let refused = self.giving.reading();
            let known = (from..to).contains(&refused);
            from = self.after_kept(&error, (from, refused.min(to)), known, written)?;
            if to - from > 1 && refused != from {
                let before = if known { refused - from } else { (to - from) / PART };
                self.rows = before.max(1);
                self.still_open(&error, &block, refused)?;
                continue;
            }
            self.still_open(&error, &block, from)?;
            written.aside.push(rejected(&block, from, &error, job, written)?);
            from += 1;
        }
        Ok(())
    }

    /// Where it goes on after a refused statement. What a rule of the table leaves of it (`ON
    /// CONFLICT FAIL`) stands, and is not sent again; how far that is must be known.
    fn after_kept(
        &self,
        error: &rusqlite::Error,
        (from, refused): (usize, usize),
        known: bool,
        written: &mut Written,
    ) -> Result<usize, DbError> {
        let kept = self.connection.changes();
        written.rows += kept;
        match (kept, known) {
            (0, _) => Ok(from),
            (_, true) => Ok(refused),
            (_, false) => {
                let why = format!(
                    "{error}; a trigger leaves what came before it (FAIL), and how much that is cannot be told: say ABORT there"
                );
                Err(DbError::Refused(Refusal { why, ..Refusal::default() }))
            }
        }
    }

    /// Fails where a rule of the table rolled back all that was loaded (`ON CONFLICT ROLLBACK`):
    /// whatever came next would stand by itself.
    fn still_open(
        &self,
        error: &rusqlite::Error,
        block: &Block,
        row: usize,
    ) -> Result<(), DbError> {
        if !self.connection.is_autocommit() {
            return Ok(());
        }
        let why = format!(
            "{error}; the table's rule for it ends the whole load (ROLLBACK); with ABORT only this row would be refused"
        );
        let at = block.numbers.get(row).map(|number| (block.table, *number));
        Err(DbError::Refused(Refusal { why, at, ..Refusal::default() }))
    }
}

impl Drop for Inserting<'_> {
    fn drop(&mut self) {
        self.giving.end();
    }
}

/// A row that is set aside, if it may be.
fn rejected(
    block: &Block,
    row: usize,
    error: &rusqlite::Error,
    job: &Job,
    written: &Written,
) -> Result<RejectedRow, DbError> {
    let at = Some((block.table, block.numbers[row]));
    let refusal = Refusal { why: error.to_string(), at, ..Refusal::default() };
    if job.aside_up_to.is_none_or(|most| written.aside.len() as u64 >= most) {
        return Err(DbError::Refused(refusal));
    }
    let values = block.row(row).map(|cell| cell.to_text()).collect();
    Ok(RejectedRow { refusal, values })
}

/// Of each column that is written whether it keeps decimals as numbers.
fn numeric(connection: &Connection, job: &Job) -> rusqlite::Result<Arc<[bool]>> {
    if job.columns.iter().all(|head| head.kind != Kind::Decimal) {
        return Ok(vec![false; job.columns.len()].into());
    }
    let (schema, name) = parts(&job.table);
    let schema = schema.unwrap_or_else(|| "main".to_owned());
    let mut select =
        connection.prepare_cached("SELECT name, type FROM pragma_table_xinfo(?, ?)")?;
    let declared = select.query_map([&name, &schema], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let declared = declared.collect::<rusqlite::Result<Vec<(String, String)>>>()?;
    let keeps =
        |name: &String| declared.iter().any(|(column, kind)| column == name && keeps_numbers(kind));
    Ok(job.columns.iter().map(|head| keeps(&head.name)).collect())
}

pub(crate) fn write_rows(
    connection: &Connection,
    giving: &Arc<Giving>,
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
    let mut inserting = Inserting::new(connection, Arc::clone(giving), job)?;
    let mut written = Written::default();
    for block in blocks {
        inserting.block(block, job, &mut written)?;
    }
    Ok(written)
}
