//! What works by hand have staged, and its way to its names.

use std::collections::HashSet;
use std::io;
use std::path::{Path, PathBuf};

use crate::files::at::At;
use crate::filing::publish::{make_durable, place};
use crate::ledger::ids::{BatchId, OutputId};
use crate::ledger::requests::{MadeOutput, Unpublished, staged_name};
use crate::ledger::words::OutputRole;
use crate::work::hand::{HandError, REACH, failed};
use crate::work::meet::CopyPlan;

/// Files that are staged by hand.
#[derive(Default)]
pub(crate) struct StagedByHand {
    places: Vec<At>,
    outputs: Vec<Unpublished>,
}

impl StagedByHand {
    /// A name under which the file of this number is staged.
    pub fn place_for(&mut self, copy: &CopyPlan, number: usize) -> Result<At, HandError> {
        let folder = copy.path.parent().unwrap_or(Path::new("/"));
        let tag = format!("hand{}", std::process::id());
        let number = i64::try_from(number).unwrap_or(i64::MAX);
        let name = staged_name(&tag, BatchId::of(number), self.places.len() + 1);
        let at = REACH.at_made(&folder.join(name)).map_err(failed(folder))?;
        self.places.push(at.clone());
        Ok(at)
    }

    /// Takes what was staged at a place, to be brought to its name.
    pub fn keep(&mut self, copy: &CopyPlan, place: &At, made: &MadeOutput, role: OutputRole) {
        self.outputs.push(Unpublished {
            id: OutputId::of(0),
            batch: BatchId::of(0),
            path: copy.path.display().to_string(),
            staged: place.path().display().to_string(),
            mode: copy.mode,
            base_bytes: 0,
            base_sha256: copy.base_sha256,
            inode: made.inode,
            bytes: made.bytes,
            sha256: Some(made.sha256),
            role,
        });
    }

    /// Brings all to their names; gives where they came, and their length.
    pub fn publish(&self) -> Result<Vec<(PathBuf, u64)>, HandError> {
        let refused = |error: &dyn std::fmt::Display| HandError::Refused(error.to_string());
        let mut placed = Vec::new();
        for output in &self.outputs {
            let at = place(&REACH, output).map_err(|error| refused(&error))?;
            placed.push((at, output.bytes));
        }
        let mut synced = HashSet::new();
        for (at, _) in &placed {
            if synced.insert(at.folder().path().to_owned()) {
                make_durable(at).map_err(|error| refused(&error))?;
            }
        }
        Ok(placed.into_iter().map(|(at, bytes)| (at.path(), bytes)).collect())
    }

    /// Removes what did not come to its name: of ours, and of nobody else's.
    pub fn discard(&self) {
        for place in &self.places {
            let kept = self.outputs.iter().find(|one| Path::new(&one.staged) == place.path());
            let lies = place.version().ok().flatten().map(|version| version.inode);
            if kept.is_none_or(|one| lies == Some(one.inode)) {
                // One that came to its name is not there any more.
                let _: io::Result<()> = place.remove();
            }
        }
    }

    /// Removes the files in whose places all of it stands: they have the staged names now.
    pub fn remove_replaced(&self) -> io::Result<()> {
        self.places.iter().try_for_each(At::remove)
    }
}
