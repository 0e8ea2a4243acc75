//! Files that were removed by a rule, or by a person: planned before they go, and told after.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::files::sha256::Sha256;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::ids::{EntryId, RemovalId};
use crate::ledger::people::By;
use crate::ledger::rows::time;
use crate::ledger::state::{Cause, State};
use crate::ledger::transitions::as_i64;
use crate::ledger::writer::{Ticket, Tx};

/// A file that was removed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Removal {
    /// Its number; they only grow.
    pub id: RemovalId,
    /// The rule, or the folder that a person named.
    pub rule: String,
    /// What it was.
    pub path: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was modified last.
    #[schema(value_type = String, format = DateTime)]
    pub modified: Timestamp,
    /// Its SHA-256, where it was known.
    #[schema(value_type = Option<String>)]
    pub sha256: Option<Sha256>,
    /// The entry of which it was the file.
    pub entry: Option<EntryId>,
    /// Where it was moved instead.
    pub moved_to: Option<String>,
    /// Who said so.
    pub who: String,
    /// Why.
    pub why: String,
    /// When it went; none when nobody knows whether it did.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub removed_at: Option<Timestamp>,
}

/// A file that is to be removed.
#[derive(Debug, Clone)]
pub(crate) struct PlannedRemoval {
    pub path: String,
    pub bytes: u64,
    pub modified_ns: i64,
    pub sha256: Option<Sha256>,
    pub entry: Option<EntryId>,
    pub moved_to: Option<String>,
}

/// A file that is gone.
#[derive(Debug, Clone)]
pub(crate) struct EndedRemoval {
    pub id: RemovalId,
    pub entry: Option<EntryId>,
    /// Where it lies now.
    pub moved_to: Option<String>,
}

impl EndedRemoval {
    /// Whether nothing is told of it but that it is gone.
    fn is_plain(&self) -> bool {
        self.entry.is_none() && self.moved_to.is_none()
    }
}

impl Ledger {
    /// Records what is to be removed; gives the numbers, which follow one another.
    pub(crate) fn plan_removals(
        &self,
        rule: &str,
        by: &By,
        files: Vec<PlannedRemoval>,
    ) -> Result<Ticket<Vec<RemovalId>>, LedgerError> {
        let (rule, by) = (rule.to_owned(), by.clone());
        self.submit_many(files.len(), move |tx| {
            let write = || -> rusqlite::Result<Vec<RemovalId>> {
                let mut insert = tx.connection.prepare_cached(
                    "INSERT INTO removal (rule, path, bytes, modified_ns, sha256, entry, moved_to,
                       who, why, planned_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                )?;
                let mut ids = Vec::with_capacity(files.len());
                for file in &files {
                    insert.execute(params![
                        rule,
                        file.path,
                        as_i64(file.bytes),
                        file.modified_ns,
                        file.sha256,
                        file.entry,
                        file.moved_to,
                        by.who,
                        by.why,
                        tx.now
                    ])?;
                    ids.push(RemovalId::of(tx.connection.last_insert_rowid()));
                }
                Ok(ids)
            };
            write().map_err(writing)
        })
    }

    /// Records which of what was planned is gone, in the order of their numbers, and forgets
    /// the rest; entries whose file it was are told.
    pub(crate) fn end_removals(
        &self,
        gone: Vec<EndedRemoval>,
        stayed: Vec<RemovalId>,
    ) -> Result<Ticket<()>, LedgerError> {
        self.submit_many(gone.len(), move |tx| {
            // Most are nobody's, and stand side by side: they are written as one.
            for run in gone.chunk_by(|one, next| {
                one.is_plain() && next.is_plain() && next.id.number() == one.id.number() + 1
            }) {
                let [first, .., last] = run else {
                    end_one(tx, &run[0])?;
                    continue;
                };
                tx.run(
                    "UPDATE removal SET removed_at = ?3 WHERE id BETWEEN ?1 AND ?2",
                    params![first.id, last.id, tx.now],
                )
                .map_err(writing)?;
            }
            for id in &stayed {
                tx.run("DELETE FROM removal WHERE id = ?", [id]).map_err(writing)?;
            }
            Ok(())
        })
    }

    /// What was removed, newest first; those before `cursor`.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn removals(
        &self,
        rule: Option<&str>,
        cursor: Option<i64>,
        limit: u32,
    ) -> Result<Vec<Removal>, LedgerError> {
        self.select_removals(
            "SELECT id, rule, path, bytes, modified_ns, sha256, entry, moved_to, who, why, removed_at
             FROM removal WHERE id < ?1 AND rule = COALESCE(?2, rule) ORDER BY id DESC LIMIT ?3",
            params![cursor.unwrap_or(i64::MAX), rule, i64::from(limit.clamp(1, 1000))],
        )
    }

    /// What was planned, and of which nobody knows whether it went.
    pub(crate) fn unended_removals(&self) -> Result<Vec<Removal>, LedgerError> {
        self.select_removals(
            "SELECT id, rule, path, bytes, modified_ns, sha256, entry, moved_to, who, why, removed_at
             FROM removal INDEXED BY removal_planned WHERE removed_at IS NULL ORDER BY id",
            params![],
        )
    }

    fn select_removals(
        &self,
        statement: &str,
        values: &[&dyn rusqlite::ToSql],
    ) -> Result<Vec<Removal>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Removal>> {
                let mut select = reader.prepare_cached(statement)?;
                select.query_map(values, removal)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// When a rule ran last, in milliseconds since 1970.
    pub(crate) fn cleared_at(&self, rule: &str) -> Result<Option<i64>, LedgerError> {
        self.read(|reader| {
            let mut select = reader
                .prepare_cached("SELECT at FROM clear_run WHERE rule = ?")
                .map_err(reading)?;
            select.query_row([rule], |row| row.get(0)).optional().map_err(reading)
        })
    }

    /// Records that a rule has run, or that it is known from now on.
    pub(crate) fn has_cleared(&self, rule: &str) -> Result<(), LedgerError> {
        let rule = rule.to_owned();
        self.submit(move |tx| {
            tx.run(
                "INSERT INTO clear_run (rule, at) VALUES (?1, ?2)
                     ON CONFLICT DO UPDATE SET at = ?2",
                params![rule, tx.now],
            )
            .map(drop)
            .map_err(writing)
        })?
        .wait()
    }
}

/// Records that one is gone, also with the entry whose file it was.
fn end_one(tx: &mut Tx<'_>, gone: &EndedRemoval) -> Result<(), LedgerError> {
    let words: String = tx
        .one(
            "UPDATE removal SET removed_at = ?2, moved_to = ?3 WHERE id = ?1
             RETURNING rule || ': ' || why",
            params![gone.id, tx.now, gone.moved_to],
            |row| row.get(0),
        )
        .map_err(writing)?;
    let Some(entry) = gone.entry else { return Ok(()) };
    let found: Option<(String, State)> = tx
        .one(
            "UPDATE entry SET in_drop = 0, source = NULL, target = NULL WHERE id = ?
             RETURNING gate, state",
            [entry],
            |row| {
                let state: String = row.get(1)?;
                Ok((row.get(0)?, State::of(&state).unwrap_or(State::Filed)))
            },
        )
        .optional()
        .map_err(writing)?;
    if let Some((gate, state)) = found {
        let where_to = gone.moved_to.as_ref().map(|to| format!(", moved to {to}"));
        let words = format!("its file was cleared ({words}){}", where_to.unwrap_or_default());
        tx.tell(entry, &gate, state, Cause::Person, &words)?;
    }
    Ok(())
}

fn removal(row: &rusqlite::Row<'_>) -> rusqlite::Result<Removal> {
    let modified_ns: i64 = row.get(4)?;
    Ok(Removal {
        id: row.get(0)?,
        rule: row.get(1)?,
        path: row.get(2)?,
        bytes: row.get::<_, i64>(3)?.cast_unsigned(),
        modified: Timestamp::from_nanosecond(i128::from(modified_ns)).unwrap_or_default(),
        sha256: row.get(5)?,
        entry: row.get(6)?,
        moved_to: row.get(7)?,
        who: row.get(8)?,
        why: row.get(9)?,
        removed_at: row.get::<_, Option<i64>>(10)?.map(time),
    })
}
