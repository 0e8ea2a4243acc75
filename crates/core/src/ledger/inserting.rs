//! Rows of entries: a new one, and one in the place of another.

use rusqlite::{OptionalExtension, params};

use crate::files::sha256::Sha256;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::ids::EntryId;
use crate::ledger::new_entry::NewEntry;
use crate::ledger::requests::FileTarget;
use crate::ledger::state::{Cause, State};
use crate::ledger::transitions::{as_i64, gone_one, set};
use crate::ledger::writer::Tx;

/// What is inserted of a new entry beside what is known of its file.
pub(crate) struct Row<'a> {
    pub state: State,
    pub identity: Option<&'a [u8]>,
    pub repeat_of: Option<EntryId>,
    pub revision_of: Option<EntryId>,
    pub target: Option<FileTarget>,
}

/// Ends the entry of an earlier version at the same path, unless the content
/// is the same: then that entry, which is given, goes on with the new version.
pub(crate) fn replace(
    tx: &mut Tx<'_>,
    old: EntryId,
    new: &NewEntry,
) -> Result<Option<EntryId>, LedgerError> {
    let found: Option<(String, Sha256)> = tx
        .one("SELECT state, sha256 FROM entry WHERE id = ? AND in_drop = 1", [old], |row| {
            Ok((row.get(0)?, row.get(1)?))
        })
        .optional()
        .map_err(writing)?;
    let Some((state, sha256)) = found else { return Ok(None) };
    if sha256 == new.sha256 {
        tx.run(
            "UPDATE entry SET modified_ns = ?, inode = ?, changed_ns = ?, filed_bytes = NULL,
                   filed_sha256 = NULL WHERE id = ?",
            params![
                new.version.modified_ns,
                as_i64(new.version.inode),
                new.version.changed_ns,
                old
            ],
        )
        .map_err(writing)?;
        return Ok(Some(old));
    }
    if State::of(&state).is_some_and(|state| state.may_become(State::Gone)) {
        gone_one(tx, old, Cause::Pass, "replaced in the drop folder by another version")?;
    } else {
        set(tx.connection, "UPDATE entry SET in_drop = ?2 WHERE id = ?1", old, 0)?;
    }
    Ok(None)
}

/// Inserts the row; false when its identity is taken.
pub(crate) fn insert(
    tx: &mut Tx<'_>,
    id: EntryId,
    new: &NewEntry,
    row: &Row<'_>,
) -> Result<bool, LedgerError> {
    let fields = serde_json::to_string(&new.fields).unwrap_or_else(|_| "{}".into());
    let worked_at = (row.state == State::Worked).then_some(tx.now);
    let write = || -> rusqlite::Result<usize> {
        tx.connection
            .prepare_cached(
                "INSERT INTO entry (id, gate, drop_folder, path, bytes, modified_ns, inode, sha256, state,
                   fields, seen_at, ready_at, worked_at, target, packing, in_drop, repeat_of, revision_of, space, identity, changed_ns)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 1, ?, ?, ?, ?, ?)
                 ON CONFLICT (space, identity) WHERE identity IS NOT NULL DO NOTHING",
            )?
            .execute(params![
                id,
                new.gate,
                new.drop_folder,
                new.path,
                as_i64(new.version.bytes),
                new.version.modified_ns,
                as_i64(new.version.inode),
                new.sha256,
                row.state.word(),
                fields,
                new.seen_at,
                tx.now,
                worked_at,
                row.target.as_ref().map(|target| &target.path),
                row.target.as_ref().and_then(|target| target.packing),
                row.repeat_of,
                row.revision_of,
                new.space,
                row.identity,
                new.version.changed_ns
            ])
    };
    Ok(write().map_err(writing)? == 1)
}
