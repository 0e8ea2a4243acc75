//! What the engine has written of entries. Each request is one job of the writing
//! thread: all of it becomes durable, or nothing.

use rusqlite::{Connection, OptionalExtension, params};

use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::ids::{BatchId, EntryId, OutputId};
use crate::ledger::made::unpublished_of;
use crate::ledger::pending::pause_of;
use crate::ledger::requests::{
    CommitBatch, FileTarget, Filed, Hold, PackedFile, Unpublished, Worked,
};
use crate::ledger::state::{Cause, State};
use crate::ledger::transitions::{
    as_i64, commit_outputs, end_batch, enter_outputs, filed_at_once, forget_output, gone_one,
    moved_early, set, step, step_and, worked, working_in,
};
use crate::ledger::types::Pause;
use crate::ledger::words::BatchOutcome;
use crate::ledger::writer::{Ticket, Tx};

/// Rows of a work of which nobody knows before how many it changes.
pub(crate) const HOWEVER_MANY: usize = usize::MAX;

impl Ledger {
    pub(crate) fn submit<T: Send + 'static>(
        &self,
        work: impl FnOnce(&mut Tx<'_>) -> Result<T, LedgerError> + Send + 'static,
    ) -> Result<Ticket<T>, LedgerError> {
        self.submit_many(1, work)
    }

    /// As [`Ledger::submit`], for a work that changes so many rows.
    pub(crate) fn submit_many<T: Send + 'static>(
        &self,
        rows: usize,
        work: impl FnOnce(&mut Tx<'_>) -> Result<T, LedgerError> + Send + 'static,
    ) -> Result<Ticket<T>, LedgerError> {
        Ok(self.writer.as_ref().ok_or(LedgerError::Closed)?.submit(rows, work))
    }

    /// Waits until every write that was asked for before is done or has failed, those
    /// too whose tickets nobody holds any more.
    pub(crate) fn wait_for_writes(&self) {
        if let Ok(ticket) = self.submit(|_| Ok(())) {
            // That this one fails says as well that the others have ended.
            let _ = ticket.wait();
        }
    }

    /// The commit point: entries are `worked`, the outputs are recorded. Gives those that are
    /// to be published now.
    pub(crate) fn commit(
        &self,
        gate: &str,
        commit: CommitBatch,
    ) -> Result<Vec<Unpublished>, LedgerError> {
        let _recording = self.none_pending.recording(gate);
        self.submit_many(commit.entries.len(), move |tx| {
            worked(tx, &commit.entries)?;
            for (entry, rows, _) in &commit.entries {
                tx.connection
                    .prepare_cached("INSERT INTO part (batch, entry, rows) VALUES (?, ?, ?)")
                    .and_then(|mut insert| {
                        insert.execute(params![commit.batch, entry, rows.map(as_i64)])
                    })
                    .map_err(writing)?;
            }
            crate::ledger::deliveries::committed(tx.connection, commit.batch)?;
            commit_outputs(tx, commit.batch, &commit.outputs).map_err(writing)?;
            enter_outputs(tx, commit.batch, &commit.entered).map_err(writing)?;
            end_batch(tx, commit.batch, BatchOutcome::Worked, &commit.words)?;
            unpublished_of(tx, commit.batch).map_err(writing)
        })?
        .wait()
    }

    /// Makes a lease longer, unless it has ended; gives whether it was.
    pub(crate) fn prolong(
        &self,
        batch: BatchId,
        until: i64,
        length_ms: i64,
    ) -> Result<bool, LedgerError> {
        self.submit(move |tx| {
            let update = "UPDATE batch SET lease_until = ?, lease_ms = ?
                          WHERE id = ? AND ended_at IS NULL AND lease_until IS NOT NULL";
            let changed = tx.run(update, params![until, length_ms, batch]);
            changed.map(|count| count == 1).map_err(writing)
        })?
        .wait()
    }

    /// Brings ready entries of a gate without work to `worked`.
    pub(crate) fn worked_without_batch(&self, entries: Vec<Worked>) -> Result<(), LedgerError> {
        self.submit_many(entries.len(), move |tx| worked(tx, &entries))?.wait()
    }

    /// Records that outputs stand in their places, which may be others than were planned
    /// when somebody else took that name meanwhile.
    pub(crate) fn published(&self, outputs: Vec<(OutputId, String)>) -> Result<(), LedgerError> {
        self.submit_many(outputs.len(), move |tx| {
            let write = || -> rusqlite::Result<()> {
                let mut update = tx
                    .connection
                    .prepare_cached("UPDATE output SET published_at = ?, path = ? WHERE id = ?")?;
                for (output, path) in &outputs {
                    update.execute(params![tx.now, path, output])?;
                }
                Ok(())
            };
            write().map_err(writing)
        })?
        .wait()
    }

    /// Has the rows that a batch set aside stand in a file of their own, under a number:
    /// theirs has become another since.
    pub(crate) fn set_aside_apart(&self, batch: BatchId) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            let update = "UPDATE output SET mode = 'number', base_bytes = 0
                          WHERE batch = ? AND role = 'set aside' AND committed_at IS NULL";
            tx.run(update, [batch]).map(drop).map_err(writing)
        })?
        .wait()
    }

    /// Ends a batch without a commit: its output is forgotten, its entries go
    /// back to `ready`, and wait until `not_before` (milliseconds).
    pub(crate) fn give_back(
        &self,
        batch: BatchId,
        not_before: Option<i64>,
        cause: Cause,
        why: String,
        words: String,
    ) -> Result<(), LedgerError> {
        self.submit_many(HOWEVER_MANY, move |tx| {
            forget_output(tx, batch)?;
            for entry in working_in(tx.connection, batch)? {
                step(tx, entry, State::Ready, cause, &why)?;
                tx.run(
                    "UPDATE entry SET not_before = ?, reason = ? WHERE id = ?",
                    params![not_before, why, entry],
                )
                .map_err(writing)?;
            }
            let outcome =
                if not_before.is_some() { BatchOutcome::Again } else { BatchOutcome::Abandoned };
            end_batch(tx, batch, outcome, &words)
        })?
        .wait()
    }

    /// Gives a batch back of which nothing began, because its place was away: the try does
    /// not count.
    pub(crate) fn give_back_uncounted(
        &self,
        batch: BatchId,
        why: String,
        words: String,
    ) -> Result<(), LedgerError> {
        self.submit_many(HOWEVER_MANY, move |tx| {
            forget_output(tx, batch)?;
            for entry in working_in(tx.connection, batch)? {
                step(tx, entry, State::Ready, Cause::Pass, &why)?;
                let update = "UPDATE entry SET tries = MAX(tries - 1, 0), reason = ? WHERE id = ?";
                tx.run(update, params![why, entry]).map_err(writing)?;
            }
            end_batch(tx, batch, BatchOutcome::Abandoned, &words)
        })?
        .wait()
    }

    /// Holds entries; `batch` is ended with the words when one is given.
    pub(crate) fn hold(
        &self,
        holds: Vec<Hold>,
        cause: Cause,
        batch: Option<(BatchId, String)>,
    ) -> Result<(), LedgerError> {
        self.submit_many(holds.len(), move |tx| {
            for hold in &holds {
                step(tx, hold.entry, State::Held, cause, &hold.reason)?;
                tx.run(
                    "UPDATE entry SET reason = ?, target = ?, packing = NULL WHERE id = ?",
                    params![hold.reason, hold.target, hold.entry],
                )
                .map_err(writing)?;
            }
            if let Some((batch, words)) = &batch {
                forget_output(tx, *batch)?;
                end_batch(tx, *batch, BatchOutcome::Held, words)?;
            }
            Ok(())
        })?
        .wait()
    }

    /// Records that entries' files are no longer in the drop folder. An entry
    /// that was never worked gives its identity free, so that the same content
    /// can come again.
    pub(crate) fn gone(
        &self,
        entries: Vec<(EntryId, String)>,
        cause: Cause,
    ) -> Result<(), LedgerError> {
        self.submit_many(entries.len(), move |tx| {
            entries.iter().try_for_each(|(entry, why)| gone_one(tx, *entry, cause, why))
        })?
        .wait()
    }

    /// Decides anew where an entry is to be moved.
    pub(crate) fn retarget(&self, entry: EntryId, target: FileTarget) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            tx.run(
                "UPDATE entry SET target = ?, packing = ? WHERE id = ?",
                params![target.path, target.packing, entry],
            )
            .map_err(writing)?;
            Ok(())
        })?
        .wait()
    }

    /// Records entries as filed; of those that were compressed, what lies there now.
    pub(crate) fn filed(
        &self,
        entries: Vec<EntryId>,
        packed: Vec<PackedFile>,
        how: Filed,
        cause: Cause,
    ) -> Result<Ticket<()>, LedgerError> {
        self.submit_many(entries.len(), move |tx| {
            packed.iter().try_for_each(|one| record_packed(tx.connection, one)).map_err(writing)?;
            for entry in &entries {
                let (words, left) = (how.words(), how == Filed::Left);
                if !filed_at_once(tx, *entry, left, cause, words)? && !moved_early(tx, *entry, how)?
                {
                    let update = "UPDATE entry SET state = ?2, filed_at = ?3,
                           in_drop = (?4 AND source IS NULL),
                           source = CASE WHEN target IS NULL THEN source END WHERE id = ?1";
                    let now = tx.now;
                    step_and(tx, *entry, State::Filed, cause, words, update, &[&now, &left])?;
                }
            }
            Ok(())
        })
    }

    /// Records that entries which were passed over were moved to the archive.
    pub(crate) fn passed_over_filed(
        &self,
        entries: Vec<EntryId>,
        packed: Vec<PackedFile>,
    ) -> Result<Ticket<()>, LedgerError> {
        self.submit_many(entries.len(), move |tx| {
            packed.iter().try_for_each(|one| record_packed(tx.connection, one)).map_err(writing)?;
            for entry in &entries {
                let gate: String = tx
                    .connection
                    .prepare_cached(
                        "UPDATE entry SET in_drop = 0, filed_at = ?2 WHERE id = ?1 RETURNING gate",
                    )
                    .and_then(|mut update| {
                        update.query_row(params![entry, tx.now], |row| row.get(0))
                    })
                    .map_err(writing)?;
                tx.tell(*entry, &gate, State::PassedOver, Cause::Pass, "moved to the archive")?;
            }
            Ok(())
        })
    }

    /// Records that the service died while it read the file of an entry alone; gives how
    /// often it has.
    pub(crate) fn died_over(&self, entry: EntryId) -> Result<i64, LedgerError> {
        self.submit(move |tx| {
            let update = "UPDATE entry SET deaths = deaths + 1 WHERE id = ? RETURNING deaths";
            let deaths = tx.one(update, [entry], |row| row.get(0)).optional();
            Ok(deaths.map_err(writing)?.unwrap_or(0))
        })?
        .wait()
    }

    /// Records that the program which works an entry has changed its file: what lies
    /// there is known, and no new arrival.
    pub(crate) fn source_changed(
        &self,
        entry: EntryId,
        version: Version,
        sha256: Sha256,
    ) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            let gate: String = tx
                .one(
                    "UPDATE entry SET filed_bytes = ?2, filed_sha256 = ?3, modified_ns = ?4,
                       inode = ?5, changed_ns = ?6 WHERE id = ?1 RETURNING gate",
                    params![
                        entry,
                        as_i64(version.bytes),
                        sha256,
                        version.modified_ns,
                        as_i64(version.inode),
                        version.changed_ns
                    ],
                    |row| row.get(0),
                )
                .map_err(writing)?;
            let sum = sha256.to_string();
            let words = format!(
                "its program changed the file: it has {} bytes now, and the sum {sum}",
                version.bytes
            );
            tx.tell(entry, &gate, State::Working, Cause::Pass, &words)
        })?
        .wait()
    }

    /// Records that a held entry's file was moved to the hold folder.
    pub(crate) fn moved_aside(&self, entry: EntryId) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            set(tx.connection, "UPDATE entry SET in_drop = ?2 WHERE id = ?1", entry, 0)
        })?
        .wait()
    }

    /// Records that files which were left in place after they were filed are no
    /// longer there.
    pub(crate) fn left_the_drop(&self, entries: Vec<EntryId>) -> Result<(), LedgerError> {
        self.submit_many(entries.len(), move |tx| {
            // Without a target it is clear that it was never moved.
            let sql = "UPDATE entry SET in_drop = ?2, target = NULL
                       WHERE id = ?1 AND in_drop = 1 AND state IN ('filed', 'adopted', 'passed over')";
            entries.iter().try_for_each(|entry| set(tx.connection, sql, *entry, 0))
        })?
        .wait()
    }

    /// Pauses a gate for a person, or resumes it, across restarts.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn set_paused(
        &self,
        gate: String,
        by: Option<String>,
    ) -> Result<Option<Pause>, LedgerError> {
        self.submit(move |tx| {
            let at = by.is_some().then_some(tx.now);
            tx.run(
                // Who pauses what is paused changes nothing.
                "INSERT INTO gate_setting (gate, paused, paused_at, paused_by)
                     VALUES (?1, ?2, ?3, ?4)
                     ON CONFLICT DO UPDATE SET paused = ?2,
                       paused_at = IIF(paused AND ?2, paused_at, ?3),
                       paused_by = IIF(paused AND ?2, paused_by, ?4)",
                params![gate, by.is_some(), at, by],
            )
            .map_err(writing)?;
            pause_of(tx.connection, &gate).map_err(writing)
        })?
        .wait()
    }
}

/// Records what lies where the file of an entry was compressed; what was compressed stays
/// known, where that is another than was entered.
fn record_packed(connection: &Connection, one: &PackedFile) -> rusqlite::Result<()> {
    let update = "UPDATE entry SET content_bytes = COALESCE(content_bytes, filed_bytes),
                    content_sha256 = COALESCE(content_sha256, filed_sha256),
                    filed_bytes = ?2, filed_sha256 = ?3 WHERE id = ?1 AND packing IS NOT NULL";
    let values = params![one.entry, as_i64(one.bytes), one.sha256];
    connection.prepare_cached(update)?.execute(values).map(drop)
}
