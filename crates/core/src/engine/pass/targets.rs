//! What batches are worked into: one batch at a time for each.

use std::path::{Path, PathBuf};

use crate::engine::gate::state::Live;
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::hold::AGAIN;
use crate::engine::shared::OutputLock;
use crate::ledger::error::LedgerError;
use crate::work::seam::Target;

impl Target {
    fn path(&self) -> &Path {
        match self {
            Target::Output(path) | Target::Turn(path) => path,
        }
    }
}

/// Locks targets, until what is given is dropped.
pub(crate) fn lock<'l>(live: &'l Live, targets: &[Target]) -> Vec<OutputLock<'l>> {
    // Always in the same order, so that two gates never wait for each other.
    let mut paths: Vec<PathBuf> = targets.iter().map(|one| one.path().to_owned()).collect();
    paths.sort();
    paths.dedup();
    paths.iter().map(|path| live.context.outputs.take(path)).collect()
}

/// Whether something can be worked into these targets now: their folders are there, and an
/// earlier piece stands in its place.
pub(crate) fn are_ready(p: &mut Pass, targets: &[Target]) -> Result<bool, LedgerError> {
    for target in targets {
        let path = target.path();
        if matches!(target, Target::Output(_))
            && p.context().ledger.pending_output(&path.display().to_string())?
        {
            // It is a standing problem.
            return Ok(false);
        }
        let folder = path.parent().unwrap_or(Path::new("/"));
        let live = std::sync::Arc::clone(&p.live);
        if let Err(error) = p.folders.ensure(&live.context.config.reach, folder) {
            live.problem("output folder", Some(error.to_string()));
            p.wake_in(AGAIN);
            return Ok(false);
        }
    }
    p.live.problem("output folder", None);
    Ok(true)
}
