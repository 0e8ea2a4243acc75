//! Files that lost their names to what was made of them.

use std::collections::HashMap;
use std::path::PathBuf;

use crate::engine::pass::ctx::Pass;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::state::State;
use crate::ledger::types::OpenEntry;

/// Where files lie in whose place stands what was made of them, batch by batch.
#[derive(Default)]
pub(crate) struct Replaced {
    batch: Option<BatchId>,
    places: HashMap<EntryId, PathBuf>,
}

impl Replaced {
    /// Where the file of an entry lies; none where nothing took its place.
    pub fn place(&mut self, p: &Pass, filing: &OpenEntry) -> Result<Option<PathBuf>, LedgerError> {
        let entry = &filing.entry;
        let (State::Worked, Some(batch)) = (entry.state, entry.batch) else { return Ok(None) };
        if self.batch != Some(batch) {
            self.places = p.context().ledger.replaced_in_place(batch)?;
            self.batch = Some(batch);
        }
        Ok(self.places.remove(&entry.id))
    }
}
