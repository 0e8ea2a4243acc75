//! Asking places about claims of which nobody knows whether they were carried out.

use std::sync::Arc;
use std::time::Instant;

use crate::engine::pass::commit::{ClaimedBatch, record};
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::failure::{answered, away};
use crate::engine::pass::hold::hold_all;
use crate::engine::pass::{publish, targets};
use crate::ledger::error::LedgerError;
use crate::ledger::ids::BatchId;
use crate::ledger::pending::OpenClaim;
use crate::ledger::requests::Claimed;
use crate::ledger::state::{Cause, State};
use crate::ledger::types::{Entry, OpenEntry};
use crate::ledger::words::Effect;
use crate::work::WORKS;
use crate::work::outcome::Asked;
use crate::work::seam::{Blocked, Work};

/// Asks the work's place about every open claim; gives whether all is known now.
pub(crate) fn about_open_claims(p: &mut Pass, work: &dyn Work) -> Result<bool, LedgerError> {
    if work.effect() != Effect::Proven {
        return Ok(true);
    }
    let live = Arc::clone(&p.live);
    let open = live.context.ledger.open_claims(&live.gate.name)?;
    for claim in open.into_iter().filter(|claim| claim.effect == Effect::Proven) {
        if claim.proof().is_some_and(|(place, _)| !work.knows(place)) {
            hold_lost(p, &claim)?;
            continue;
        }
        let turn = targets::lock(&live, &work.turn());
        let filings = entries_of(p, claim.batch)?;
        let entries: Vec<Entry> = filings.iter().map(|filing| filing.entry.clone()).collect();
        let Some(worker) = p.place.worker(work) else { return Ok(false) };
        let asked = live.lend(false, |env| worker.ask(&claim, &entries, env));
        match asked {
            Ok(asked) => end(p, &claim, filings, asked)?,
            Err(Blocked::Away(why)) => {
                away(p, work, &why);
                return Ok(false);
            }
            Err(Blocked::Hold(why) | Blocked::Output(why)) => {
                live.problem("claim", Some(format!("{why}; it is tried again")));
                p.wake_in(work.retry().up_to);
                return Ok(false);
            }
            Err(Blocked::Ledger(error)) => return Err(error),
        }
        answered(p);
        live.problem("claim", None);
        drop(turn);
        publish::committed(p)?;
    }
    Ok(true)
}

/// Ends a claim of which the place now tells.
fn end(
    p: &mut Pass,
    claim: &OpenClaim,
    filings: Vec<OpenEntry>,
    asked: Asked,
) -> Result<(), LedgerError> {
    match asked {
        Asked::There(made) => {
            let claimed = Claimed {
                batch: claim.batch,
                proof: String::new(),
                key: String::new(),
                staged: claim.outputs.iter().map(|output| output.staged.clone()).collect(),
            };
            let batch = ClaimedBatch {
                claimed,
                filings,
                effect: claim.effect,
                work: claim.work,
                began: Instant::now(),
            };
            record(p, &batch, made, String::new())
        }
        Asked::NotThere(why) => {
            p.live.discard_staged(claim.staged());
            let ledger = &p.context().ledger;
            ledger.give_back(claim.batch, None, Cause::Recovery, why, String::new())
        }
    }
}

/// The entries that are being worked in a batch.
pub(crate) fn entries_of(p: &Pass, batch: BatchId) -> Result<Vec<OpenEntry>, LedgerError> {
    let mut working = p.context().ledger.open_entries(&p.gate().name, State::Working)?;
    working.retain(|filing| filing.entry.batch == Some(batch));
    Ok(working)
}

/// Holds the entries of a claim at a place that the gate does not know any more.
pub(crate) fn hold_lost(p: &mut Pass, claim: &OpenClaim) -> Result<(), LedgerError> {
    let (place, proof) = claim.proof().unwrap_or_default();
    let kind = WORKS.iter().find(|kind| kind.kind == claim.work);
    let reason = kind.map_or_else(
        || format!("interrupted while it was worked into `{place}`"),
        |kind| (kind.lost)(place, proof),
    );
    let filings = entries_of(p, claim.batch)?;
    // What was set aside is in the files themselves, which are held.
    p.live.discard_staged(claim.staged());
    let ended = Some((claim.batch, String::new()));
    hold_all(p, &filings, &reason, Cause::Recovery, ended)
}
