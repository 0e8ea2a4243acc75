//! What entering will read is asked for beforehand, so that the writer need not wait for it.
//!
//! Identities are sums, and lie anywhere in their index: where memory does not hold it each file
//! is a page of the disk, and the one thread that writes would wait for one after the other. A
//! disk gives several in the time of one.

use rusqlite::{Connection, params};

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::new_entry::NewEntry;

/// Up to so many entries their indexes lie in memory, and nothing is gained.
///
/// None in builds with debug assertions, so that tests go this way.
const MANY: i64 = if cfg!(debug_assertions) { 0 } else { 2_000_000 };

/// So many ask at once.
const ASKING: usize = 4;

/// The writer itself is quicker with fewer.
const LEAST: usize = if cfg!(debug_assertions) { 2 } else { 64 };

impl Ledger {
    /// Has the pages come into memory that entering these will read. What cannot be read is told
    /// by whoever needs it.
    pub(crate) fn look_ahead(&self, entries: &[NewEntry]) {
        let few = || self.newest_entry().is_ok_and(|newest| newest.number() < MANY);
        if entries.len() < LEAST || few() {
            return;
        }
        std::thread::scope(|scope| {
            for some in entries.chunks(entries.len().div_ceil(ASKING)) {
                scope.spawn(|| {
                    if let Err(error) = self.read(|reader| ask_for(reader, some)) {
                        tracing::debug!("what is to be entered is not looked at before: {error}");
                    }
                });
            }
        });
    }
}

fn ask_for(reader: &Connection, entries: &[NewEntry]) -> Result<(), LedgerError> {
    let ask = || -> rusqlite::Result<()> {
        let mut identity = reader.prepare_cached(
            "SELECT EXISTS (SELECT 1 FROM entry WHERE space = ? AND identity = ?)",
        )?;
        let mut path = reader
            .prepare_cached("SELECT EXISTS (SELECT 1 FROM entry WHERE gate = ? AND path = ?)")?;
        for new in entries {
            identity.query_row(params![new.space, new.identity], |_| Ok(()))?;
            path.query_row(params![new.gate, new.path], |_| Ok(()))?;
        }
        Ok(())
    };
    ask().map_err(reading)
}
