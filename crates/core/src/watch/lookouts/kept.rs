//! What a lookout knows of its folders: since when each file lies there, and how it was.

use std::collections::{HashMap, HashSet};

use jiff::Timestamp;

use crate::config::lookout::Lookout;
use crate::ledger::happenings::NewHappening;
use crate::ledger::lookouts::RightFile;
use crate::ledger::{Ledger, LedgerError};
use crate::watch::lookouts::events::Events;
use crate::watch::lookouts::folder::KnownFolder;
use crate::watch::lookouts::look::Found;

/// So many right files are recorded in one transaction: other work waits for it.
const TOGETHER: usize = 5_000;

/// What a lookout knows.
pub(crate) struct Kept {
    folders: HashMap<String, KnownFolder>,
    /// Whether it has looked once.
    looked: bool,
    /// Whether the ledger has what is right.
    has_right: bool,
}

impl Kept {
    /// Begins with what was right when the service ended.
    pub fn begin(ledger: &Ledger, lookout: &Lookout) -> Result<Self, LedgerError> {
        let has_right = lookout.unchanged && ledger.knows_right(&lookout.name)?;
        Ok(Kept { folders: HashMap::new(), looked: false, has_right })
    }

    /// The files of a folder, with the time since when each lies there.
    pub fn files(&self, folder: &str) -> impl Iterator<Item = (&str, Timestamp)> {
        self.folders.get(folder).into_iter().flat_map(KnownFolder::files)
    }

    /// That a folder is not the one that it was.
    pub fn replaced(&self, folder: &str) -> Option<&str> {
        self.folders.get(folder)?.replaced.as_deref()
    }

    /// How the files of a folder differ from what was right.
    pub fn different(&self, folder: &str) -> Option<String> {
        self.folders.get(folder)?.differing.words()
    }

    /// Takes what was found, and the files out of it; `right` when a person says that it is right as it is. Gives what
    /// is to be told of files.
    pub fn take(
        &mut self,
        ledger: &Ledger,
        lookout: &Lookout,
        found: &mut Found,
        now: Timestamp,
        right: bool,
    ) -> Result<Vec<NewHappening>, LedgerError> {
        // The first look says what is right, and so does a person.
        let says_right = lookout.unchanged && (right || !self.has_right);
        let compared = (lookout.unchanged && !says_right).then_some(ledger);
        let mut events = Events::begin(lookout, !self.looked);
        for folder in found.folders.iter_mut().filter(|one| one.problems.is_empty()) {
            let known = self.folders.entry(folder.path.clone()).or_default();
            known.note_identity(folder, right);
            known.take(folder, now, lookout, compared, &mut events)?;
        }
        // Folders that are gone, with what lay in them; not those that cannot be read.
        let there: HashSet<&str> = found.folders.iter().map(|one| one.path.as_str()).collect();
        self.folders.retain(|path, known| {
            if known.is_there() && !there.contains(path.as_str()) {
                known.vanish(path, compared.is_some(), &mut events);
            }
            // What was right is remembered for the case that the folder comes back.
            known.is_there() || compared.is_some()
        });
        if says_right {
            self.set_right(ledger, lookout)?;
        }
        self.looked = true;
        Ok(events.end())
    }

    /// Records that all is right as it is now.
    fn set_right(&mut self, ledger: &Ledger, lookout: &Lookout) -> Result<(), LedgerError> {
        ledger.forget_right(&lookout.name)?;
        let mut together: Vec<(String, RightFile)> = Vec::with_capacity(TOGETHER);
        for (path, folder) in &mut self.folders {
            folder.set_right(lookout, path);
            for (name, file) in folder.right_files() {
                together.push((format!("{path}/{name}"), file));
                if together.len() == TOGETHER {
                    ledger.add_right(&lookout.name, std::mem::take(&mut together))?;
                }
            }
        }
        ledger.add_right(&lookout.name, together)?;
        ledger.knows_right_now(&lookout.name)?;
        self.has_right = true;
        Ok(())
    }
}
