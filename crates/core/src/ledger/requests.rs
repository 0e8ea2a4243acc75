//! What the engine asks the ledger to write, as plain values.

use std::path::PathBuf;

use crate::files::compress::Compression;
use crate::files::sha256::Sha256;
use crate::ledger::ids::{BatchId, EntryId, OutputId};
use crate::ledger::words::{Effect, OutputMode, OutputRole, WorkKind};

/// Entries that are claimed for work together.
#[derive(Debug, Clone)]
pub(crate) struct Claim {
    pub gate: String,
    pub work: WorkKind,
    pub effect: Effect,
    pub entries: Vec<EntryId>,
    /// The outputs, in the order in which their staged files are numbered.
    pub outputs: Vec<PlannedOutput>,
    /// A worker has it on lease.
    pub lease: Option<Lease>,
}

/// A batch whose entries are claimed.
#[derive(Debug, Clone)]
pub(crate) struct Claimed {
    pub batch: BatchId,
    /// By what places are asked whether what it made is there: unlike that of any other
    /// batch, of this ledger or of another.
    pub proof: String,
    /// By what its first entry is known to who is told of it: the same at every attempt,
    /// until it has been worked; then another.
    pub key: String,
    /// The staged files of its outputs, in their order; none where nothing is staged.
    pub staged: Vec<Option<PathBuf>>,
}

/// A worker's lease of a batch.
#[derive(Debug, Clone)]
pub(crate) struct Lease {
    pub worker: String,
    /// In milliseconds since 1970.
    pub until: i64,
    /// Its length in milliseconds.
    pub length_ms: i64,
}

/// Where an output comes to stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum OutputAt {
    /// In a file, which is staged in this folder.
    Staged(PathBuf),
    /// In a place that can be asked.
    Proven,
    /// Where something stands already, which stays.
    There,
}

/// An output that is to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct PlannedOutput {
    pub path: String,
    pub at: OutputAt,
    pub mode: OutputMode,
    /// Its length, when it is written behind what is there.
    pub base_bytes: u64,
    /// The version from which it is made, when it takes the place of that.
    pub base_sha256: Option<Sha256>,
    pub role: OutputRole,
    /// The entry of which alone it is made, by its number in the claim; none where it is
    /// of the whole batch.
    pub of: Option<usize>,
}

/// A staged output that is whole; empty where nothing is staged, and only told of.
#[derive(Debug, Clone, Default)]
pub(crate) struct MadeOutput {
    /// Of the staged file, which keeps it when it is renamed; 0 where nothing is staged.
    pub inode: u64,
    /// Modification time of the staged file in nanoseconds since 1970; 0 where nothing is.
    pub modified_ns: i64,
    pub bytes: u64,
    pub sha256: Sha256,
    pub rows: u64,
    /// Its account, as JSON.
    pub account: Option<String>,
}

/// An output that is entered with the commit: before, nobody could know that it would be.
#[derive(Debug, Clone)]
pub(crate) struct EnteredOutput {
    pub path: String,
    /// Where it is staged; none of what stays as it is there.
    pub staged: Option<String>,
    pub mode: OutputMode,
    pub role: OutputRole,
    /// The entry of which it was made.
    pub of: EntryId,
    pub made: Option<MadeOutput>,
}

/// Where the file of an entry is to be filed, and how.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct FileTarget {
    pub path: String,
    /// It is compressed there.
    pub packing: Option<Compression>,
}

impl FileTarget {
    /// A place to which it comes as it is.
    pub fn plain(path: String) -> Self {
        FileTarget { path, packing: None }
    }
}

/// An entry that was worked, its rows, and where it will be moved.
pub(crate) type Worked = (EntryId, Option<u64>, Option<FileTarget>);

/// The file of an entry as it was compressed into its place.
#[derive(Debug, Clone)]
pub(crate) struct PackedFile {
    pub entry: EntryId,
    pub bytes: u64,
    pub sha256: Sha256,
}

/// The commit point of a batch.
#[derive(Debug, Clone)]
pub(crate) struct CommitBatch {
    pub batch: BatchId,
    pub entries: Vec<Worked>,
    /// What was staged for each output of the claim; none where nothing was.
    pub outputs: Vec<Option<MadeOutput>>,
    /// Outputs that the claim did not have.
    pub entered: Vec<EnteredOutput>,
    pub words: String,
}

/// A committed output that does not stand in its place yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Unpublished {
    pub id: OutputId,
    pub batch: BatchId,
    pub path: String,
    pub staged: String,
    pub mode: OutputMode,
    pub base_bytes: u64,
    pub base_sha256: Option<Sha256>,
    pub inode: u64,
    pub bytes: u64,
    pub sha256: Option<Sha256>,
    pub role: OutputRole,
}

/// How entries were filed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Filed {
    /// They were moved to their target.
    Moved,
    /// They were left where they are.
    Left,
    /// They were repeats, and deleted.
    Deleted,
    /// Their gate keeps no originals: they were deleted.
    Removed,
}

impl Filed {
    pub(crate) fn words(self) -> &'static str {
        match self {
            Filed::Moved => "moved to the archive",
            Filed::Left => "left in place",
            Filed::Deleted => "deleted as a repeat",
            Filed::Removed => "deleted once its work was durable, as the gate says",
        }
    }
}

/// An entry to be held.
#[derive(Debug, Clone)]
pub(crate) struct Hold {
    pub entry: EntryId,
    pub reason: String,
    pub target: Option<String>,
}

/// The name of a batch's staged output. It is hidden, so that no gate takes it.
/// `number` counts the outputs of a batch.
pub(crate) fn staged_name(tag: &str, batch: BatchId, number: usize) -> String {
    match number {
        0 => format!(".vadegate-{tag}-{batch}.staged"),
        number => format!(".vadegate-{tag}-{batch}-{number}.staged"),
    }
}
