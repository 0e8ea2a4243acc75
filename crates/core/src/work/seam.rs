//! The seam between the engine and the works.
//!
//! A work is a room of its own below `work/`. The engine knows of it what stands here and
//! nothing else: a [`Work`] is what the gate's section says, a [`Worker`] reads and decides,
//! and what is [`Planned`] is carried out once the ledger has the claim. A rehearsal is a
//! plan that is dropped.

use std::any::Any;
use std::fmt;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use vadegate_tables::Reading;

use crate::ledger::error::LedgerError;
use crate::ledger::made::ProvenOutput;
use crate::ledger::pending::OpenClaim;
use crate::ledger::requests::{Claimed, PlannedOutput};
use crate::ledger::types::Entry;
use crate::ledger::words::{Effect, WorkKind};
use crate::pattern::template::{Template, TemplateError};
use crate::settings::reader::Section;
use crate::work::batch::{Batch, BatchEntry};
use crate::work::env::Env;
use crate::work::outcome::{Asked, Carried, NotDone, PlaceDiffers, PlaceRows};
use crate::work::retry::Retry;

/// How a gate comes to the entries that are worked next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Drive {
    /// Entries with the same target are worked together; `alone`: one by one, unless the
    /// gate has a `batch`.
    Batches { alone: bool },
    /// Each for itself, some beside each other where the gate says `at_once`.
    Each,
    /// Workers ask for them, and have each for so long.
    Pulled { lease: Duration },
}

/// What is told of a work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct WorkView {
    /// What it does, as in "merges rows".
    pub does: &'static str,
    /// What `detail` is, as in "Table".
    pub label: &'static str,
    /// What it works into or with, where that is one thing: an output, a table, a program.
    pub detail: Option<String>,
    /// Whether rows stand twice when an entry is worked again.
    pub adds: bool,
}

/// A place that a work may write to.
pub(crate) enum WorkPlace<'a> {
    /// A file of which the path is written by a template.
    Output(&'a Template),
    /// A file that is always the same: what it is, and its path.
    Fixed(&'static str, PathBuf),
}

/// Why a place cannot be asked what is in it.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotAsked {
    /// The ledger does not say what is ours in it.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The place does not answer, or says no.
    #[error("{0}")]
    Place(String),
}

/// What is to be locked and made before a batch is planned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Target {
    /// An output: nothing that was committed for it may be missing in it, and its folder
    /// is made.
    Output(PathBuf),
    /// Something with one writer at a time, whose folder is made.
    Turn(PathBuf),
}

/// What a check of a work found.
#[derive(Debug, Default)]
pub(crate) struct WorkFindings {
    pub faults: Vec<String>,
    pub warnings: Vec<String>,
}

/// A gate's work as it is configured: plain, shared, without connections.
pub(crate) trait Work: Any + fmt::Debug + Send + Sync {
    /// Which work it is.
    fn kind(&self) -> WorkKind;

    /// What can be known of its effect after an interruption.
    fn effect(&self) -> Effect;

    /// How its entries come to it.
    fn drive(&self) -> Drive;

    /// The most entries that are worked together, where the gate does not say it.
    fn together(&self) -> usize {
        usize::MAX
    }

    /// Why it needs `batch` at its gate, if it does.
    fn needs_batch(&self) -> Option<&'static str> {
        None
    }

    /// Whether an entry may count as worked although nothing was made of its content.
    fn may_leave(&self) -> bool {
        false
    }

    /// Whether what it makes takes the place of its file in the drop folder.
    fn edits_in_place(&self) -> bool {
        false
    }

    /// Whether a workbook that somebody has open is not complete for it.
    fn minds_open_workbooks(&self) -> bool {
        false
    }

    /// How long is waited before it is tried again, and how often.
    fn retry(&self) -> Retry;

    /// The longest wait after try number `tries`, even where a place asked for it.
    fn longest_wait(&self, tries: u32) -> Duration {
        self.retry().longest(tries)
    }

    /// What is told of it.
    fn view(&self) -> WorkView;

    /// What is told when its place is away, as in "nothing can be loaded into `X`".
    fn place(&self) -> String {
        "its place cannot be reached".to_owned()
    }

    /// Every place to which it may write.
    fn places(&self) -> Vec<WorkPlace<'_>> {
        Vec::new()
    }

    /// The names of the places to which it delivers.
    fn afar(&self) -> Vec<&str> {
        Vec::new()
    }

    /// The places to which it delivers, each with the folder that is surely written to.
    fn folders_afar(&self) -> Vec<(&str, String)> {
        Vec::new()
    }

    /// Fields of names that go into rows or into names of what it makes.
    fn meant_fields(&self) -> Vec<&str> {
        Vec::new()
    }

    /// Tries it on this machine, without effect.
    fn check(&self, _config: &std::path::Path, _findings: &mut WorkFindings) {}

    /// How tables are read, where it takes tables.
    fn reading(&self) -> Option<&Reading> {
        None
    }

    /// What an entry is worked into: entries with the same target are one batch.
    ///
    /// # Errors
    /// Why the entry is held.
    fn target(&self, entry: &Entry, env: &Env<'_>) -> Result<String, TemplateError> {
        let _ = (entry, env);
        Ok(String::new())
    }

    /// What is to be locked before a batch of this target is planned, from what its first
    /// entry gives.
    ///
    /// # Errors
    /// Why the batch is held.
    fn locks(
        &self,
        target: &str,
        first: &Entry,
        env: &Env<'_>,
    ) -> Result<Vec<Target>, TemplateError> {
        let _ = (target, first, env);
        Ok(Vec::new())
    }

    /// What is to be locked while its place is asked about an earlier claim.
    fn turn(&self) -> Vec<Target> {
        Vec::new()
    }

    /// Whether it is this work that wrote to a place, by the place's name in the ledger.
    fn knows(&self, place: &str) -> bool {
        let _ = place;
        false
    }

    /// What works; none where others do.
    fn open(&self) -> Option<Box<dyn Worker>>;
}

/// Why nothing is planned now.
#[derive(Debug)]
pub(crate) enum Blocked {
    /// The batch is held: something is wrong with its entries, or with what the gate says.
    Hold(String),
    /// An output of ours cannot be used now: that is no fault of any source, which waits.
    Output(String),
    /// The place to which it works is away: everything waits, nothing is held.
    Away(String),
    /// The ledger failed.
    Ledger(LedgerError),
}

/// A name of what is made cannot be written: the gate's template and the entry do not fit.
impl From<TemplateError> for Blocked {
    fn from(error: TemplateError) -> Self {
        Blocked::Hold(error.to_string())
    }
}

impl From<LedgerError> for Blocked {
    fn from(error: LedgerError) -> Self {
        Blocked::Ledger(error)
    }
}

/// What becomes of an entry by a plan.
#[derive(Debug)]
pub(crate) enum EntryVerdict {
    /// It takes part.
    Fits,
    /// It is held, and why.
    Hold(String),
    /// Its file is another, or not there any more.
    Gone,
    /// It cannot be read now.
    Unreadable(io::Error),
    /// Nothing is known of it: the service is stopping.
    Unknown,
}

/// What would be done with a batch.
pub(crate) struct WorkPlan {
    /// Each of its entries, in order.
    pub verdicts: Vec<(BatchEntry, EntryVerdict)>,
    /// What will be made, in the order of the claim.
    pub outputs: Vec<PlannedOutput>,
    /// The program that will be run.
    pub program: Option<String>,
    /// What somebody else did to one of the outputs.
    pub foreign: Option<String>,
    /// What is done, in words, for those who look on.
    pub doing: String,
    /// The work itself, with those entries that fit.
    pub work: Box<dyn Planned>,
}

/// What works: it owns the connection; one thread at a time asks it.
pub(crate) trait Worker: Send {
    /// Reads and decides, and writes nothing: rehearsals and passes both ask it.
    ///
    /// # Errors
    /// Why there is no plan.
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked>;

    /// Where the work is proven: whether the effect of a claim is there.
    ///
    /// # Errors
    /// Why nobody knows yet.
    fn ask(
        &mut self,
        claim: &OpenClaim,
        entries: &[Entry],
        env: &Env<'_>,
    ) -> Result<Asked, Blocked> {
        let _ = (claim, entries, env);
        Ok(Asked::NotThere("nothing of it is to be seen".into()))
    }

    /// Takes what an entry made out of its place again; `place` is the place's name in the
    /// ledger. Gives what was done, in words; in a rehearsal only sees that it can be done.
    ///
    /// # Errors
    /// Why it was not.
    fn undo(&mut self, place: &str, entry: &Entry, env: &Env<'_>) -> Result<String, NotDone> {
        let _ = (place, entry, env);
        Err(NotDone::Refused("its work cannot be undone".into()))
    }

    /// Some rows of an entry as they stand in their place.
    ///
    /// # Errors
    /// Why they are not shown.
    fn rows(
        &mut self,
        place: &str,
        entry: &Entry,
        limit: u32,
        env: &Env<'_>,
    ) -> Result<PlaceRows, NotDone> {
        let _ = (place, entry, limit, env);
        Err(NotDone::Refused("its work makes no rows that can be shown".into()))
    }

    /// Holds what was made in a place against what is there; `differs` is told of each
    /// difference.
    ///
    /// # Errors
    /// Why the place cannot be asked.
    fn verify(
        &mut self,
        place: &str,
        made: &[ProvenOutput],
        deep: bool,
        env: &Env<'_>,
        differs: &mut dyn FnMut(PlaceDiffers),
    ) -> Result<(), NotAsked> {
        let _ = (place, made, deep, env, differs);
        Ok(())
    }
}

/// A plan whose entries are claimed: it is carried out once.
pub(crate) trait Planned: Send {
    /// Makes what must be there, durably, before the entries are claimed.
    ///
    /// # Errors
    /// Why that must wait.
    fn prepare(&mut self, env: &Env<'_>) -> Result<(), Blocked> {
        let _ = env;
        Ok(())
    }

    /// Does it. Nothing of it may be seen when it fails, unless the failure says so.
    fn carry_out(self: Box<Self>, claimed: &Claimed, env: &Env<'_>) -> Carried;
}

/// What a work's section is read with.
#[derive(Clone, Copy)]
pub(crate) struct ReadContext<'a> {
    /// The folder of the configuration, from which relative paths start.
    pub folder: &'a std::path::Path,
    /// Fields that the gate's patterns capture.
    pub fields: &'a [String],
    /// The places that are configured.
    pub places: &'a [crate::afar::config::PlaceConfig],
}

/// Reads a work's section of a gate; what is wrong with it is noted in the section.
pub(crate) type ReadWork = fn(Section<'_>, &ReadContext<'_>) -> Option<Arc<dyn Work>>;

/// One kind of work.
pub(crate) struct Kind {
    pub kind: WorkKind,
    pub read: ReadWork,
    /// Why the entries of an interrupted batch are held when its gate does not know the
    /// place any more: the place, and by what it can be asked.
    pub lost: fn(&str, &str) -> String,
}
