//! Recovery: ending what an earlier run left unfinished at a gate, before its first pass.
//!
//! What can be known of a claim's effect stands in the ledger with it: whatever the gate
//! does today, it is ended as what it was.

use std::path::Path;

use crate::config::gate::Interrupted;
use crate::engine::gate::state::Live;
use crate::engine::pass::ask::{entries_of, hold_lost};
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::hold::{hold_all, hold_entry};
use crate::engine::pass::{file, publish};
use crate::files::at::At;
use crate::ledger::error::LedgerError;
use crate::ledger::pending::OpenClaim;
use crate::ledger::state::Cause;
use crate::ledger::words::Effect;
use crate::work::seam::Drive;

/// Entries that were `working` go back to `ready`, or are held when nobody can know whether
/// their work was done; what was committed is published and filed.
pub(crate) fn unfinished(p: &mut Pass) -> Result<(), LedgerError> {
    if p.recovered {
        return Ok(());
    }
    let name = p.gate().name.clone();
    for claim in p.context().ledger.open_claims(&name)? {
        end_claim(p, &claim)?;
    }
    for (filing, _) in p.context().ledger.ready(&name)? {
        if let Some(why) = p.context().deaths.condemned(filing.entry.id) {
            hold_entry(p, &filing, &why)?;
        }
    }
    publish::committed(p)?;
    let worked = file::to_file(p)?;
    file::file(p, worked, Cause::Recovery)?;
    file::end_filings(p)?;
    p.recovered = true;
    Ok(())
}

fn end_claim(p: &mut Pass, claim: &OpenClaim) -> Result<(), LedgerError> {
    let live = std::sync::Arc::clone(&p.live);
    let work = live.gate.work.as_deref();
    if claim.leased && work.is_some_and(|work| matches!(work.drive(), Drive::Pulled { .. })) {
        // The worker goes on; when its lease is over that is seen by itself.
        return Ok(());
    }
    match claim.effect {
        Effect::Proven => {
            let place = claim.proof().map(|(place, _)| place);
            if place.is_none_or(|place| !work.is_some_and(|work| work.knows(place))) {
                hold_lost(p, claim)?;
            }
            // The place is asked before anything else is done there.
            Ok(())
        }
        Effect::Unprovable if p.gate().interrupted == Interrupted::Hold => {
            p.live.discard_staged(claim.staged());
            let reason =
                "interrupted while its program ran: nobody can know whether the program finished";
            let filings = entries_of(p, claim.batch)?;
            hold_all(p, &filings, reason, Cause::Recovery, Some((claim.batch, String::new())))
        }
        Effect::Unprovable | Effect::Staged => {
            p.live.discard_staged(claim.staged());
            let why = "interrupted while it was worked; nothing of that is visible".to_owned();
            let ledger = &p.context().ledger;
            ledger.give_back(claim.batch, None, Cause::Recovery, why, String::new())
        }
    }
}

impl Live {
    /// Removes staged files that nobody needs any more; one that is not there is no fault.
    pub fn discard_staged<'a>(&self, staged: impl IntoIterator<Item = &'a Path>) {
        for path in staged {
            let found = self.context.config.reach.at_if_there(path);
            if let Err(error) = found.and_then(|at| at.map_or(Ok(()), |at| remove(&at))) {
                let shown = path.display();
                tracing::warn!(
                    gate = %self.gate.name, "the staged file `{shown}` cannot be removed: {error}"
                );
            }
        }
    }
}

/// A batch may have staged a file, or a folder of them.
fn remove(at: &At) -> std::io::Result<()> {
    match at.remove() {
        Err(error) if error.raw_os_error() == Some(libc::EISDIR) => at.remove_tree(),
        other => other,
    }
}
