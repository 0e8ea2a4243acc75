//! Bringing what is committed into its place.

use std::collections::{BTreeMap, HashMap};
use std::io;
use std::path::{Path, PathBuf};

use crate::engine::pass::ctx::Pass;
use crate::engine::pass::hold::AGAIN;
use crate::engine::shared::OutputLock;
use crate::files::kept_open::KeptOpen;
use crate::filing::publish::{PublishError, end_folder, make_durable, place, place_folder};
use crate::ledger::error::LedgerError;
use crate::ledger::ids::BatchId;
use crate::ledger::requests::Unpublished;
use crate::ledger::words::OutputRole;

/// Publishes what is committed and does not stand in its place yet.
pub(crate) fn committed(p: &mut Pass) -> Result<(), LedgerError> {
    let live = std::sync::Arc::clone(&p.live);
    let mut batches: BTreeMap<BatchId, Vec<Unpublished>> = BTreeMap::new();
    for output in live.context.ledger.unpublished(&live.gate.name)? {
        batches.entry(output.batch).or_default().push(output);
    }
    let mut problem = None;
    for outputs in batches.into_values() {
        // Files of their own meet what is there when they come to their names.
        let shared = outputs.iter().filter(|output| !output.role.is_handed_over());
        let mut paths: Vec<&Path> = shared.map(|output| Path::new(&output.path)).collect();
        paths.sort();
        paths.dedup();
        let locks = paths.iter().map(|path| live.context.outputs.take(path));
        let _locks: Vec<OutputLock<'_>> = locks.collect();
        problem = publish_all(p, &outputs)?.or(problem);
    }
    live.problem("output", problem);
    Ok(())
}

/// Publishes what a batch has made, whose targets the caller has locked.
pub(crate) fn batch(p: &mut Pass, outputs: &[Unpublished]) -> Result<(), LedgerError> {
    if let Some(problem) = publish_all(p, outputs)? {
        p.live.problem("output", Some(problem));
        p.wake_in(AGAIN);
    }
    Ok(())
}

/// Brings the outputs of a batch into their places, in their order, and makes each folder
/// durable once; why one is not published, if one is not.
fn publish_all(p: &Pass, outputs: &[Unpublished]) -> Result<Option<String>, LedgerError> {
    let _open = KeptOpen::begin();
    let reach = &p.context().config.reach;
    let (folders, files): (Vec<&Unpublished>, Vec<&Unpublished>) =
        outputs.iter().partition(|output| output.role == OutputRole::Unpacked);
    let mut problem = None;
    // Of an archive out of which nothing came there is no folder.
    for folder in folders.iter().filter(|_| !files.is_empty()) {
        if let Err(error) = place_folder(reach, folder) {
            problem = Some(not_published(folder, &error));
        }
    }
    let (mut placed, mut touched) = (Vec::new(), HashMap::new());
    for output in files {
        match place(reach, output) {
            Ok(at) => {
                let path = at.path();
                touched.entry(at.folder().path().to_owned()).or_insert_with(|| at.clone());
                placed.push((output, path));
            }
            Err(PublishError::Lost { .. }) if was_taken(p, output)? => {
                placed.push((output, PathBuf::from(&output.path)));
            }
            Err(error) => problem = Some(error.to_string()),
        }
    }
    for (folder, at) in touched {
        if let Err(error) = make_durable(&at) {
            placed.retain(|(_, path)| path.parent() != Some(&folder));
            problem = Some(error.to_string());
        }
    }
    // What is left of a staged folder goes once nothing of it is needed any more.
    for folder in folders {
        if problem.is_some() {
            break;
        }
        match end_folder(reach, folder) {
            Ok(()) => placed.push((folder, PathBuf::from(&folder.path))),
            Err(error) => problem = Some(not_published(folder, &error)),
        }
    }
    if placed.is_empty() {
        return Ok(problem);
    }
    let told = placed.into_iter().map(|(output, path)| {
        tracing::debug!(batch = %output.batch, place = %path.display(), "published");
        (output.id, path.display().to_string())
    });
    p.context().ledger.published(told.collect())?;
    Ok(problem)
}

fn not_published(folder: &Unpublished, error: &io::Error) -> String {
    format!("`{}` cannot be published: {error}", folder.path)
}

/// Whether a gate took what came to its name before an interruption.
fn was_taken(p: &Pass, output: &Unpublished) -> Result<bool, LedgerError> {
    match output.sha256 {
        Some(sha256) if output.role.is_handed_over() => {
            p.context().ledger.has_come(output.inode, sha256)
        }
        _ => Ok(false),
    }
}
