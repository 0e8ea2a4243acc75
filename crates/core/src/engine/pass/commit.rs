//! The record of a batch that was worked.

use std::time::{Duration, Instant};

use crate::engine::meter::BatchFigures;
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::{publish, usual};
use crate::ledger::error::LedgerError;
use crate::ledger::requests::{Claimed, CommitBatch, Unpublished};
use crate::ledger::types::OpenEntry;
use crate::ledger::words::{Effect, WorkKind};
use crate::work::outcome::Made;

/// After the ledger could not record what nobody can know again, it is tried again this
/// much later.
const RECORD_AGAIN: Duration = Duration::from_secs(1);

/// A batch whose entries are claimed.
pub(crate) struct ClaimedBatch {
    pub claimed: Claimed,
    pub filings: Vec<OpenEntry>,
    pub effect: Effect,
    /// Which work it is.
    pub work: WorkKind,
    /// When it was claimed, or asked about.
    pub began: Instant,
}

/// Records a batch as worked, and publishes what it made.
pub(crate) fn record(
    p: &mut Pass,
    batch: &ClaimedBatch,
    made: Made,
    words: String,
) -> Result<(), LedgerError> {
    let number = batch.claimed.batch;
    // What was not needed must not be left.
    let unneeded = batch.claimed.staged.iter().zip(&made.outputs);
    let unneeded = unneeded.filter(|(_, made)| made.is_none());
    p.live.discard_staged(unneeded.filter_map(|(staged, _)| staged.as_deref()));
    let mut entries = Vec::with_capacity(batch.filings.len());
    for (at, filing) in batch.filings.iter().enumerate() {
        let mut entry = filing.entry.clone();
        entry.batch = Some(number);
        // Without a place it is worked all the same, and told when it is to be filed.
        let target = p.live.archive_path(&entry).unwrap_or(None);
        entries.push((entry.id, made.rows.get(at).copied(), target));
    }
    p.report.worked += entries.len() as u64;
    let rows = made.rows.iter().sum();
    let unusual = usual::rows(&p.live, &batch.filings, &made.rows)?;
    tracing::debug!(batch = %number, "carried out; to be committed");
    let Made { outputs, entered, .. } = made;
    let commit = CommitBatch { batch: number, entries, outputs, entered, words };
    let outputs = if batch.effect == Effect::Unprovable {
        commit_insisting(p, &commit)?
    } else {
        p.context().ledger.commit(&p.gate().name, commit)?
    };
    p.context().ledger.happened(unusual, Vec::new())?;
    publish::batch(p, &outputs)?;
    tell(p, batch, rows);
    Ok(())
}

/// The work is done, and nobody could know that again: only the record is missing, and it is
/// tried until the ledger takes it, rather than to do the work twice.
fn commit_insisting(p: &Pass, commit: &CommitBatch) -> Result<Vec<Unpublished>, LedgerError> {
    loop {
        match p.context().ledger.commit(&p.gate().name, commit.clone()) {
            Err(error @ LedgerError::Sqlite { .. }) => {
                let words = format!("{error}; a finished program waits for its record");
                p.live.problem("ledger", Some(words));
                if p.context().stopped_within(RECORD_AGAIN) {
                    return Err(error);
                }
            }
            other => return other,
        }
    }
}

/// Counts a batch that was worked, and tells of it.
fn tell(p: &Pass, batch: &ClaimedBatch, rows: u64) {
    let figures = BatchFigures {
        work: batch.work,
        files: batch.filings.len() as u64,
        bytes: batch.filings.iter().map(|filing| filing.entry.bytes).sum(),
        rows,
        took: batch.began.elapsed(),
    };
    p.context().meter.batch(&p.gate().name, &figures);
    let BatchFigures { work, files, bytes, rows, took } = figures;
    let (number, took_ms) = (batch.claimed.batch, took.as_millis());
    let first = batch.filings.first().map(|filing| filing.entry.id.number());
    tracing::info!(batch = %number, %work, files, bytes, rows, first, took_ms, "worked");
}
