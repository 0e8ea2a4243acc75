//! Leases whose time is over: nobody can know how far the worker came.

use std::time::Duration;

use crate::config::gate::Interrupted;
use crate::engine::gate::state::Live;
use crate::engine::pass::ctx::Pass;
use crate::ledger::error::LedgerError;
use crate::ledger::pending::Leased;
use crate::ledger::requests::Hold;
use crate::ledger::state::Cause;

/// Ends leases whose time is over.
pub(crate) fn expire(p: &mut Pass) -> Result<(), LedgerError> {
    let name = p.gate().name.clone();
    for leased in p.context().ledger.leases(&name)? {
        let left = p.live.lease_left(&leased);
        if !left.is_zero() {
            p.wake_in(left + Duration::from_millis(1));
            continue;
        }
        let why = format!("the lease of worker `{}` was over", leased.worker);
        if p.gate().interrupted == Interrupted::Retry {
            let ledger = &p.context().ledger;
            ledger.give_back(leased.batch, None, Cause::Pass, why, String::new())?;
        } else {
            let reason = format!("{why}: nobody can know how far it came");
            hold_leased(&p.live, &leased, reason, String::new())?;
            p.report.held += 1;
        }
    }
    Ok(())
}

/// Holds the entry of a lease, and ends its batch.
pub(crate) fn hold_leased(
    live: &Live,
    leased: &Leased,
    reason: String,
    words: String,
) -> Result<(), LedgerError> {
    let ledger = &live.context.ledger;
    let Some(entry) = ledger.entry(leased.entry)? else { return Ok(()) };
    let hold = Hold { entry: entry.id, reason, target: live.hold_path(&entry) };
    ledger.hold(vec![hold], Cause::Pass, Some((leased.batch, words)))
}
