//! Bringing what is committed into its place.

use std::path::Path;

use crate::engine::pass::ctx::Pass;
use crate::engine::pass::hold::AGAIN;
use crate::filing::publish::publish;
use crate::ledger::error::LedgerError;
use crate::ledger::requests::Unpublished;

/// Publishes what is committed and does not stand in its place yet.
pub(crate) fn committed(p: &mut Pass) -> Result<(), LedgerError> {
    let live = std::sync::Arc::clone(&p.live);
    let mut problem = None;
    for output in live.context.ledger.unpublished(&live.gate.name)? {
        let _lock = live.context.outputs.take(Path::new(&output.path));
        problem = publish_one(p, &output)?.or(problem);
    }
    live.problem("output", problem);
    Ok(())
}

/// Publishes what a batch has made, whose targets the caller has locked.
pub(crate) fn batch(p: &mut Pass, batch: i64) -> Result<(), LedgerError> {
    for output in p.context().ledger.unpublished(&p.gate().name)? {
        if output.batch == batch
            && let Some(problem) = publish_one(p, &output)?
        {
            p.live.problem("output", Some(problem));
            p.wake_in(AGAIN);
        }
    }
    Ok(())
}

/// Why it is not published, if it is not.
fn publish_one(p: &Pass, output: &Unpublished) -> Result<Option<String>, LedgerError> {
    match publish(&p.context().config.reach, output) {
        Ok(place) => {
            tracing::debug!(batch = output.batch, place = %place.display(), "published");
            p.context().ledger.published(output.id, place.display().to_string())?;
            Ok(None)
        }
        Err(error) => Ok(Some(error.to_string())),
    }
}
