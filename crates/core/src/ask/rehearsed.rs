//! What is told of a rehearsal.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::files::version::Version;
use crate::ledger::ids::EntryId;
use crate::ledger::types::Entry;
use crate::ledger::words::OutputMode;

/// What a pass would do with a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Will {
    /// Work it, then file it.
    Work,
    /// File it: there is no work, or it is done.
    File,
    /// File it as a repeat, without work.
    Repeat,
    /// Pass it over, because others are picked.
    #[serde(rename = "pass over")]
    PassOver,
    /// Set it aside for a person.
    Hold,
    /// Wait: it is not complete.
    Wait,
}

/// What else would be made of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AlsoMade {
    /// The output.
    pub output: String,
    /// How it would meet what is there.
    pub mode: OutputMode,
}

/// What a pass would do with one file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rehearsed {
    /// The gate.
    pub gate: String,
    /// Path below the drop folder.
    pub path: String,
    /// Path below the folder that holds all drop folders of the gate; with one
    /// drop folder the same as `path`.
    pub place: String,
    /// Size in bytes.
    pub bytes: u64,
    /// What a pass would do with it.
    pub will: Will,
    /// Why it would be held, waits, or whose repeat it is.
    pub because: Option<String>,
    /// Its entry, if it has one already.
    pub entry: Option<EntryId>,
    /// The output that its rows would go into.
    pub output: Option<String>,
    /// How it would meet what is there.
    pub mode: Option<OutputMode>,
    /// What else would be made of it, as at a gate that delivers to several destinations.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<AlsoMade>,
    /// The program that would be run.
    pub program: Option<String>,
    /// Where it would be filed; none when it would stay.
    pub filed_to: Option<String>,
}

/// One file on its way through a rehearsal.
pub(crate) struct Rehearsing {
    pub entry: Entry,
    pub version: Version,
    pub told: Rehearsed,
}

pub(crate) fn hold(file: &mut Rehearsing, why: String) {
    file.told.will = Will::Hold;
    file.told.because = Some(why);
}

pub(crate) fn wait(file: &mut Rehearsing, why: String) {
    file.told.will = Will::Wait;
    file.told.because = Some(why);
}
