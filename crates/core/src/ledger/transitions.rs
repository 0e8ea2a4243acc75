//! The steps of which the doings are made: changes of state with their history, and what
//! belongs to a batch, inside one transaction.

use rusqlite::{Connection, OptionalExtension, ToSql, params};

use crate::ledger::error::{LedgerError, writing};
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::requests::{EnteredOutput, Filed, MadeOutput, Worked};
use crate::ledger::state::{Cause, State};
use crate::ledger::words::BatchOutcome;
use crate::ledger::writer::Tx;
use crate::words;

/// The commonest step of all in one statement: from `worked` to `filed`, which the
/// states allow. False when the entry is in another state.
pub(crate) fn filed_at_once(
    tx: &mut Tx<'_>,
    entry: EntryId,
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
pub(crate) fn moved_early(tx: &Tx<'_>, entry: EntryId, how: Filed) -> Result<bool, LedgerError> {
    let moved = "UPDATE entry SET in_drop = 0, source = target, target = NULL
                 WHERE id = ? AND state = 'ready' AND target IS NOT NULL AND ?";
    let values = params![entry, how == Filed::Moved];
    tx.run(moved, values).map(|count| count == 1).map_err(writing)
}

pub(crate) fn as_i64(value: u64) -> i64 {
    // Inodes may use all 64 bits; the bits are kept, the sign means nothing.
    value.cast_signed()
}

pub(crate) fn set(
    connection: &Connection,
    sql: &str,
    entry: EntryId,
    value: i64,
) -> Result<(), LedgerError> {
    connection
        .prepare_cached(sql)
        .and_then(|mut update| update.execute(params![entry, value]))
        .map_err(writing)?;
    Ok(())
}

/// Brings an entry to another state, with history and counts, or refuses.
pub(crate) fn step(
    tx: &mut Tx<'_>,
    entry: EntryId,
    to: State,
    cause: Cause,
    words: &str,
) -> Result<State, LedgerError> {
    step_and(tx, entry, to, cause, words, "UPDATE entry SET state = ?2 WHERE id = ?1", &[])
}

/// As [`step`], by an update that sets more than the state: `?1` is the entry,
/// `?2` the state, and from `?3` on come `values`.
pub(crate) fn step_and(
    tx: &mut Tx<'_>,
    entry: EntryId,
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

pub(crate) fn worked(tx: &mut Tx<'_>, entries: &[Worked]) -> Result<(), LedgerError> {
    for (entry, rows, target) in entries {
        let words =
            rows.map_or("worked".to_owned(), |rows| format!("worked: {}", words::rows(rows)));
        let update =
            "UPDATE entry SET state = ?2, worked_at = ?3, rows = ?4, target = ?5, packing = ?6
             WHERE id = ?1";
        let (now, rows) = (tx.now, rows.map(as_i64));
        let path = target.as_ref().map(|target| &target.path);
        let packing = target.as_ref().and_then(|target| target.packing);
        let values: [&dyn ToSql; 4] = [&now, &rows, &path, &packing];
        step_and(tx, *entry, State::Worked, Cause::Pass, &words, update, &values)?;
    }
    Ok(())
}

pub(crate) fn gone_one(
    tx: &mut Tx<'_>,
    entry: EntryId,
    cause: Cause,
    why: &str,
) -> Result<(), LedgerError> {
    step(tx, entry, State::Gone, cause, why)?;
    let identity: Option<Vec<u8>> = tx
        .one("SELECT identity FROM entry WHERE id = ? AND worked_at IS NULL", [entry], |row| {
            row.get(0)
        })
        .optional()
        .map_err(writing)?
        .flatten();
    tx.run(
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
pub(crate) fn promote_repeat(
    tx: &mut Tx<'_>,
    gone: EntryId,
    identity: &[u8],
) -> Result<(), LedgerError> {
    let heir: Option<EntryId> = tx
        .one("SELECT MIN(id) FROM entry WHERE repeat_of = ? AND state = 'repeat'", [gone], |row| {
            row.get(0)
        })
        .map_err(writing)?;
    let Some(heir) = heir else { return Ok(()) };
    let words = format!("entry {gone}, whose repeat it was, is gone before it was worked");
    step(tx, heir, State::Ready, Cause::Pass, &words)?;
    let write = || -> rusqlite::Result<()> {
        tx.run(
            "UPDATE entry SET identity = ?, repeat_of = NULL WHERE id = ?",
            params![identity, heir],
        )?;
        tx.run(
            "UPDATE entry SET repeat_of = ? WHERE repeat_of = ? AND state = 'repeat'",
            [heir, gone],
        )?;
        Ok(())
    };
    write().map_err(writing)
}

pub(crate) fn working_in(
    connection: &Connection,
    batch: BatchId,
) -> Result<Vec<EntryId>, LedgerError> {
    let query = || -> rusqlite::Result<Vec<EntryId>> {
        let mut select = connection
            .prepare_cached("SELECT id FROM entry WHERE batch = ? AND state = 'working'")?;
        select.query_map([batch], |row| row.get(0))?.collect()
    };
    query().map_err(writing)
}

/// Records what was staged, in the order of the claim; where nothing was, there is no
/// output.
pub(crate) fn commit_outputs(
    tx: &Tx<'_>,
    batch: BatchId,
    outputs: &[Option<MadeOutput>],
) -> rusqlite::Result<()> {
    let mut select =
        tx.connection.prepare_cached("SELECT id FROM output WHERE batch = ? ORDER BY id")?;
    let claimed =
        select.query_map([batch], |row| row.get(0))?.collect::<Result<Vec<EntryId>, _>>()?;
    // What a place can be asked about stands there when the ledger hears of it, and so does
    // what was there before.
    let mut update = tx.connection.prepare_cached(
        "UPDATE output SET inode = ?1,
           modified_ns = IIF(mode = 'append' OR ?8 = 0, NULL, ?8),
           bytes = IIF((proof IS NULL OR role = 'copy') AND mode <> 'leave'
             AND role <> 'unpacked', ?2, NULL),
           sha256 = IIF((proof IS NULL OR role = 'copy' AND ?3 <> zeroblob(32))
             AND mode <> 'leave' AND role <> 'unpacked', ?3, NULL),
           rows = ?4, account = ?5, committed_at = ?6,
           published_at = IIF(proof IS NULL AND mode <> 'leave', NULL, ?6) WHERE id = ?7",
    )?;
    for (id, made) in claimed.into_iter().zip(outputs) {
        let Some(made) = made else {
            tx.run("DELETE FROM output WHERE id = ?", [id])?;
            continue;
        };
        update.execute(params![
            as_i64(made.inode),
            as_i64(made.bytes),
            made.sha256,
            as_i64(made.rows),
            made.account,
            tx.now,
            id,
            made.modified_ns,
        ])?;
    }
    Ok(())
}

/// Enters outputs that the claim did not have.
pub(crate) fn enter_outputs(
    tx: &Tx<'_>,
    batch: BatchId,
    entered: &[EnteredOutput],
) -> rusqlite::Result<()> {
    let mut insert = tx.connection.prepare_cached(
        "INSERT INTO output (batch, path, staged, mode, role, entry, inode, modified_ns, bytes,
           sha256, committed_at, published_at)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
    )?;
    for one in entered {
        let made = one.made.as_ref();
        insert.execute(params![
            batch,
            one.path,
            one.staged.as_deref().unwrap_or_default(),
            one.mode,
            one.role,
            one.of,
            made.map(|made| as_i64(made.inode)),
            made.map(|made| made.modified_ns),
            made.map(|made| as_i64(made.bytes)),
            made.map(|made| made.sha256),
            tx.now,
            // What stays as it is there stands there.
            made.is_none().then_some(tx.now),
        ])?;
    }
    Ok(())
}

pub(crate) fn forget_output(tx: &Tx<'_>, batch: BatchId) -> Result<(), LedgerError> {
    tx.run("DELETE FROM output WHERE batch = ? AND committed_at IS NULL", [batch])
        .map_err(writing)?;
    Ok(())
}

pub(crate) fn end_batch(
    tx: &Tx<'_>,
    batch: BatchId,
    outcome: BatchOutcome,
    words: &str,
) -> Result<(), LedgerError> {
    let update = "UPDATE batch SET ended_at = ?, outcome = ?, words = ?
                  WHERE id = ? AND ended_at IS NULL";
    let changed = tx.run(update, params![tx.now, outcome, words, batch]);
    // A batch ends once: what comes later comes too late.
    if changed.map_err(writing)? == 0 { Err(LedgerError::Ended { batch }) } else { Ok(()) }
}
