//! Files that were moved: their names are made durable, and they are recorded.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::Receiver;

use crate::engine::gate::state::Live;
use crate::files::at::{At, Folder};
use crate::ledger::Ledger;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;
use crate::ledger::requests::{Filed, PackedFile};
use crate::ledger::state::{Cause, State};
use crate::ledger::types::Entry;
use crate::ledger::writer::Ticket;

/// What filing one entry came to.
pub(crate) enum Outcome {
    /// Of what was compressed, what lies there now.
    Filed(Option<PackedFile>),
    Left,
    Deleted,
    /// The original, which the gate does not keep.
    Removed,
    Gone(&'static str),
    Later(String),
}

/// What became of entries that were to be filed.
#[derive(Default)]
pub(crate) struct Ends {
    filed: Vec<EntryId>,
    left: Vec<EntryId>,
    /// Passed over, and moved to the archive.
    over: Vec<EntryId>,
    deleted: Vec<EntryId>,
    removed: Vec<EntryId>,
    packed: Vec<PackedFile>,
    gone: Vec<(EntryId, String)>,
    /// Entries whose file is not in the drop folder any more.
    moved: Vec<Entry>,
    problem: Option<String>,
}

impl Ends {
    pub fn note(&mut self, entry: Entry, outcome: Outcome) {
        match outcome {
            Outcome::Left => return self.left.push(entry.id),
            Outcome::Later(why) => {
                self.problem = Some(why);
                return;
            }
            Outcome::Filed(packed) => {
                self.packed.extend(packed);
                let over = entry.state == State::PassedOver;
                if over { self.over.push(entry.id) } else { self.filed.push(entry.id) }
            }
            Outcome::Deleted => self.deleted.push(entry.id),
            Outcome::Removed => self.removed.push(entry.id),
            Outcome::Gone(why) => self.gone.push((entry.id, why.to_owned())),
        }
        self.moved.push(entry);
    }

    fn record(self, ledger: &Ledger, cause: Cause) -> Result<Vec<Ticket<()>>, LedgerError> {
        let mut tickets = Vec::new();
        let mut packed = self.packed;
        let how = [
            (self.filed, Filed::Moved),
            (self.left, Filed::Left),
            (self.deleted, Filed::Deleted),
            (self.removed, Filed::Removed),
        ];
        for (entries, how) in how {
            if !entries.is_empty() {
                let packed =
                    if how == Filed::Moved { take_of(&mut packed, &entries) } else { Vec::new() };
                tickets.push(ledger.filed(entries, packed, how, cause)?);
            }
        }
        if !self.over.is_empty() {
            tickets.push(ledger.passed_over_filed(self.over, packed)?);
        }
        if !self.gone.is_empty() {
            ledger.gone(self.gone, cause)?;
        }
        Ok(tickets)
    }
}

/// Takes out what is of these entries.
fn take_of(packed: &mut Vec<PackedFile>, entries: &[EntryId]) -> Vec<PackedFile> {
    let entries: HashSet<EntryId> = entries.iter().copied().collect();
    packed.extract_if(.., |one| entries.contains(&one.entry)).collect()
}

/// Folders in which names came or went, by their paths.
pub(crate) type Touched = BTreeMap<PathBuf, Arc<Folder>>;

pub(crate) fn touch(folders: &mut Touched, at: &At) {
    let folder = at.folder();
    folders.entry(folder.path().to_owned()).or_insert_with(|| Arc::clone(folder));
}

/// Files that were moved: their names are to be made durable, and they are to be
/// recorded.
pub(crate) struct MovedPiece {
    pub ends: Ends,
    pub folders: Touched,
    pub cause: Cause,
}

/// What was recorded as filed.
#[derive(Default)]
pub(crate) struct Recorded {
    pub filed: u64,
    /// Records that are not known to be durable yet.
    pub tickets: Vec<Ticket<()>>,
}

impl MovedPiece {
    pub fn finish(self, live: &Live) -> Result<Recorded, LedgerError> {
        let MovedPiece { mut ends, folders, cause } = self;
        for (path, folder) in &folders {
            if let Err(error) = folder.sync() {
                let folder = path.display();
                ends.problem =
                    Some(format!("the folder `{folder}` cannot be made durable: {error}"));
                ends.filed.clear();
                ends.over.clear();
            }
        }
        let problem = ends.problem.take();
        live.problem("filing", problem.map(|why| format!("{why}; filing is tried again")));
        let filed =
            (ends.filed.len() + ends.left.len() + ends.deleted.len() + ends.removed.len()) as u64;
        ends.moved.iter().for_each(|entry| live.forget(entry));
        tracing::debug!(entries = ?ends.filed, left = ?ends.left, "filed");
        let tickets = ends.record(&live.context.ledger, cause)?;
        Ok(Recorded { filed, tickets })
    }
}

/// Finishes pieces as they come, while the next are moved: the folders' disk need not
/// be waited for by who moves.
pub(crate) fn finish_all(
    live: &Live,
    pieces: &Receiver<MovedPiece>,
) -> Result<Recorded, LedgerError> {
    let mut all = Recorded::default();
    for piece in pieces {
        let recorded = piece.finish(live)?;
        all.filed += recorded.filed;
        all.tickets.extend(recorded.tickets);
    }
    Ok(all)
}
