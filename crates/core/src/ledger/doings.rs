//! What the engine does to entries. Each doing is one job of the writing
//! thread: all of it becomes durable, or nothing.

use rusqlite::{Connection, OptionalExtension, ToSql, params};

use super::writer::{Ticket, Tx};
use super::{Cause, Ledger, LedgerError, State, staged_name, writing};
use crate::words;

/// Entries that are claimed for work together.
#[derive(Debug, Clone)]
pub(crate) struct Claim {
    pub gate: String,
    pub work: &'static str,
    pub entries: Vec<i64>,
    /// The outputs, in the order in which their staged files are numbered.
    pub outputs: Vec<StagedOutput>,
    /// A worker has it on lease.
    pub lease: Option<Lease>,
}

/// A worker's lease of a batch.
#[derive(Debug, Clone)]
pub(crate) struct Lease {
    pub worker: String,
    /// In milliseconds since 1970.
    pub until: i64,
}

/// An output whose bytes are being staged.
#[derive(Debug, Clone)]
pub(crate) struct StagedOutput {
    pub path: String,
    /// The folder of the staged file; its name carries the ledger's tag and the
    /// batch's number.
    pub folder: String,
    pub mode: &'static str,
    pub base_bytes: u64,
    /// What it is: `rows`, `set aside`, `account` or `all`.
    pub role: &'static str,
}

/// A staged output that is whole.
#[derive(Debug, Clone)]
pub(crate) struct MadeOutput {
    pub inode: u64,
    pub bytes: u64,
    pub sha256: [u8; 32],
    pub rows: u64,
    /// Its account, as JSON.
    pub account: Option<String>,
}

/// An entry that was worked, its rows, and where it will be moved.
pub(crate) type Worked = (i64, Option<u64>, Option<String>);

/// The commit point of a batch.
#[derive(Debug, Clone)]
pub(crate) struct CommitBatch {
    pub batch: i64,
    pub entries: Vec<Worked>,
    /// What was staged for each output of the claim; none where nothing was.
    pub outputs: Vec<Option<MadeOutput>>,
    pub words: String,
}

/// A committed output that does not stand in its place yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Unpublished {
    pub id: i64,
    pub batch: i64,
    pub path: String,
    pub staged: String,
    pub mode: String,
    pub base_bytes: u64,
    pub inode: u64,
    pub bytes: u64,
}

/// How entries were filed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Filed {
    /// They were moved to their target.
    Moved,
    /// They were left where they are.
    Left,
    /// They were repeats, and deleted.
    Deleted,
}

impl Filed {
    fn words(self) -> &'static str {
        match self {
            Filed::Moved => "moved to the archive",
            Filed::Left => "left in place",
            Filed::Deleted => "deleted as a repeat",
        }
    }
}

/// An entry to be held.
#[derive(Debug, Clone)]
pub(crate) struct Hold {
    pub entry: i64,
    pub reason: String,
    pub target: Option<String>,
}

impl Ledger {
    pub(super) fn submit<T: Send + 'static>(
        &self,
        work: impl FnOnce(&mut Tx<'_>) -> Result<T, LedgerError> + Send + 'static,
    ) -> Result<Ticket<T>, LedgerError> {
        Ok(self.writer.as_ref().ok_or(LedgerError::Closed)?.submit(work))
    }

    /// Waits until every write that was asked for before is done or has failed, those
    /// too whose tickets nobody holds any more.
    pub(crate) fn wait_for_writes(&self) {
        if let Ok(ticket) = self.submit(|_| Ok(())) {
            // That this one fails says as well that the others have ended.
            let _ = ticket.wait();
        }
    }

    /// Claims ready entries for a batch: they are `working` when this is done.
    /// Gives the batch's number.
    pub(crate) fn claim(&self, claim: Claim) -> Result<i64, LedgerError> {
        let tag = self.tag()?.to_owned();
        self.submit(move |tx| {
            let write = |tx: &Tx<'_>| -> rusqlite::Result<i64> {
                let attempt: i64 = tx.connection.query_row(
                    "SELECT COALESCE(MAX(tries), 0) + 1 FROM entry WHERE id = ?",
                    [claim.entries.first().copied().unwrap_or(0)],
                    |row| row.get(0),
                )?;
                tx.connection.execute(
                    "INSERT INTO batch (gate, work, attempt, begun_at, worker, lease_until)
                     VALUES (?, ?, ?, ?, ?, ?)",
                    params![
                        claim.gate,
                        claim.work,
                        attempt,
                        tx.now,
                        claim.lease.as_ref().map(|lease| &lease.worker),
                        claim.lease.as_ref().map(|lease| lease.until)
                    ],
                )?;
                let batch = tx.connection.last_insert_rowid();
                for (number, output) in claim.outputs.iter().enumerate() {
                    let name = staged_name(&tag, batch, number);
                    let staged = format!("{}/{name}", output.folder);
                    tx.connection.execute(
                        "INSERT INTO output (batch, path, staged, mode, base_bytes, role) VALUES (?, ?, ?, ?, ?, ?)",
                        params![
                            batch,
                            output.path,
                            staged,
                            output.mode,
                            as_i64(output.base_bytes),
                            output.role
                        ],
                    )?;
                }
                Ok(batch)
            };
            let batch = write(tx).map_err(writing)?;
            let words = match &claim.lease {
                Some(lease) => format!("batch {batch}: taken by worker `{}`", lease.worker),
                None => format!("batch {batch}: {}", claim.work),
            };
            for entry in &claim.entries {
                step(tx, *entry, State::Working, Cause::Pass, &words)?;
                set(tx.connection, "UPDATE entry SET batch = ?2, tries = tries + 1, not_before = NULL, reason = NULL WHERE id = ?1", *entry, batch)?;
            }
            Ok(batch)
        })?
        .wait()
    }

    /// The commit point: entries are `worked`, the output is recorded.
    pub(crate) fn commit(&self, commit: CommitBatch) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            worked(tx, &commit.entries)?;
            for (entry, rows, _) in &commit.entries {
                tx.connection
                    .prepare_cached("INSERT INTO part (batch, entry, rows) VALUES (?, ?, ?)")
                    .and_then(|mut insert| {
                        insert.execute(params![commit.batch, entry, rows.map(as_i64)])
                    })
                    .map_err(writing)?;
            }
            commit_outputs(tx, commit.batch, &commit.outputs).map_err(writing)?;
            end_batch(tx, commit.batch, "worked", &commit.words)
        })?
        .wait()
    }

    /// Makes a lease longer, unless it is over; gives whether it was.
    pub(crate) fn prolong(&self, batch: i64, until: i64) -> Result<bool, LedgerError> {
        self.submit(move |tx| {
            let update = "UPDATE batch SET lease_until = ? WHERE id = ? AND ended_at IS NULL
                            AND lease_until >= ?";
            let changed = tx.connection.execute(update, [until, batch, tx.now]);
            changed.map(|count| count == 1).map_err(writing)
        })?
        .wait()
    }

    /// Brings ready entries of a gate without work to `worked`.
    pub(crate) fn worked_without_batch(&self, entries: Vec<Worked>) -> Result<(), LedgerError> {
        self.submit(move |tx| worked(tx, &entries))?.wait()
    }

    /// Records that an output stands in its place, which may be another than
    /// was planned when somebody else took that name meanwhile.
    pub(crate) fn published(&self, output: i64, path: String) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            tx.connection
                .execute(
                    "UPDATE output SET published_at = ?, path = ? WHERE id = ?",
                    params![tx.now, path, output],
                )
                .map_err(writing)?;
            Ok(())
        })?
        .wait()
    }

    /// Has the rows that a batch set aside stand in a file of their own, under a number:
    /// theirs has become another since.
    pub(crate) fn set_aside_apart(&self, batch: i64) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            let update = "UPDATE output SET mode = 'number', base_bytes = 0
                          WHERE batch = ? AND role = 'set aside' AND committed_at IS NULL";
            tx.connection.execute(update, [batch]).map(drop).map_err(writing)
        })?
        .wait()
    }

    /// Ends a batch without a commit: its output is forgotten, its entries go
    /// back to `ready`, and wait until `not_before` (milliseconds).
    pub(crate) fn give_back(
        &self,
        batch: i64,
        not_before: Option<i64>,
        cause: Cause,
        why: String,
        words: String,
    ) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            forget_output(tx, batch)?;
            for entry in working_in(tx.connection, batch)? {
                step(tx, entry, State::Ready, cause, &why)?;
                tx.connection
                    .execute(
                        "UPDATE entry SET not_before = ?, reason = ? WHERE id = ?",
                        params![not_before, why, entry],
                    )
                    .map_err(writing)?;
            }
            let outcome = if not_before.is_some() { "again" } else { "abandoned" };
            end_batch(tx, batch, outcome, &words)
        })?
        .wait()
    }

    /// Holds entries; `batch` is ended with the words when one is given.
    pub(crate) fn hold(
        &self,
        holds: Vec<Hold>,
        cause: Cause,
        batch: Option<(i64, String)>,
    ) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            for hold in &holds {
                step(tx, hold.entry, State::Held, cause, &hold.reason)?;
                tx.connection
                    .execute(
                        "UPDATE entry SET reason = ?, target = ? WHERE id = ?",
                        params![hold.reason, hold.target, hold.entry],
                    )
                    .map_err(writing)?;
            }
            if let Some((batch, words)) = &batch {
                forget_output(tx, *batch)?;
                end_batch(tx, *batch, "held", words)?;
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
        entries: Vec<(i64, String)>,
        cause: Cause,
    ) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            entries.iter().try_for_each(|(entry, why)| gone_one(tx, *entry, cause, why))
        })?
        .wait()
    }

    /// Decides anew where an entry is to be moved.
    pub(crate) fn retarget(&self, entry: i64, target: String) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            tx.connection
                .execute("UPDATE entry SET target = ? WHERE id = ?", params![target, entry])
                .map_err(writing)?;
            Ok(())
        })?
        .wait()
    }

    /// Records entries as filed.
    pub(crate) fn filed(
        &self,
        entries: Vec<i64>,
        how: Filed,
        cause: Cause,
    ) -> Result<Ticket<()>, LedgerError> {
        self.submit(move |tx| {
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
    pub(crate) fn passed_over_filed(&self, entries: Vec<i64>) -> Result<Ticket<()>, LedgerError> {
        self.submit(move |tx| {
            for entry in &entries {
                let gate: String = tx
                    .connection
                    .prepare_cached(
                        "UPDATE entry SET in_drop = 0, filed_at = ?2 WHERE id = ?1 RETURNING gate",
                    )
                    .and_then(|mut update| update.query_row([*entry, tx.now], |row| row.get(0)))
                    .map_err(writing)?;
                tx.tell(*entry, &gate, State::PassedOver, Cause::Pass, "moved to the archive")?;
            }
            Ok(())
        })
    }

    /// Records that a held entry's file was moved to the hold folder.
    pub(crate) fn moved_aside(&self, entry: i64) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            set(tx.connection, "UPDATE entry SET in_drop = ?2 WHERE id = ?1", entry, 0)
        })?
        .wait()
    }

    /// Records that files which were left in place after they were filed are no
    /// longer there.
    pub(crate) fn left_the_drop(&self, entries: Vec<i64>) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            // Without a target it is clear that it was never moved.
            let sql = "UPDATE entry SET in_drop = ?2, target = NULL
                       WHERE id = ?1 AND in_drop = 1 AND state IN ('filed', 'adopted', 'passed over')";
            entries.iter().try_for_each(|entry| set(tx.connection, sql, *entry, 0))
        })?
        .wait()
    }

    /// Pauses or resumes a gate, across restarts.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn set_paused(&self, gate: String, paused: bool) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            tx.connection
                .execute(
                    "INSERT INTO gate_setting (gate, paused) VALUES (?1, ?2)
                     ON CONFLICT DO UPDATE SET paused = ?2",
                    params![gate, paused],
                )
                .map_err(writing)?;
            Ok(())
        })?
        .wait()
    }
}

/// The commonest step of all in one statement: from `worked` to `filed`, which the
/// states allow. False when the entry is in another state.
fn filed_at_once(
    tx: &mut Tx<'_>,
    entry: i64,
    left: bool,
    cause: Cause,
    words: &str,
) -> Result<bool, LedgerError> {
    let gate: Option<String> = tx
        .connection
        .prepare_cached(
            "UPDATE entry SET state = 'filed', filed_at = ?, in_drop = (? AND source IS NULL),
               source = CASE WHEN target IS NULL THEN source END
             WHERE id = ? AND state = 'worked' RETURNING gate",
        )
        .and_then(|mut update| {
            update.query_row(params![tx.now, left, entry], |row| row.get(0)).optional()
        })
        .map_err(writing)?;
    let Some(gate) = gate else { return Ok(false) };
    tx.count(&gate, Some(State::Worked), State::Filed);
    tx.tell(entry, &gate, State::Filed, cause, words)?;
    Ok(true)
}

/// A repeat may have been moved in the instant in which the entry that it repeats was
/// given up, so that it took its place: it is worked from where it lies then.
fn moved_early(tx: &Tx<'_>, entry: i64, how: Filed) -> Result<bool, LedgerError> {
    let moved = "UPDATE entry SET in_drop = 0, source = target, target = NULL
                 WHERE id = ? AND state = 'ready' AND target IS NOT NULL AND ?";
    let values = params![entry, how == Filed::Moved];
    tx.connection.execute(moved, values).map(|count| count == 1).map_err(writing)
}

pub(super) fn as_i64(value: u64) -> i64 {
    // Inodes may use all 64 bits; the bits are kept, the sign means nothing.
    value.cast_signed()
}

pub(super) fn set(
    connection: &Connection,
    sql: &str,
    entry: i64,
    value: i64,
) -> Result<(), LedgerError> {
    connection
        .prepare_cached(sql)
        .and_then(|mut update| update.execute([entry, value]))
        .map_err(writing)?;
    Ok(())
}

/// Brings an entry to another state, with history and counts, or refuses.
fn step(
    tx: &mut Tx<'_>,
    entry: i64,
    to: State,
    cause: Cause,
    words: &str,
) -> Result<State, LedgerError> {
    step_and(tx, entry, to, cause, words, "UPDATE entry SET state = ?2 WHERE id = ?1", &[])
}

/// As [`step`], by an update that sets more than the state: `?1` is the entry,
/// `?2` the state, and from `?3` on come `values`.
pub(super) fn step_and(
    tx: &mut Tx<'_>,
    entry: i64,
    to: State,
    cause: Cause,
    words: &str,
    update: &str,
    values: &[&dyn ToSql],
) -> Result<State, LedgerError> {
    let (gate, from): (String, String) = tx
        .connection
        .prepare_cached("SELECT gate, state FROM entry WHERE id = ?")
        .and_then(|mut select| select.query_row([entry], |row| Ok((row.get(0)?, row.get(1)?))))
        .map_err(writing)?;
    let refused = |from| LedgerError::Refused { entry, from, to: to.word() };
    let from = State::of(&from).ok_or_else(|| refused("in an unknown state"))?;
    let may = match cause {
        Cause::Person => from.person_may_make(to),
        _ => from.may_become(to),
    };
    if !may {
        return Err(refused(from.word()));
    }
    let state = to.word();
    let mut all: Vec<&dyn ToSql> = vec![&entry, &state];
    all.extend_from_slice(values);
    tx.connection
        .prepare_cached(update)
        .and_then(|mut update| update.execute(&all[..]))
        .map_err(writing)?;
    tx.count(&gate, Some(from), to);
    tx.tell(entry, &gate, to, cause, words)?;
    Ok(from)
}

fn worked(tx: &mut Tx<'_>, entries: &[Worked]) -> Result<(), LedgerError> {
    for (entry, rows, target) in entries {
        let words =
            rows.map_or("worked".to_owned(), |rows| format!("worked: {}", words::rows(rows)));
        let update =
            "UPDATE entry SET state = ?2, worked_at = ?3, rows = ?4, target = ?5 WHERE id = ?1";
        let (now, rows) = (tx.now, rows.map(as_i64));
        step_and(tx, *entry, State::Worked, Cause::Pass, &words, update, &[&now, &rows, target])?;
    }
    Ok(())
}

pub(super) fn gone_one(
    tx: &mut Tx<'_>,
    entry: i64,
    cause: Cause,
    why: &str,
) -> Result<(), LedgerError> {
    step(tx, entry, State::Gone, cause, why)?;
    let identity: Option<Vec<u8>> = tx
        .connection
        .query_row(
            "SELECT identity FROM entry WHERE id = ? AND worked_at IS NULL",
            [entry],
            |row| row.get(0),
        )
        .optional()
        .map_err(writing)?
        .flatten();
    tx.connection
        .execute(
            "UPDATE entry SET in_drop = 0, source = NULL, target = NULL, reason = ?2, batch = NULL,
               identity = CASE WHEN worked_at IS NULL THEN NULL ELSE identity END
             WHERE id = ?1",
            params![entry, why],
        )
        .map_err(writing)?;
    match identity {
        Some(identity) => promote_repeat(tx, entry, &identity),
        None => Ok(()),
    }
}

/// The content of an entry that was never worked may still lie there under
/// another name: its oldest repeat takes its place and its identity.
fn promote_repeat(tx: &mut Tx<'_>, gone: i64, identity: &[u8]) -> Result<(), LedgerError> {
    let heir: Option<i64> = tx
        .connection
        .query_row(
            "SELECT MIN(id) FROM entry WHERE repeat_of = ? AND state = 'repeat'",
            [gone],
            |row| row.get(0),
        )
        .map_err(writing)?;
    let Some(heir) = heir else { return Ok(()) };
    let words = format!("entry {gone}, whose repeat it was, is gone before it was worked");
    step(tx, heir, State::Ready, Cause::Pass, &words)?;
    let write = || -> rusqlite::Result<()> {
        tx.connection.execute(
            "UPDATE entry SET identity = ?, repeat_of = NULL WHERE id = ?",
            params![identity, heir],
        )?;
        tx.connection.execute(
            "UPDATE entry SET repeat_of = ? WHERE repeat_of = ? AND state = 'repeat'",
            [heir, gone],
        )?;
        Ok(())
    };
    write().map_err(writing)
}

fn working_in(connection: &Connection, batch: i64) -> Result<Vec<i64>, LedgerError> {
    let query = || -> rusqlite::Result<Vec<i64>> {
        let mut select = connection
            .prepare_cached("SELECT id FROM entry WHERE batch = ? AND state = 'working'")?;
        select.query_map([batch], |row| row.get(0))?.collect()
    };
    query().map_err(writing)
}

/// Records what was staged, in the order of the claim; where nothing was, there is no
/// output.
fn commit_outputs(tx: &Tx<'_>, batch: i64, outputs: &[Option<MadeOutput>]) -> rusqlite::Result<()> {
    let mut select =
        tx.connection.prepare_cached("SELECT id FROM output WHERE batch = ? ORDER BY id")?;
    let claimed = select.query_map([batch], |row| row.get(0))?.collect::<Result<Vec<i64>, _>>()?;
    for (id, made) in claimed.into_iter().zip(outputs) {
        let Some(made) = made else {
            tx.connection.execute("DELETE FROM output WHERE id = ?", [id])?;
            continue;
        };
        // What is in a database stands in its place when the ledger hears of it.
        tx.connection.execute(
            "UPDATE output SET inode = ?1, bytes = IIF(role = 'load', NULL, ?2),
               sha256 = IIF(role = 'load', NULL, ?3), rows = ?4, account = ?5, committed_at = ?6,
               published_at = IIF(role = 'load', ?6, NULL) WHERE id = ?7",
            params![
                as_i64(made.inode),
                as_i64(made.bytes),
                made.sha256,
                as_i64(made.rows),
                made.account,
                tx.now,
                id
            ],
        )?;
    }
    Ok(())
}

fn forget_output(tx: &Tx<'_>, batch: i64) -> Result<(), LedgerError> {
    tx.connection
        .execute("DELETE FROM output WHERE batch = ? AND committed_at IS NULL", [batch])
        .map_err(writing)?;
    Ok(())
}

fn end_batch(tx: &Tx<'_>, batch: i64, outcome: &str, words: &str) -> Result<(), LedgerError> {
    let update = "UPDATE batch SET ended_at = ?, outcome = ?, words = ?
                  WHERE id = ? AND ended_at IS NULL";
    let changed = tx.connection.execute(update, params![tx.now, outcome, words, batch]);
    // A batch ends once: what comes later comes too late.
    if changed.map_err(writing)? == 0 { Err(LedgerError::Ended { batch }) } else { Ok(()) }
}
