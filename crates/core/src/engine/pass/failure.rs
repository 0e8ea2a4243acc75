//! How a batch ends that was not worked: one ending for all works.

use std::path::Path;
use std::time::Duration;

use crate::config::gate::Interrupted;
use crate::engine::clock::monotonic_now;
use crate::engine::gate::state::Live;
use crate::engine::pass::commit::ClaimedBatch;
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::hold::{AGAIN, entry_gone, hold_all, hold_entry, unreadable};
use crate::ledger::error::LedgerError;
use crate::ledger::ids::BatchId;
use crate::ledger::state::Cause;
use crate::ledger::types::Entry;
use crate::settings::values::write_duration;
use crate::work::outcome::{Failure, SourceFault};
use crate::work::seam::Work;

/// Takes note that the place of the work is away: everything waits, nothing is held.
pub(crate) fn away(p: &mut Pass, work: &dyn Work, why: &str) {
    p.place.failures = p.place.failures.saturating_add(1);
    let wait = work.retry().after(p.place.failures, 1);
    p.place.not_before = monotonic_now() + wait;
    p.wake_in(wait);
    let problem =
        format!("{}: {why}; files wait as ready, and it is tried again by itself", work.place());
    p.live.problem("place", Some(problem));
}

/// Takes note that the place of the work answers.
pub(crate) fn answered(p: &mut Pass) {
    if p.place.failures > 0 {
        p.place.failures = 0;
        p.live.problem("place", None);
    }
}

/// Ends a batch by a failure.
pub(crate) fn failed(
    p: &mut Pass,
    work: &dyn Work,
    batch: &ClaimedBatch,
    failure: Failure,
    words: String,
) -> Result<(), LedgerError> {
    let filings = &batch.filings;
    let number = batch.claimed.batch;
    p.context().meter.failure(&p.gate().name, failure.kind());
    tracing::debug!(batch = %number, ?failure, "not worked");
    match failure {
        Failure::Doubt(why) => {
            // Whether it is there is asked before anything else is done at that place.
            away(p, work, &format!("the connection was lost at the commit: {why}"));
            return Ok(());
        }
        Failure::Again(..) | Failure::Interrupted(_) | Failure::Output(_) => {}
        _ if p.place.failures > 0 && !matches!(failure, Failure::Away(_)) => answered(p),
        _ => {}
    }
    p.live.discard_staged(batch.claimed.staged.iter().flatten().map(std::path::PathBuf::as_path));
    match failure {
        Failure::Source(at, fault) => source(p, batch, at, fault, words),
        Failure::Output(error) => output(p, batch, &error, words),
        Failure::Refused(why) => hold_all(p, filings, &why, Cause::Pass, Some((number, words))),
        Failure::Away(why) => {
            let told = format!("its place was away: {why}");
            p.context().ledger.give_back_uncounted(number, told, words)?;
            away(p, work, &why);
            Ok(())
        }
        Failure::Again(after, said) => again(p, work, batch, after, &said, words),
        Failure::Interrupted(why) if p.gate().interrupted == Interrupted::Retry => {
            if p.stopping() {
                return give_back(p, number, None, why, words);
            }
            again(p, work, batch, None, &why, words)
        }
        Failure::Interrupted(why) => {
            let reason = format!("{why}: nobody can know how far it came");
            hold_all(p, filings, &reason, Cause::Pass, Some((number, words)))
        }
        Failure::Stopped => {
            let why = "the service stopped; nothing of the batch is visible".to_owned();
            give_back(p, number, None, why, words)
        }
        Failure::Doubt(_) => Ok(()),
    }
}

fn give_back(
    p: &Pass,
    batch: BatchId,
    not_before: Option<i64>,
    why: String,
    words: String,
) -> Result<(), LedgerError> {
    p.context().ledger.give_back(batch, not_before, Cause::Pass, why, words)
}

/// One of the sources is at fault: the others are worked without it.
fn source(
    p: &mut Pass,
    batch: &ClaimedBatch,
    at: usize,
    fault: SourceFault,
    words: String,
) -> Result<(), LedgerError> {
    let path = batch.filings.get(at).map_or("", |filing| &filing.entry.path);
    let why = match &fault {
        SourceFault::Faulty(why) => format!("the batch was given up over `{path}`: {why}"),
        _ => format!("the batch was given up because `{path}` changed"),
    };
    give_back(p, batch.claimed.batch, None, why, words)?;
    let Some(filing) = batch.filings.get(at) else { return Ok(()) };
    match fault {
        SourceFault::Changed => entry_gone(p, filing)?,
        SourceFault::Faulty(reason) => hold_entry(p, filing, &reason)?,
        SourceFault::Unreadable(error) => unreadable(p, Path::new(&filing.entry.path), &error),
        SourceFault::Stopped => {}
    }
    p.wake_in(Duration::ZERO);
    Ok(())
}

/// An output cannot be written: everything is tried again.
fn output(
    p: &mut Pass,
    batch: &ClaimedBatch,
    error: &std::io::Error,
    words: String,
) -> Result<(), LedgerError> {
    let first = batch.claimed.staged.iter().flatten().next().and_then(|staged| staged.parent());
    let why = match first {
        Some(folder) => {
            format!("the output in `{}` cannot be written: {error}", folder.display())
        }
        // Nothing was to lie here: the error says where it was to go.
        None => error.to_string(),
    };
    p.live.problem("output folder", Some(format!("{why}; it is tried again")));
    p.wake_in(AGAIN);
    let later = batch.filings.iter().map(|one| p.live.wait_from_now(one.entry.id, AGAIN)).min();
    give_back(p, batch.claimed.batch, later, why, words)
}

/// It is to be tried again, unless that was said too often.
fn again(
    p: &mut Pass,
    work: &dyn Work,
    batch: &ClaimedBatch,
    after: Option<Duration>,
    said: &str,
    words: String,
) -> Result<(), LedgerError> {
    let tries = batch.filings.iter().map(|filing| filing.entry.tries + 1).max().unwrap_or(1);
    let number = batch.claimed.batch;
    if let Some(after) = after {
        // The place asked for it: that holds for everything that goes there.
        p.place.not_before = monotonic_now() + after;
    }
    let mut not_before = None;
    for filing in &batch.filings {
        match try_again(&p.live, work, &filing.entry, tries, after, said) {
            TryAgain::At { until, wait, why } => {
                p.wake_in(wait);
                not_before = Some((until, why));
            }
            TryAgain::Held(reason) => {
                return hold_all(p, &batch.filings, &reason, Cause::Pass, Some((number, words)));
            }
        }
    }
    let Some((until, why)) = not_before else { return Ok(()) };
    give_back(p, number, Some(until), why, words)
}

/// When an entry is tried again, or that it is held.
pub(crate) enum TryAgain {
    /// At this time of the ledger, after this wait; why, in words.
    At { until: i64, wait: Duration, why: String },
    /// It was said too often.
    Held(String),
}

/// Decides about an entry that is to be tried again after its try number `tries`; `after`
/// is a wait that was asked for.
pub(crate) fn try_again(
    live: &Live,
    work: &dyn Work,
    entry: &Entry,
    tries: u32,
    after: Option<Duration>,
    said: &str,
) -> TryAgain {
    let retry = work.retry();
    if tries >= retry.tries {
        return TryAgain::Held(format!("{said}, and it was tried {tries} times"));
    }
    let wait = after.unwrap_or_else(|| retry.after(tries, entry.id.number()));
    let until = live.wait_from_now(entry.id, wait);
    let next = write_duration(wait);
    TryAgain::At { until, wait, why: format!("try {tries}: {said}; next in {next}") }
}
