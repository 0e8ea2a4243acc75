//! What becomes of an entry that is not worked: it is held, or gone, or waits.

use std::path::Path;
use std::time::Duration;

use crate::engine::pass::ctx::Pass;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::BatchId;
use crate::ledger::requests::Hold;
use crate::ledger::state::Cause;
use crate::ledger::types::OpenEntry;
use crate::words::visible;

/// After an output could not be written, or a source not be read, it is tried again this
/// much later.
pub(crate) const AGAIN: Duration = Duration::from_secs(5);

/// Holds an entry for a person.
pub(crate) fn hold_entry(
    p: &mut Pass,
    filing: &OpenEntry,
    reason: &str,
) -> Result<(), LedgerError> {
    hold_all(p, std::slice::from_ref(filing), reason, Cause::Pass, None)
}

/// Holds entries for a person; `batch` is ended with its words where one is given.
pub(crate) fn hold_all(
    p: &mut Pass,
    filings: &[OpenEntry],
    reason: &str,
    cause: Cause,
    batch: Option<(BatchId, String)>,
) -> Result<(), LedgerError> {
    p.report.held += filings.len() as u64;
    for filing in filings {
        let OpenEntry { entry, .. } = filing;
        tracing::info!(entry = entry.id.number(), path = %visible(&entry.path), "held: {reason}");
    }
    let hold = |filing: &OpenEntry| Hold {
        entry: filing.entry.id,
        reason: reason.to_owned(),
        target: p.live.hold_path(&filing.entry),
    };
    let holds = filings.iter().map(hold).collect();
    p.context().ledger.hold(holds, cause, batch)
}

/// Entries whose file is not the fingerprinted version any more; the file that is there now
/// is a new arrival.
pub(crate) fn entry_gone(p: &mut Pass, filing: &OpenEntry) -> Result<(), LedgerError> {
    p.live.forget(&filing.entry);
    p.wake_in(Duration::ZERO);
    let why = "its file was replaced or removed before it was worked".to_owned();
    p.context().ledger.gone(vec![(filing.entry.id, why)], Cause::Pass)
}

/// A source that cannot be read now.
pub(crate) fn unreadable(p: &mut Pass, path: &Path, error: &std::io::Error) {
    p.live.problem(
        "source",
        Some(format!("`{}` cannot be read: {error}; it is tried again", path.display())),
    );
    p.wake_in(AGAIN);
}
