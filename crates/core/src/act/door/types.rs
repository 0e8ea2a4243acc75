//! What is handed in at a door, and why it is not taken.

use std::io;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::error::EngineError;
use crate::files::sha256::Sha256;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;

/// What is handed in.
#[derive(Debug, Clone)]
pub struct NewUpload {
    /// At this gate.
    pub gate: String,
    /// Under this path below its drop folder; with several drop folders below the folder that
    /// holds them.
    pub path: String,
    /// By whom.
    pub who: String,
    /// How long it is, where that is known.
    pub bytes: Option<u64>,
    /// The sum that it must have.
    pub sha256: Option<Sha256>,
    /// The sum of what lies there, which it is to replace.
    pub replaces: Option<Sha256>,
}

/// How far something has come that is handed in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UploadView {
    /// Its name, which only who hands it in knows.
    pub name: String,
    /// The gate.
    pub gate: String,
    /// The path below the drop folder.
    pub path: String,
    /// So many bytes are there, durably.
    pub received: u64,
    /// So many there will be, where that was said.
    pub bytes: Option<u64>,
    /// Whether it is whole, and has its name.
    pub complete: bool,
    /// What became of it; none while it has not its name.
    pub became: Option<HandedInFile>,
}

/// A file that was handed in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandedInFile {
    /// Its entry; none while the gate waits, and takes nothing.
    pub entry: Option<EntryId>,
    /// Its sum.
    #[schema(value_type = String)]
    pub sha256: Sha256,
    /// Its size.
    pub bytes: u64,
    /// The state of its entry, or `arriving`.
    pub state: String,
    /// Why it is held.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The entry of which it is a repeat.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repeat_of: Option<EntryId>,
}

/// Why something is not taken at the door.
#[derive(Debug, thiserror::Error)]
pub enum DoorError {
    /// The engine's.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// The gate takes no file of this name.
    #[error("the gate `{gate}` takes no file `{path}`: {why}")]
    Name {
        /// The gate.
        gate: String,
        /// The path.
        path: String,
        /// Why not.
        why: String,
    },
    /// It is larger than the gate takes.
    #[error(
        "the gate `{gate}` takes files of {most} bytes at the most (`bytes` in [gate.{gate}.door])"
    )]
    Large {
        /// The gate.
        gate: String,
        /// In bytes.
        most: u64,
    },
    /// Too much waits.
    #[error(
        "{waiting} files wait at the gate `{gate}`, and it takes no more until some are worked (`files_waiting` in [gate.{gate}.door]); try again later"
    )]
    Full {
        /// The gate.
        gate: String,
        /// So many files.
        waiting: u64,
    },
    /// Something lies there.
    #[error("{0}")]
    Occupied(String),
    /// What lies there is not what was to be replaced.
    #[error("{0}")]
    Changed(String),
    /// There is no such upload, or it is somebody else's.
    #[error("there is no such upload; it may be over: hand the file in anew")]
    None,
    /// It goes on elsewhere.
    #[error("{received} bytes are there already; go on from there")]
    Offset {
        /// So many bytes are there.
        received: u64,
    },
    /// All of it is there: it only has not its name yet.
    #[error("all of it is there; say that it is complete")]
    Whole,
    /// Another request is writing it.
    #[error("another request is just writing it; ask how far it is, and go on from there")]
    Busy,
    /// Somebody else took it away before it was entered.
    #[error("{0}")]
    Gone(String),
    /// It has not the length or the sum that was said.
    #[error("{0}")]
    Wrong(String),
    /// The file system's.
    #[error("it cannot be received: {0}")]
    Io(#[from] io::Error),
}

impl From<LedgerError> for DoorError {
    fn from(error: LedgerError) -> Self {
        EngineError::from(error).into()
    }
}
