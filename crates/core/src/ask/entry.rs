//! An entry with all that is known of it, and a look at where its file lies.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::files::roots::Reach;
use crate::ledger::ids::EntryId;
use crate::ledger::state::State;
use crate::ledger::types::{Entry, EntryDetail};

/// An entry, its history, and whether its file is where it should be.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EntryView {
    /// What the ledger knows.
    #[serde(flatten)]
    pub detail: EntryDetail,
    /// Where its file lies.
    pub location: FileLocation,
    /// The path under which its gate has it at its door; none when it has not any more.
    pub place: Option<String>,
}

/// Where the file of an entry lies, as a look just now has shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileLocation {
    /// The place; none when the file is known to be gone.
    pub path: Option<String>,
    /// What is there.
    pub status: LocationStatus,
}

/// What is found where the file of an entry should lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum LocationStatus {
    /// A file of its size and time.
    Unchanged,
    /// Another file.
    Changed,
    /// Nothing.
    Missing,
    /// The place cannot be looked at.
    Unreadable,
    /// Nothing, and nothing should be there.
    Gone,
}

impl FileLocation {
    /// Looks where the file of an entry should lie.
    pub(crate) fn of(reach: &Reach, entry: &Entry) -> Self {
        if entry.state == State::Gone {
            return FileLocation { path: None, status: LocationStatus::Gone };
        }
        let place = entry.lies_at();
        let looked = reach.at_if_there(&place).and_then(|at| at.map_or(Ok(None), |at| at.look()));
        let status = match looked {
            Ok(Some(meta)) if meta.is_file() => {
                let found = meta.version;
                let modified = entry.modified.as_nanosecond() == i128::from(found.modified_ns);
                if modified && found.bytes == entry.bytes_there() {
                    LocationStatus::Unchanged
                } else {
                    LocationStatus::Changed
                }
            }
            Ok(Some(_)) => LocationStatus::Changed,
            Ok(None) => LocationStatus::Missing,
            Err(_) => LocationStatus::Unreadable,
        };
        FileLocation { path: Some(place.display().to_string()), status }
    }
}

impl Engine {
    /// One entry with its history and outputs, and a look at its file.
    ///
    /// # Errors
    /// The ledger's.
    pub fn entry(&self, id: EntryId) -> Result<Option<EntryView>, EngineError> {
        let detail = self.ask(|ledger| ledger.detail(id))?;
        let reach = self.config().reach;
        Ok(detail.map(|detail| {
            let entry = &detail.entry;
            let handle = self.handle(&entry.gate).ok();
            let place = handle.and_then(|gate| gate.live.place_of(&entry.drop, &entry.path));
            EntryView { location: FileLocation::of(&reach, entry), place, detail }
        }))
    }
}
