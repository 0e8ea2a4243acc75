//! Files that take the place of others in the drop folder, before their time.

use std::collections::HashSet;

use crate::engine::gate::state::Live;
use crate::engine::pass::candidate::Candidate;
use crate::engine::pass::enter::{identity_holder, new_entries};
use crate::engine::pass::fingerprint::{ToBe, buffer_for, fingerprint_all};
use crate::ledger::error::LedgerError;
use crate::ledger::finding::ReplacementOutcome;
use crate::ledger::ids::EntryId;
use crate::ledger::new_entry::NewEntry;

/// Ends the entries whose files were replaced by other content before they were worked,
/// so that what they were is free before anything new is entered: a file that is the same
/// as one that was mended is no repeat of it.
pub(crate) fn end_replaced(
    live: &Live,
    generation: u32,
    candidates: &[Candidate],
) -> Result<(), LedgerError> {
    // One alone gives its own identity up when it is entered.
    if candidates.len() < 2 {
        return Ok(());
    }
    let known: Vec<(&Candidate, EntryId)> = {
        let state = live.state();
        let all = candidates.iter();
        all.filter_map(|one| Some((one, state.known.get(one.path.as_str())?.entry))).collect()
    };
    let ledger = &live.context.ledger;
    let mut replaced = Vec::new();
    for (candidate, entry) in known {
        if ledger.is_before_work(entry)? {
            replaced.push(candidate.clone());
        }
    }
    if replaced.is_empty() {
        return Ok(());
    }
    let buffer = &mut buffer_for(replaced.iter());
    let settled = fingerprint_all(live, generation, &replaced, buffer, ToBe::Told).settled;
    ledger.end_replaced(new_entries(live, settled))
}

/// What stands in the way of a file, when all files with it are entered.
pub(crate) enum IdentityHolder {
    /// Its own entry: the file was touched, and its content is the same.
    Itself,
    /// Another entry with its identity, if there is one.
    Other(Option<EntryId>),
}

/// Who has the identities of these, as it will be when all of them are entered.
pub(crate) fn holders(live: &Live, new: &[NewEntry]) -> Result<Vec<IdentityHolder>, LedgerError> {
    let ledger = &live.context.ledger;
    let (mut touched, mut freed) = (HashSet::new(), HashSet::new());
    for new in new {
        let Some(old) = new.replaces else { continue };
        match ledger.fate(old, &new.sha256)? {
            Some(ReplacementOutcome::Touched) => touched.insert(old),
            Some(ReplacementOutcome::Ends) => freed.insert(old),
            None => false,
        };
    }
    let holder = |new: &NewEntry| {
        if new.replaces.is_some_and(|old| touched.contains(&old)) {
            return Ok(IdentityHolder::Itself);
        }
        let holder = identity_holder(live, new)?;
        Ok(IdentityHolder::Other(holder.filter(|first| !freed.contains(first))))
    };
    new.iter().map(holder).collect()
}
