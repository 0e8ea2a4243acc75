//! Trimming: the details of what is old are forgotten.
//!
//! What is trimmed is looked for by readers, which nobody waits for. The writing thread
//! forgets it in pieces that are short in time, so that files are entered meanwhile.

use std::time::{Duration, Instant};

use jiff::Timestamp;
use rusqlite::{Connection, params};

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::state::State;
use crate::ledger::writer::Tx;
use crate::ledger::writes::HOWEVER_MANY;

/// How long the writing thread is busy with a piece; its commit comes on top.
const PIECE: Duration = Duration::from_millis(3);

/// Which entries are trimmed. The first of waiting repeats is not among them.
pub(crate) const TRIMMED: &str = "COALESCE(filed_at, ready_at) < ?1 AND in_drop = 0
    AND state IN ('filed', 'gone', 'passed over', 'adopted')
    AND NOT EXISTS (SELECT 1 FROM entry heir WHERE heir.repeat_of = entry.id
                      AND heir.state = 'repeat')";

/// Looks for the next rows that may be trimmed, behind one of this number, and gives where
/// they stand.
type Next = fn(&Connection, i64, i64) -> rusqlite::Result<Vec<i64>>;

/// Forgets a row, when it still may be; gives whether it was.
type Forget = fn(&mut Tx<'_>, i64, i64) -> rusqlite::Result<bool>;

impl Ledger {
    /// Forgets the details of entries whose life ended before `before` and whose file
    /// lies in no drop folder; their identities are kept, so that none is worked
    /// again. `progress` is told how many are done. Gives how many there were.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn trim(
        &self,
        before: Timestamp,
        mut progress: impl FnMut(u64),
    ) -> Result<u64, LedgerError> {
        let before = before.as_millisecond();
        let trimmed = self.forget_all(before, entries, forget_entry, &mut progress)?;
        self.forget_all(before, batches, forget_batch, &mut |_| {})?;
        self.forget_all(before, outputs, forget_output, &mut |_| {})?;
        Ok(trimmed)
    }

    fn forget_all(
        &self,
        before: i64,
        next: Next,
        forget: Forget,
        progress: &mut dyn FnMut(u64),
    ) -> Result<u64, LedgerError> {
        let (mut behind, mut all) = (0, 0);
        loop {
            let found = self.read(|reader| next(reader, before, behind).map_err(reading))?;
            let Some(last) = found.last() else { return Ok(all) };
            behind = *last;
            let mut left = found;
            while !left.is_empty() {
                let begun = Instant::now();
                let (count, rest) = self
                    .submit_many(HOWEVER_MANY, move |tx| {
                        piece(tx, before, left, forget).map_err(writing)
                    })?
                    .wait()?;
                left = rest;
                all += count;
                progress(all);
                // Others have as much of the thread and of the disk as this.
                std::thread::sleep(begun.elapsed());
            }
        }
    }

    /// How many entries [`Ledger::trim`] would trim.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn would_trim(&self, before: Timestamp) -> Result<u64, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(&format!("SELECT COUNT(*) FROM entry WHERE {TRIMMED}"))
                .and_then(|mut select| {
                    select.query_row([before.as_millisecond()], |row| row.get::<_, i64>(0))
                })
                .map(i64::cast_unsigned)
                .map_err(reading)
        })
    }
}

/// Forgets as many rows as there is time for; gives how many they were, and those that are
/// left.
fn piece(
    tx: &mut Tx<'_>,
    before: i64,
    mut ids: Vec<i64>,
    forget: Forget,
) -> rusqlite::Result<(u64, Vec<i64>)> {
    let begun = Instant::now();
    let (mut count, mut done) = (0, 0);
    for id in &ids {
        count += u64::from(forget(tx, before, *id)?);
        done += 1;
        if begun.elapsed() > PIECE {
            break;
        }
    }
    Ok((count, ids.split_off(done)))
}

fn ids(reader: &Connection, sql: &str, before: i64, behind: i64) -> rusqlite::Result<Vec<i64>> {
    reader.prepare_cached(sql)?.query_map([before, behind], |row| row.get(0))?.collect()
}

fn entries(reader: &Connection, before: i64, behind: i64) -> rusqlite::Result<Vec<i64>> {
    let sql = format!("SELECT id FROM entry WHERE {TRIMMED} AND id > ?2 ORDER BY id LIMIT 2000");
    ids(reader, &sql, before, behind)
}

fn forget_entry(tx: &mut Tx<'_>, before: i64, id: i64) -> rusqlite::Result<bool> {
    let found = tx
        .connection
        .prepare_cached(&format!("SELECT gate, state FROM entry WHERE {TRIMMED} AND id = ?2"))?
        .query_map([before, id], |row| Ok((row.get(0)?, row.get(1)?)))?
        .next()
        .transpose()?;
    let Some((gate, state)): Option<(String, String)> = found else { return Ok(false) };
    tx.run(
        "INSERT OR REPLACE INTO kept (space, identity, entry, at)
         SELECT space, identity, id, COALESCE(worked_at, ready_at) FROM entry
         WHERE id = ? AND identity IS NOT NULL",
        [id],
    )?;
    for sql in [
        "DELETE FROM history WHERE entry = ?",
        "DELETE FROM part WHERE entry = ?",
        "DELETE FROM entry WHERE id = ?",
    ] {
        tx.run(sql, [id])?;
    }
    if let Some(state) = State::of(&state) {
        tx.uncount(&gate, state);
    }
    Ok(true)
}

fn batches(reader: &Connection, before: i64, behind: i64) -> rusqlite::Result<Vec<i64>> {
    ids(
        reader,
        "SELECT id FROM batch WHERE begun_at < ?1 AND ended_at IS NOT NULL AND id > ?2
           AND NOT EXISTS (SELECT 1 FROM part WHERE part.batch = batch.id)
         ORDER BY id LIMIT 2000",
        before,
        behind,
    )
}

fn forget_batch(tx: &mut Tx<'_>, before: i64, id: i64) -> rusqlite::Result<bool> {
    let sql = "DELETE FROM batch WHERE id = ?2 AND begun_at < ?1 AND ended_at IS NOT NULL
                 AND NOT EXISTS (SELECT 1 FROM part WHERE part.batch = batch.id)
                 AND NOT EXISTS (SELECT 1 FROM entry WHERE entry.batch = batch.id
                                   AND entry.state = 'working')";
    Ok(tx.run(sql, params![before, id])? > 0)
}

/// Outputs of batches that were forgotten; when they were made is no matter.
fn outputs(reader: &Connection, before: i64, behind: i64) -> rusqlite::Result<Vec<i64>> {
    ids(
        reader,
        "SELECT id FROM output WHERE published_at IS NOT NULL AND id > ?2
           AND NOT EXISTS (SELECT 1 FROM batch WHERE batch.id = output.batch)
         ORDER BY id LIMIT 2000",
        before,
        behind,
    )
}

fn forget_output(tx: &mut Tx<'_>, _: i64, id: i64) -> rusqlite::Result<bool> {
    let sql = "DELETE FROM output WHERE id = ? AND published_at IS NOT NULL
                 AND NOT EXISTS (SELECT 1 FROM batch WHERE batch.id = output.batch)";
    Ok(tx.run(sql, [id])? > 0)
}
