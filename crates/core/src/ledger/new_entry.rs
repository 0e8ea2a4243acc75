//! What is entered of a version that has settled.

use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::ledger::ids::{EntryId, UploadId};
use crate::ledger::requests::FileTarget;
use crate::ledger::types::PickMark;
use crate::pattern::Fields;
use crate::pattern::template::TemplateError;

/// A settled version that is to be entered.
#[derive(Debug, Clone)]
pub(crate) struct NewEntry {
    pub gate: String,
    pub drop_folder: String,
    pub path: String,
    /// Where it lies for the gate that looks at it.
    pub place: String,
    pub version: Version,
    pub sha256: Sha256,
    pub fields: Fields,
    /// When it was first noticed, in milliseconds.
    pub seen_at: i64,
    /// The identity space, and the identity in it.
    pub space: String,
    pub identity: Vec<u8>,
    /// The entry of an earlier version that still lay at this path.
    pub replaces: Option<EntryId>,
    /// The gate has no work: the entry is worked as it is entered.
    pub nothing_to_work: bool,
    /// It is held from the start, for this reason.
    pub held: Option<String>,
    /// It is far from what its gate is used to: how.
    pub unusual: Option<String>,
    /// It is passed over, for this reason.
    pub passed_over: Option<String>,
    /// Whether what is passed over is filed.
    pub others_filed: bool,
    /// What its part is to remember, when it was picked.
    pub mark: Option<PickMark>,
    /// What the gate wants of repeats and revisions.
    pub policy: Policy,
    /// How it was handed in at the door, if it was.
    pub handed_in: Option<HandedIn>,
}

/// How a file was handed in at the door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct HandedIn {
    /// The number of its upload.
    pub upload: UploadId,
    /// Who has handed it in.
    pub who: String,
    /// The sum of what was received and made durable.
    pub sum: Sha256,
}

/// What a gate wants of repeats and revisions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Policy {
    pub hold_repeats: bool,
    pub delete_repeats: bool,
    pub hold_revisions: bool,
    /// After so many milliseconds an identity may come again.
    pub once_for_ms: Option<i64>,
}

/// Decides where an entry is to be moved, given its number and whether it is a
/// repeat; an error holds it.
pub(crate) type Target = std::sync::Arc<
    dyn Fn(&NewEntry, EntryId, bool) -> Result<Option<FileTarget>, TemplateError> + Send + Sync,
>;
