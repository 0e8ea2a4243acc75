//! Who has an identity already.

use crate::ledger::error::{LedgerError, writing};
use crate::ledger::ids::EntryId;
use crate::ledger::new_entry::NewEntry;
use crate::ledger::state::State;
use crate::ledger::writer::Tx;
use rusqlite::{OptionalExtension, params};

/// The entry that has an identity.
pub(crate) struct First {
    pub entry: EntryId,
    /// None when the entry was trimmed away.
    pub state: Option<State>,
    /// When it was worked, or entered.
    pub at: i64,
}

impl First {
    /// The entry, there or trimmed away, that has the identity of a version now.
    pub fn of(tx: &Tx<'_>, new: &NewEntry) -> Result<Option<First>, LedgerError> {
        let first = match kept(tx, new)? {
            Some(kept) => Some(kept),
            None => holder(tx, new)?,
        };
        Ok(first.filter(|first| !first.is_over(new.policy.once_for_ms, tx.now)))
    }

    /// Whether its identity may come again.
    pub fn is_over(&self, once_for_ms: Option<i64>, now: i64) -> bool {
        let open =
            matches!(self.state, Some(State::Ready | State::Working | State::Worked | State::Held));
        !open && once_for_ms.is_some_and(|time| now.saturating_sub(self.at) > time)
    }
}

/// The entry that holds the identity of a version.
pub(crate) fn holder(tx: &Tx<'_>, new: &NewEntry) -> Result<Option<First>, LedgerError> {
    tx.connection
        .prepare_cached(
            "SELECT id, state, COALESCE(worked_at, ready_at) FROM entry
             WHERE space = ? AND identity = ?",
        )
        .and_then(|mut select| {
            let found = |row: &rusqlite::Row<'_>| {
                let state: String = row.get(1)?;
                Ok(First { entry: row.get(0)?, state: State::of(&state), at: row.get(2)? })
            };
            select.query_row(params![new.space, new.identity], found).optional()
        })
        .map_err(writing)
}

/// The trimmed entry that had the identity of a version, unless its time is over.
/// Nobody else writes, so nothing comes between this look and what follows.
pub(crate) fn kept(tx: &Tx<'_>, new: &NewEntry) -> Result<Option<First>, LedgerError> {
    let found = tx
        .connection
        .prepare_cached("SELECT entry, at FROM kept WHERE space = ? AND identity = ?")
        .and_then(|mut select| {
            let found = |row: &rusqlite::Row<'_>| {
                Ok(First { entry: row.get(0)?, state: None, at: row.get(1)? })
            };
            select.query_row(params![new.space, new.identity], found).optional()
        })
        .map_err(writing)?;
    Ok(found.filter(|first| !first.is_over(new.policy.once_for_ms, tx.now)))
}
