//! Entries that are worked together.

use std::path::PathBuf;

use crate::ledger::types::OpenEntry;

/// An entry that takes part in a batch.
#[derive(Debug, Clone)]
pub(crate) struct BatchEntry {
    pub filing: OpenEntry,
    /// Where its file lies, links followed where the gate follows them.
    pub path: PathBuf,
    /// Its name in accounts: two drop folders may have files of the same path.
    pub name: String,
}

/// Entries that are worked together.
#[derive(Debug, Clone)]
pub(crate) struct Batch {
    /// What they are worked into.
    pub target: String,
    pub members: Vec<BatchEntry>,
}
