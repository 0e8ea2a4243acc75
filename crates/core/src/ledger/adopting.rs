//! Entering what was worked before there was a ledger.

use rusqlite::params;

use crate::ledger::entering::predecessor;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::ids::EntryId;
use crate::ledger::inserting::{Row, insert};
use crate::ledger::new_entry::NewEntry;
use crate::ledger::state::{Cause, State};
use crate::ledger::writer::Tx;

/// Enters a version as already worked; gives its number.
pub(crate) fn insert_adopted(
    tx: &mut Tx<'_>,
    new: &NewEntry,
    words: &str,
) -> Result<EntryId, LedgerError> {
    let id: EntryId = tx
        .one("SELECT COALESCE(MAX(id), 0) + 1 FROM entry", [], |row| row.get(0))
        .map_err(writing)?;
    let row = Row {
        state: State::Adopted,
        identity: Some(&new.identity),
        repeat_of: None,
        revision_of: predecessor(tx, new)?.map(|(earlier, _)| earlier),
        target: None,
    };
    // An identity whose time is over is free.
    let free = "UPDATE entry SET identity = NULL WHERE space = ? AND identity = ?";
    tx.run(free, params![new.space, new.identity]).map_err(writing)?;
    insert(tx, id, new, &row)?;
    tx.uses_space(&new.space);
    tx.entered(id);
    tx.count(&new.gate, None, State::Adopted);
    tx.tell(id, &new.gate, State::Adopted, Cause::Person, words)?;
    Ok(id)
}
