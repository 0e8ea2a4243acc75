//! What has been staged and is to be made durable together.

use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use crate::fault::at;
use crate::files::at::{At, Folder};
use crate::files::durable::Unsynced;
use crate::filing::moving::sum_of;
use crate::ledger::requests::MadeOutput;

/// A file that is staged, and not durable yet.
pub(crate) struct StagedCopy {
    pub made: MadeOutput,
    pub file: File,
    /// It is on another device than its source.
    pub away: bool,
}

/// What is wrong with a copy on another device, which is read once more.
fn not_as_written(place: &At, made: &MadeOutput) -> Option<io::Error> {
    match at("stage.verify").and_then(|()| sum_of(place)) {
        Ok(sum) if sum == made.sha256 => None,
        Ok(_) => Some(io::Error::other(format!(
            "the copy `{}` does not read as it was written",
            place.path().display()
        ))),
        Err(error) => Some(error),
    }
}

/// What has been staged and is to be made durable together.
pub(crate) struct Staged {
    unsynced: Unsynced,
    /// Copies on another device than their source, which are read once more.
    away: Vec<(At, MadeOutput)>,
    /// Folders in which copies are staged: their names must be there after a power cut.
    folders: BTreeMap<PathBuf, Arc<Folder>>,
}

impl Default for Staged {
    fn default() -> Self {
        let (away, folders) = (Vec::new(), BTreeMap::new());
        Staged { unsynced: Unsynced::of_outputs(), away, folders }
    }
}

impl Staged {
    /// Takes a copy that was staged at a place.
    pub fn keep(&mut self, place: &At, copy: StagedCopy) -> MadeOutput {
        let StagedCopy { made, file, away } = copy;
        self.unsynced.add(0, file);
        let folder = place.folder();
        self.folders.entry(folder.path().to_owned()).or_insert_with(|| Arc::clone(folder));
        if away {
            self.away.push((place.clone(), made.clone()));
        }
        made
    }

    /// Waits until all of it is on its disks, and reads as it was written.
    pub fn make_durable(self) -> io::Result<()> {
        if let Some((_, error)) = self.unsynced.finish().into_iter().next() {
            return Err(error);
        }
        self.folders.values().try_for_each(|folder| folder.sync())?;
        at("stage.synced")?;
        let wrong = self.away.iter().find_map(|(place, made)| not_as_written(place, made));
        wrong.map_or(Ok(()), Err)
    }
}
