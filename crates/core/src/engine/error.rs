//! Why an engine could not do what it was asked.

use crate::config::OutOfReach;
use crate::engine::gate::sweep::NoneRead;
use crate::files::lock::LockError;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::words::WorkKind;

impl From<NoneRead> for EngineError {
    fn from(none: NoneRead) -> Self {
        EngineError::Drop(none.to_string())
    }
}

impl From<OutOfReach> for EngineError {
    fn from(out: OutOfReach) -> Self {
        EngineError::NotThere(out.to_string())
    }
}

/// Why an engine could not be started or asked.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The state folder belongs to another service.
    #[error(transparent)]
    Lock(#[from] LockError),
    /// The ledger failed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// There is no such gate.
    #[error("there is no gate `{name}`; the configuration has {known}")]
    NoGate {
        /// The name asked for.
        name: String,
        /// The names there are.
        known: String,
    },
    /// There is no such rule of what is expected.
    #[error(
        "there is no due `{name}`; the configuration has {known}; write one as [due.{name}], or have one proposed: `vadegate due --learn GATE`"
    )]
    NoDue {
        /// The name asked for.
        name: String,
        /// The names there are.
        known: String,
    },
    /// There is no such entry.
    #[error("there is no entry {0}; `vadegate ledger` lists them")]
    NoEntry(EntryId),
    /// The gate offers nothing to workers.
    #[error(
        "the gate `{gate}` offers nothing: its work is `{work}`; give it a [gate.{gate}.offer] section"
    )]
    NoOffer {
        /// The gate.
        gate: String,
        /// Its work.
        work: WorkKind,
    },
    /// A worker's lease is over.
    #[error("the fencing number {fence} is refused: {why}")]
    Fenced {
        /// The number.
        fence: BatchId,
        /// Why.
        why: String,
    },
    /// A thread could not be started.
    #[error("a thread could not be started: {0}")]
    Thread(std::io::Error),
    /// The drop folder could not be read.
    #[error("{0}; correct `drop`, or make the folder and give this user permission")]
    Drop(String),
    /// A file that is asked for is not there, or not to be shown.
    #[error("{0}")]
    NotThere(String),
    /// It is not done as it was asked for.
    #[error("{0}")]
    Refused(String),
    /// A place does not answer, or not as it should.
    #[error("the place `{place}` is of no use now: {why}")]
    FarAway {
        /// The place.
        place: String,
        /// Why.
        why: String,
    },
    /// A database does not answer.
    #[error("the database does not answer: {0}; try again later")]
    Away(String),
    /// A file is no table.
    #[error("{0}")]
    NoTable(String),
    /// The engine is stopping.
    #[error("the service is stopping")]
    Stopping,
}
