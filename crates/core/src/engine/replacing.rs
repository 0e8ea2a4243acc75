//! Files that take the place of others in the drop folder, before their time.

use std::collections::HashSet;

use super::fingerprinting::{BUFFER, Candidate, fingerprint_all};
use super::live::Live;
use super::new_entries::{identity_holder, new_entries};
use crate::ledger::{LedgerError, NewEntry};

/// Ends the entries whose files were replaced by other content before they were worked,
/// so that what they were is free before anything new is entered: a file that is the same
/// as one that was mended is no repeat of it.
pub(super) fn end_replaced(
    live: &Live,
    generation: u32,
    candidates: &[Candidate],
) -> Result<(), LedgerError> {
    // One alone gives its own identity up when it is entered.
    if candidates.len() < 2 {
        return Ok(());
    }
    let known: Vec<(&Candidate, i64)> = {
        let state = live.state();
        let all = candidates.iter();
        all.filter_map(|one| Some((one, state.known.get(&one.path)?.entry))).collect()
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
    let settled = fingerprint_all(live, generation, &replaced, &mut vec![0; BUFFER]).settled;
    ledger.end_replaced(new_entries(live, settled))
}

/// Who has the identities of these, as it will be when all of them are entered.
pub(super) fn holders(live: &Live, new: &[NewEntry]) -> Result<Vec<Option<i64>>, LedgerError> {
    let holders =
        new.iter().map(|new| identity_holder(live, new)).collect::<Result<Vec<_>, _>>()?;
    // What is replaced by other content gives its identity up; what was only touched
    // is no other.
    let replaced = new.iter().zip(&holders).filter(|(new, holder)| new.replaces != **holder);
    let freed: HashSet<i64> = replaced.filter_map(|(new, _)| new.replaces).collect();
    let still = |(new, holder): (&NewEntry, Option<i64>)| {
        holder.filter(|first| Some(*first) != new.replaces && !freed.contains(first))
    };
    Ok(new.iter().zip(holders).map(still).collect())
}
