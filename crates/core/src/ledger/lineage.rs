//! How files hang together: what was made of an entry, and of what an entry was made.

use rusqlite::{Connection, OptionalExtension, params};

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::outputs::output;
use crate::ledger::rows::time;
use crate::ledger::transitions::as_i64;
use crate::ledger::types::{Batch, Entry, Origin, Output};

/// So many outputs of an entry are told.
const OUTPUTS: u64 = 1000;

impl Ledger {
    /// A batch, with those of its outputs that were made of this entry.
    pub(crate) fn batch(&self, id: BatchId, entry: EntryId) -> Result<Option<Batch>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Option<Batch>> {
                let batch = reader
                    .prepare_cached(
                        "SELECT id, work, attempt, begun_at, ended_at, outcome, words,
                           MAX((SELECT COUNT(*) FROM part WHERE batch = batch.id),
                             (SELECT COUNT(*) FROM entry WHERE batch = batch.id AND state = 'working'))
                         FROM batch WHERE id = ?",
                    )?
                    .query_row([id], |row| {
                        Ok(Batch {
                            id: row.get(0)?,
                            work: row.get(1)?,
                            attempt: row.get(2)?,
                            begun_at: time(row.get(3)?),
                            ended_at: row.get::<_, Option<i64>>(4)?.map(time),
                            outcome: row.get(5)?,
                            words: row.get(6)?,
                            entries: row.get::<_, i64>(7)?.cast_unsigned(),
                            outputs: Vec::new(),
                            outputs_count: 0,
                        })
                    })
                    .optional()?;
                let Some(mut batch) = batch else { return Ok(None) };
                let mut select = reader.prepare_cached(
                    "SELECT path, mode, bytes, rows, sha256, published_at, role, account, proof
                     FROM output WHERE batch = ?1 AND COALESCE(entry, ?2) = ?2 ORDER BY id LIMIT ?3",
                )?;
                let values = params![id, entry, as_i64(OUTPUTS)];
                batch.outputs = select.query_map(values, output)?.collect::<Result<_, _>>()?;
                batch.outputs_count = batch.outputs.len() as u64;
                if batch.outputs_count == OUTPUTS {
                    batch.outputs_count = reader
                        .prepare_cached(
                            "SELECT COUNT(*) FROM output WHERE batch = ?1 AND COALESCE(entry, ?2) = ?2",
                        )?
                        .query_row(params![id, entry], |row| row.get::<_, i64>(0))?
                        .cast_unsigned();
                }
                let handed = batch.outputs.iter_mut().filter(|one| one.role.is_handed_over());
                for output in handed {
                    output.became = became(reader, output)?;
                }
                Ok(Some(batch))
            };
            query().map_err(reading)
        })
    }

    /// Of what an entry was made: the newest output that came to its place with its bytes.
    pub(crate) fn origin(&self, entry: &Entry) -> Result<Option<Origin>, LedgerError> {
        let place = format!("{}/{}", entry.drop, entry.path);
        self.read(|reader| {
            let query = || -> rusqlite::Result<Option<Origin>> {
                let mut select = reader.prepare_cached(
                    "SELECT b.gate, o.batch, o.entry, e.path, o.role
                     FROM output o JOIN batch b ON b.id = o.batch LEFT JOIN entry e ON e.id = o.entry
                     WHERE o.path = ? AND o.sha256 = ? AND o.mode <> 'leave'
                       AND o.published_at IS NOT NULL AND COALESCE(o.entry, 0) <> ?
                     ORDER BY o.id DESC LIMIT 1",
                )?;
                let origin = |row: &rusqlite::Row<'_>| {
                    Ok(Origin {
                        gate: row.get(0)?,
                        batch: row.get(1)?,
                        entry: row.get(2)?,
                        path: row.get(3)?,
                        role: row.get(4)?,
                    })
                };
                select.query_row(params![place, entry.sha256, entry.id], origin).optional()
            };
            query().map_err(reading)
        })
    }
}

/// The entry that an output became, at the gate that took it.
pub(crate) fn became(reader: &Connection, output: &Output) -> rusqlite::Result<Option<EntryId>> {
    let Some(sum) = output.sha256.as_deref().and_then(Sha256::from_hex) else { return Ok(None) };
    let mut select = reader.prepare_cached(
        "SELECT MAX(id) FROM (
           SELECT id FROM entry WHERE space IN (SELECT name FROM space) AND identity = ?1
             AND drop_folder || '/' || path = ?2
           UNION ALL
           SELECT id FROM entry WHERE sha256 = ?1 AND identity IS NOT sha256
             AND drop_folder || '/' || path = ?2)",
    )?;
    select.query_row(params![sum, output.path], |row| row.get(0))
}
