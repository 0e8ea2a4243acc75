//! What comes of asking, undoing and carrying out.

use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;
use crate::ledger::requests::{EnteredOutput, MadeOutput};
use std::io;
use std::time::Duration;

/// Whether the effect of a claim is there.
#[derive(Debug)]
pub(crate) enum Asked {
    /// It is: what was made.
    There(Made),
    /// It is not, in words.
    NotThere(String),
}

/// Why something was not done at a place.
#[derive(Debug)]
pub(crate) enum NotDone {
    /// It cannot be done to this entry.
    Refused(String),
    /// The place is away.
    Away(String),
    /// The ledger failed.
    Ledger(LedgerError),
}

impl From<LedgerError> for NotDone {
    fn from(error: LedgerError) -> Self {
        NotDone::Ledger(error)
    }
}

/// Rows as they stand in a place.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct PlaceRows {
    /// The column in which the number of the entry stands; without one the rows are those
    /// of any entry.
    pub by: Option<String>,
    /// Names of the columns, and their types in the place's own words.
    pub columns: Vec<(String, String)>,
    /// Values as text; none where nothing stands.
    pub rows: Vec<Vec<Option<String>>>,
}

/// Something in a place that is not as the ledger has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum PlaceDiffers {
    /// What a batch made is not there.
    Missing(String),
    /// Something else is there; of this entry where that is known.
    Changed(Option<EntryId>, String),
}

/// What came of a plan.
pub(crate) struct Carried {
    /// What a program printed, or what a place answered.
    pub words: String,
    pub outcome: Result<Made, Failure>,
}

impl Carried {
    /// Without words.
    pub fn silent(outcome: Result<Made, Failure>) -> Self {
        Carried { words: String::new(), outcome }
    }
}

/// What was made.
#[derive(Debug, Default)]
pub(crate) struct Made {
    /// Each output of the claim, in its order; none where there was nothing to make.
    pub outputs: Vec<Option<MadeOutput>>,
    /// Outputs that the claim did not have: they are entered with the commit.
    pub entered: Vec<EnteredOutput>,
    /// Rows that each entry gave, in the order of the batch; nothing where they are not
    /// counted.
    pub rows: Vec<u64>,
}

/// What is wrong with a source.
#[derive(Debug)]
pub(crate) enum SourceFault {
    /// It is not the version that was fingerprinted, or not there.
    Changed,
    /// It is faulty: to be held with these words.
    Faulty(String),
    /// It cannot be read now: to be tried again.
    Unreadable(io::Error),
    /// The service is stopping.
    Stopped,
}

/// Why a plan was not carried out.
#[derive(Debug)]
pub(crate) enum Failure {
    /// A source, by its number in the batch, is at fault.
    Source(usize, SourceFault),
    /// An output cannot be written: everything is tried again.
    Output(io::Error),
    /// The entries are held with these words.
    Refused(String),
    /// The place is away, and nothing was done there.
    Away(String),
    /// It is to be tried again, after this time where that is said: what was said, as in
    /// "the program says try again later".
    Again(Option<Duration>, String),
    /// The connection was lost when it was ended: the place is asked before anything else.
    Doubt(String),
    /// It was interrupted, and nobody can know how far it came.
    Interrupted(String),
    /// The service is stopping, and nothing of it is to be seen.
    Stopped,
}

impl Failure {
    /// What kind of failure it is, for those who count them.
    pub fn kind(&self) -> &'static str {
        match self {
            Failure::Source(..) => "source",
            Failure::Output(_) => "output",
            Failure::Refused(_) => "refused",
            Failure::Away(_) => "away",
            Failure::Again(..) => "again",
            Failure::Doubt(_) => "doubt",
            Failure::Interrupted(_) => "interrupted",
            Failure::Stopped => "stopped",
        }
    }
}
