//! Bringing what is committed into its place.

use std::collections::HashMap;
use std::path::Path;

use crate::engine::pass::ctx::Pass;
use crate::engine::pass::hold::AGAIN;
use crate::filing::publish::{make_durable, place};
use crate::ledger::error::LedgerError;
use crate::ledger::requests::Unpublished;

/// Publishes what is committed and does not stand in its place yet.
pub(crate) fn committed(p: &mut Pass) -> Result<(), LedgerError> {
    let live = std::sync::Arc::clone(&p.live);
    let mut problem = None;
    for output in live.context.ledger.unpublished(&live.gate.name)? {
        let _lock = live.context.outputs.take(Path::new(&output.path));
        problem = publish_all(p, std::slice::from_ref(&output))?.or(problem);
    }
    live.problem("output", problem);
    Ok(())
}

/// Publishes what a batch has made, whose targets the caller has locked.
pub(crate) fn batch(p: &mut Pass, batch: i64) -> Result<(), LedgerError> {
    let mut outputs = p.context().ledger.unpublished(&p.gate().name)?;
    outputs.retain(|output| output.batch == batch);
    if let Some(problem) = publish_all(p, &outputs)? {
        p.live.problem("output", Some(problem));
        p.wake_in(AGAIN);
    }
    Ok(())
}

/// Brings outputs into their places, in their order, and makes each folder durable once;
/// why one is not published, if one is not.
fn publish_all(p: &Pass, outputs: &[Unpublished]) -> Result<Option<String>, LedgerError> {
    let (mut problem, mut placed) = (None, Vec::new());
    let mut folders = HashMap::new();
    for output in outputs {
        match place(&p.context().config.reach, output) {
            Ok(at) => {
                let path = at.path();
                folders.entry(at.folder().path().to_owned()).or_insert_with(|| at.clone());
                placed.push((output, path));
            }
            Err(error) => problem = Some(error.to_string()),
        }
    }
    for (folder, at) in folders {
        if let Err(error) = make_durable(&at) {
            placed.retain(|(_, path)| path.parent() != Some(&folder));
            problem = Some(error.to_string());
        }
    }
    if placed.is_empty() {
        return Ok(problem);
    }
    let told = placed.into_iter().map(|(output, path)| {
        tracing::debug!(batch = output.batch, place = %path.display(), "published");
        (output.id, path.display().to_string())
    });
    p.context().ledger.published(told.collect())?;
    Ok(problem)
}
