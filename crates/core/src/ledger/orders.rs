//! What the engine orders of the ledger, as plain values.

/// Entries that are claimed for work together.
#[derive(Debug, Clone)]
pub(crate) struct Claim {
    pub gate: String,
    pub work: &'static str,
    pub entries: Vec<i64>,
    /// The outputs, in the order in which their staged files are numbered.
    pub outputs: Vec<StagedOutput>,
    /// A worker has it on lease.
    pub lease: Option<Lease>,
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

/// An output whose bytes are being staged.
#[derive(Debug, Clone)]
pub(crate) struct StagedOutput {
    pub path: String,
    /// The folder of the staged file; its name carries the ledger's tag and the
    /// batch's number.
    pub folder: String,
    pub mode: &'static str,
    pub base_bytes: u64,
    /// What it is: `rows`, `set aside`, `account` or `all`.
    pub role: &'static str,
}

/// A staged output that is whole.
#[derive(Debug, Clone)]
pub(crate) struct MadeOutput {
    pub inode: u64,
    pub bytes: u64,
    pub sha256: [u8; 32],
    pub rows: u64,
    /// Its account, as JSON.
    pub account: Option<String>,
}

/// An entry that was worked, its rows, and where it will be moved.
pub(crate) type Worked = (i64, Option<u64>, Option<String>);

/// The commit point of a batch.
#[derive(Debug, Clone)]
pub(crate) struct CommitBatch {
    pub batch: i64,
    pub entries: Vec<Worked>,
    /// What was staged for each output of the claim; none where nothing was.
    pub outputs: Vec<Option<MadeOutput>>,
    pub words: String,
}

/// A committed output that does not stand in its place yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Unpublished {
    pub id: i64,
    pub batch: i64,
    pub path: String,
    pub staged: String,
    pub mode: String,
    pub base_bytes: u64,
    pub inode: u64,
    pub bytes: u64,
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
}

impl Filed {
    pub(super) fn words(self) -> &'static str {
        match self {
            Filed::Moved => "moved to the archive",
            Filed::Left => "left in place",
            Filed::Deleted => "deleted as a repeat",
        }
    }
}

/// An entry to be held.
#[derive(Debug, Clone)]
pub(crate) struct Hold {
    pub entry: i64,
    pub reason: String,
    pub target: Option<String>,
}
