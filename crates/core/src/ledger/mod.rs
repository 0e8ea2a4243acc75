//! The ledger: the durable record of every settled version of a file, in
//! SQLite.
//!
//! One thread owns the only writing connection and commits the work of many
//! callers in one transaction ([`writer`]); readers have connections of their
//! own and are never blocked by it. A caller is answered after its transaction
//! is durable, not before.

pub(crate) mod access;
pub(crate) mod adopting;
pub(crate) mod audit;
pub(crate) mod checkpoints;
pub(crate) mod claims;
pub(crate) mod configured;
pub(crate) mod counted;
pub(crate) mod deliveries;
pub(crate) mod dues;
pub(crate) mod entering;
pub(crate) mod error;
pub(crate) mod family;
pub(crate) mod finding;
pub(crate) mod happenings;
pub(crate) mod held;
pub(crate) mod identity;
pub(crate) mod ids;
pub(crate) mod inserting;
pub(crate) mod keeping;
pub(crate) mod lineage;
mod look_ahead;
pub(crate) mod lookouts;
pub(crate) mod made;
pub(crate) mod messages;
pub(crate) mod new_entry;
pub(crate) mod none_pending;
pub(crate) mod outbox;
pub(crate) mod outputs;
pub(crate) mod outputs_list;
pub(crate) mod pending;
pub(crate) mod people;
pub(crate) mod query;
pub(crate) mod questions;
pub(crate) mod remotes;
pub(crate) mod removals;
pub(crate) mod reports;
pub(crate) mod requests;
pub(crate) mod rows;
pub(crate) mod schema;
pub(crate) mod state;
pub(crate) mod transitions;
pub(crate) mod trimming;
pub(crate) mod types;
pub(crate) mod uploads;
pub(crate) mod words;
pub(crate) mod writer;
pub(crate) mod writes;

use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags};

use crate::ledger::error::reading;
pub use audit::{AuditLine, AuditProof, AuditQuery, NewAudit};
pub use configured::ConfigChange;
pub use counted::{Count, CountBy, NotCounted};
pub use dues::Excuse;
pub use error::LedgerError;
pub use family::{Family, FamilyKind, FamilyLink, FamilyMember, FamilyOf};
pub use happenings::Happening;
pub use held::HeldGroup;
pub use ids::{
    BatchId, ChangeId, ConfigChangeId, EntryId, HappeningId, MessageId, OutputId, RemoteId,
    RemovalId, SessionId, TokenId, UploadId,
};
pub use keeping::restore;
use none_pending::NonePending;
pub use outbox::{Message, MessageState};
pub use outputs::{OutputAccount, OutputPart};
pub use outputs_list::{Outputs, OutputsQuery};
pub use people::By;
pub use removals::Removal;
pub use reports::{GateFigures, OutputFigures};
pub use schema::VERSION;
pub use state::{Cause, State};
pub use types::{
    Batch, Change, Counts, Entry, EntryDetail, Moment, Output, Page, Pause, Query, Slot, Sort,
};
pub use words::{BatchOutcome, Effect, OutputMode, OutputRole, WorkKind};
use writer::{Listener, Writer};

/// Name of the ledger's file in the state folder.
pub const FILE_NAME: &str = "ledger.db";

/// The ledger.
pub struct Ledger {
    file: PathBuf,
    readers: Mutex<Vec<Connection>>,
    tag: OnceLock<String>,
    writer: Option<Writer>,
    none_pending: NonePending,
}

impl Ledger {
    /// Opens the ledger of a state folder for reading and writing, making or
    /// migrating it as needed. The caller must hold the folder's lock.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open(state: &Path) -> Result<Self, LedgerError> {
        let file = state.join(FILE_NAME);
        let connection = schema::open(&file)?;
        let writer = Writer::start(connection, &file)?;
        Ok(Ledger {
            file,
            readers: Mutex::default(),
            tag: OnceLock::new(),
            writer: Some(writer),
            none_pending: NonePending::default(),
        })
    }

    /// Opens an existing ledger for questions only.
    ///
    /// # Errors
    /// [`LedgerError`], [`LedgerError::Absent`] when there is none.
    pub fn open_to_read(state: &Path) -> Result<Self, LedgerError> {
        let file = state.join(FILE_NAME);
        if !file.try_exists().unwrap_or(false) {
            return Err(LedgerError::Absent { file });
        }
        let ledger = Ledger {
            file: file.clone(),
            readers: Mutex::default(),
            tag: OnceLock::new(),
            writer: None,
            none_pending: NonePending::default(),
        };
        ledger.read(|reader| schema::refuse_newer(reader, &file))?;
        Ok(ledger)
    }

    /// A ledger in memory with nothing in it, for questions where there is no
    /// ledger yet.
    pub fn nothing() -> Self {
        Ledger {
            file: PathBuf::new(),
            readers: Mutex::default(),
            tag: OnceLock::new(),
            writer: None,
            none_pending: NonePending::default(),
        }
    }

    /// Has `listener` told after each commit.
    pub fn listen(&self, listener: Listener) {
        if let Some(writer) = &self.writer {
            writer.listen(listener);
        }
    }

    /// Copies all that stands in the write-ahead log into the database, so that its file is
    /// whole by itself. Where somebody still reads, what is left stays in the log, from where it
    /// is read at the next start.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub(crate) fn copy_log(&self) -> Result<(), LedgerError> {
        let connection = schema::open_beside(&self.file).map_err(error::writing)?;
        // Whoever reads it from outside does not keep a service from its end.
        connection.busy_timeout(Duration::from_secs(1)).map_err(error::writing)?;
        let copied = "PRAGMA wal_checkpoint(TRUNCATE)";
        connection.query_row(copied, [], |_| Ok(())).map_err(error::writing)
    }

    /// A text that tells this ledger from every other.
    pub(crate) fn tag(&self) -> Result<&str, LedgerError> {
        if let Some(tag) = self.tag.get() {
            return Ok(tag);
        }
        let tag: String = self.read(|reader| {
            reader.query_row("SELECT tag FROM ledger", [], |row| row.get(0)).map_err(reading)
        })?;
        Ok(self.tag.get_or_init(|| tag))
    }

    /// As [`Ledger::read`], for several questions about the same moment: what was committed
    /// since the last question is looked at once.
    fn read_at_once<T>(
        &self,
        questions: impl FnOnce(&Connection) -> Result<T, LedgerError>,
    ) -> Result<T, LedgerError> {
        self.read(|reader| {
            let _moment = reader.unchecked_transaction().map_err(reading)?;
            questions(reader)
        })
    }

    fn read<T>(
        &self,
        question: impl FnOnce(&Connection) -> Result<T, LedgerError>,
    ) -> Result<T, LedgerError> {
        let free = self.readers.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).pop();
        let connection = match free {
            Some(connection) => connection,
            None if self.file.as_os_str().is_empty() => schema::in_memory()?,
            None => {
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                let connection = Connection::open_with_flags(&self.file, flags).map_err(reading)?;
                schema::prepare_reader(&connection).map_err(reading)?;
                connection
            }
        };
        let answer = question(&connection);
        let mut free = self.readers.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        if free.len() < 4 {
            free.push(connection);
        }
        answer
    }
}

#[cfg(test)]
mod tests;
