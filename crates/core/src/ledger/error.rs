//! Why the ledger could not do what it was asked.

use crate::ledger::ids::{BatchId, EntryId};
use std::path::PathBuf;
use std::sync::Arc;

/// Why the ledger could not be opened, read or written.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// The file was written by a newer program.
    #[error("the ledger `{}` has schema {found}, newer than this program's {known}; use the newer vadegate, or put the backup back", file.display())]
    Newer {
        /// The ledger's file.
        file: PathBuf,
        /// Its schema.
        found: i64,
        /// The newest schema this program knows.
        known: i64,
    },
    /// There is no ledger yet.
    #[error("there is no ledger at `{}` yet; start `vadegate serve`, or let `vadegate pass` make it", file.display())]
    Absent {
        /// Where it was looked for.
        file: PathBuf,
    },
    /// SQLite refused.
    #[error("the ledger cannot be {doing}: {source}")]
    Sqlite {
        /// `opened`, `read` or `written`.
        doing: &'static str,
        /// What SQLite says.
        #[source]
        source: Arc<rusqlite::Error>,
    },
    /// An operation of the file system failed.
    #[error("the ledger's folder `{}` cannot be used: {source}", folder.display())]
    Folder {
        /// The folder.
        folder: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// A change that the life of an entry does not allow.
    #[error("entry {entry} is {from} and cannot become {to}")]
    Refused {
        /// The entry.
        entry: EntryId,
        /// Its state.
        from: &'static str,
        /// The state it was to come to.
        to: &'static str,
    },
    /// The file is no sound ledger.
    #[error("the ledger `{}` is damaged ({why}); nothing was changed. Put the newest backup back with `vadegate restore BACKUP`, or move the file away to begin with an empty ledger and `vadegate adopt` what was worked", file.display())]
    Damaged {
        /// The ledger's file.
        file: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// A batch that has ended is told to end.
    #[error("batch {batch} has ended already")]
    Ended {
        /// The batch.
        batch: BatchId,
    },
    /// A filter that is not understood.
    #[error("{0}")]
    Question(String),
    /// The writing thread has ended.
    #[error("the ledger is closed")]
    Closed,
}

impl LedgerError {
    /// The same error for one more caller of a commit that failed.
    pub(crate) fn again(&self) -> LedgerError {
        match self {
            LedgerError::Sqlite { doing, source } => {
                LedgerError::Sqlite { doing, source: Arc::clone(source) }
            }
            _ => LedgerError::Closed,
        }
    }

    /// Whether the disk is full, so that trying again later makes sense.
    pub fn is_full(&self) -> bool {
        matches!(
            self,
            LedgerError::Sqlite { source, .. }
                if source.sqlite_error_code() == Some(rusqlite::ErrorCode::DiskFull)
        )
    }
}

pub(crate) fn reading(source: rusqlite::Error) -> LedgerError {
    LedgerError::Sqlite { doing: "read", source: Arc::new(source) }
}

pub(crate) fn writing(source: rusqlite::Error) -> LedgerError {
    LedgerError::Sqlite { doing: "written", source: Arc::new(source) }
}
