//! The plain data that the ledger gives out, as it appears in JSON.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::files::compress::Compression;
use crate::files::sha256::Sha256;
use crate::ledger::ids::{BatchId, ChangeId, EntryId};
use crate::ledger::requests::FileTarget;
use crate::ledger::state::{Cause, State};
use crate::ledger::words::{BatchOutcome, OutputMode, OutputRole, WorkKind};
use crate::pattern::Fields;

/// One settled version of a file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Entry {
    /// Its number in the ledger.
    pub id: EntryId,
    /// Its gate.
    pub gate: String,
    /// Path below the drop folder.
    pub path: String,
    /// Name of the file.
    pub name: String,
    /// The drop folder.
    pub drop: String,
    /// Size in bytes.
    pub bytes: u64,
    /// Modification time of the file.
    #[schema(value_type = String, format = DateTime)]
    pub modified: Timestamp,
    /// SHA-256 of the content, in hexadecimal.
    #[schema(value_type = String)]
    pub sha256: Sha256,
    /// Where it stands in its life.
    pub state: State,
    /// Fields captured from its path.
    pub fields: Fields,
    /// When the file was first noticed.
    #[schema(value_type = String, format = DateTime)]
    pub seen_at: Timestamp,
    /// When it had settled and was entered.
    #[schema(value_type = String, format = DateTime)]
    pub ready_at: Timestamp,
    /// When its work was committed.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub worked_at: Option<Timestamp>,
    /// When it was filed.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub filed_at: Option<Timestamp>,
    /// Where it lies now, once it has been moved.
    pub filed_to: Option<String>,
    /// How often its work was begun.
    pub tries: u32,
    /// Why it is held, gone, or tried again.
    pub reason: Option<String>,
    /// The entry whose identity it has, if it is a repeat.
    pub repeat_of: Option<EntryId>,
    /// The batch in which it was worked.
    pub batch: Option<BatchId>,
    /// Rows that it gave to an output.
    pub rows: Option<u64>,
    /// The entry of the same path before it, which had other content.
    pub revision_of: Option<EntryId>,
    /// Whether a person has said that its identity counts no more.
    pub forgotten: bool,
    /// Size of its file now, when that is another than was entered: the program that
    /// worked it has changed it.
    pub filed_bytes: Option<u64>,
    /// SHA-256 of its file now, when that is another than was entered.
    #[schema(value_type = Option<String>)]
    pub filed_sha256: Option<Sha256>,
    /// How its file is compressed, once it was filed so: `filed_bytes` and `filed_sha256`
    /// are of that.
    #[serde(default)]
    pub packing: Option<Compression>,
    /// SHA-256 of what is compressed, when that is another than was entered.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub content_sha256: Option<Sha256>,
}

impl Entry {
    /// Size of the file as it lies there.
    pub fn bytes_there(&self) -> u64 {
        self.filed_bytes.unwrap_or(self.bytes)
    }

    /// SHA-256 of the file as it lies there.
    pub fn sha256_there(&self) -> Sha256 {
        self.filed_sha256.unwrap_or(self.sha256)
    }

    /// SHA-256 of the content of its file: of what is compressed, where it is.
    pub fn content_sum(&self) -> Sha256 {
        match self.packing {
            Some(_) => self.content_sha256.unwrap_or(self.sha256),
            None => self.sha256_there(),
        }
    }

    /// Where its file lies, as far as the ledger knows.
    pub fn lies_at(&self) -> PathBuf {
        match &self.filed_to {
            Some(place) => PathBuf::from(place),
            None => Path::new(&self.drop).join(&self.path),
        }
    }
}

/// What the engine needs of an entry beside what is shown.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct OpenEntry {
    pub entry: Entry,
    pub version: crate::files::version::Version,
    /// Where it is to be moved, once decided.
    pub target: Option<FileTarget>,
}

/// What a part of a gate's files remembers: no file older than this is picked
/// any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct PickMark {
    pub part: String,
    pub modified_ns: i64,
}

/// One change of an entry's state.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// Number of the change; they only grow.
    pub id: ChangeId,
    /// The entry.
    pub entry: EntryId,
    /// Its gate.
    pub gate: String,
    /// Path of the entry below its drop folder.
    pub path: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// The state it came to.
    pub state: State,
    /// What caused it.
    pub cause: Cause,
    /// The person who caused it.
    pub by: Option<String>,
    /// What happened, in words.
    pub words: String,
}

/// A person has paused a gate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Pause {
    /// Since when, where that is known.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Timestamp>,
    /// Who.
    pub by: Option<String>,
}

/// The entries that were worked together.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Batch {
    /// Its number.
    pub id: BatchId,
    /// The gate's work.
    pub work: WorkKind,
    /// Which attempt this was for its entries.
    pub attempt: u32,
    /// When it was claimed.
    #[schema(value_type = String, format = DateTime)]
    pub begun_at: Timestamp,
    /// When it ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended_at: Option<Timestamp>,
    /// How it ended; none while it is under way.
    pub outcome: Option<BatchOutcome>,
    /// What the program printed.
    pub words: String,
    /// How many entries are in it.
    pub entries: u64,
    /// What it made of the entry that is asked about; at most 1,000.
    pub outputs: Vec<Output>,
    /// How many these are.
    #[serde(default)]
    pub outputs_count: u64,
}

/// A file that work made, or added to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Output {
    /// The output's path.
    pub path: String,
    /// How it met what was there.
    pub mode: OutputMode,
    /// Bytes that this batch wrote.
    pub bytes: Option<u64>,
    /// Rows that this batch wrote.
    pub rows: Option<u64>,
    /// SHA-256 of what this batch wrote, in hexadecimal.
    pub sha256: Option<String>,
    /// When it stood in its place.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub published_at: Option<Timestamp>,
    /// What it is.
    pub role: OutputRole,
    /// What it is called before people.
    pub label: String,
    /// Whether rows of an entry stand in it that can be shown, and taken out again.
    pub has_rows: bool,
    /// By what its place can be asked whether it is there; none for a file.
    pub proof: Option<String>,
    /// The account of its rows: sources, columns, rows in and out.
    #[schema(value_type = Option<vadegate_tables::Account>)]
    pub account: Option<serde_json::Value>,
    /// What is told of it beside that, in words: how it was compressed, why what was there
    /// stayed, what was left out of an archive.
    #[serde(default)]
    pub note: Option<String>,
    /// The same as figures.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub figures: Option<serde_json::Value>,
    /// The entry that it became, at the gate that took it.
    #[serde(default)]
    pub became: Option<EntryId>,
}

/// Of what a file was made that is an entry itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Origin {
    /// The gate that made it.
    pub gate: String,
    /// The batch in which it was made.
    pub batch: BatchId,
    /// The entry of which alone it was made, such as the archive in which it was.
    pub entry: Option<EntryId>,
    /// The path of that entry.
    pub path: Option<String>,
    /// What it is there, such as a member.
    pub role: OutputRole,
}

/// An entry with everything that is known of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EntryDetail {
    /// The entry.
    #[serde(flatten)]
    pub entry: Entry,
    /// Its changes, oldest first.
    pub history: Vec<Change>,
    /// The batch in which it was last worked.
    pub worked_in: Option<Batch>,
    /// Of what it was made, where another gate made it.
    #[serde(default)]
    pub made_from: Option<Origin>,
}

/// Which entries are asked for; an absent part does not filter.
#[derive(
    Debug, Clone, Default, PartialEq, Serialize, Deserialize, utoipa::IntoParams, ToSchema,
)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields, default)]
pub struct Query {
    /// With these numbers, separated by commas; at most 1000.
    pub ids: Option<String>,
    /// Of this gate.
    pub gate: Option<String>,
    /// In this state.
    #[param(value_type = Option<String>)]
    pub state: Option<State>,
    /// Whose path contains this text, or whose SHA-256 begins with it.
    pub text: Option<String>,
    /// Whose path below the drop folder fits this pattern.
    pub path: Option<String>,
    /// With this SHA-256, as 64 hexadecimal digits.
    pub sum: Option<String>,
    /// With this field: NAME=VALUE, several separated by commas.
    pub field: Option<String>,
    /// Whose rows are in this output.
    pub output: Option<String>,
    /// Worked in this batch.
    pub batch: Option<BatchId>,
    /// Which time `since` and `until` are about; by default when it was entered.
    #[param(value_type = Option<String>)]
    pub time: Option<Moment>,
    /// At this time or later (RFC 3339).
    #[param(value_type = Option<String>)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Timestamp>,
    /// Before this time (RFC 3339).
    #[param(value_type = Option<String>)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// With a greater number: those that were entered after it.
    pub above: Option<EntryId>,
    /// Only repeats, or only entries that are none.
    pub repeats: Option<bool>,
    /// Only entries that a person has said to forget.
    pub forgotten: Option<bool>,
    /// In this order, by default that of entering.
    #[param(value_type = Option<String>)]
    pub sort: Option<Sort>,
    /// Oldest, smallest or first first, instead of last.
    pub oldest_first: bool,
    /// Where the page begins: the `next` of the page before.
    pub cursor: Option<i64>,
    /// At most so many; 1 to 1000, by default 50.
    pub limit: Option<u32>,
}

/// A time in the life of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Moment {
    /// When its file was first noticed.
    Seen,
    /// When it had settled and was entered.
    Entered,
    /// When its work was committed.
    Worked,
    /// When it was filed.
    Filed,
}

/// In which order entries are listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Sort {
    /// In which they were entered.
    Entered,
    /// By modification time of the file.
    Modified,
    /// By the time of their work.
    Worked,
    /// By the time of filing.
    Filed,
    /// By size.
    Size,
    /// By path.
    Name,
}

/// One page of entries, newest first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Page {
    /// The entries.
    pub entries: Vec<Entry>,
    /// The cursor of the next page; none at the end.
    pub next: Option<i64>,
}

/// Counts of a gate's entries by state.
pub type Counts = BTreeMap<String, u64>;

/// What happened at a gate in five minutes.
#[derive(Debug, Clone, PartialEq)]
pub struct Slot {
    /// The gate.
    pub gate: String,
    /// When they began.
    pub begins: Timestamp,
    /// `entered`, `filed`, `held` or `repeat`.
    pub kind: String,
    /// How many.
    pub count: u64,
}
