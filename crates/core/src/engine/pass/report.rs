//! What a pass did.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What one pass did.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PassReport {
    /// The gate.
    pub gate: String,
    /// Files that were fetched from its place before.
    #[serde(default)]
    pub fetched: u64,
    /// Files that wait at its place, until they have been the same for long enough.
    #[serde(default)]
    pub waiting_there: u64,
    /// Files that settled and were entered.
    pub entered: u64,
    /// Of these, repeats.
    pub repeats: u64,
    /// Of these, passed over.
    pub passed_over: u64,
    /// Entries that were worked.
    pub worked: u64,
    /// Entries that were filed.
    pub filed: u64,
    /// Entries that were held.
    pub held: u64,
    /// Files that are still arriving.
    pub arriving: u64,
    /// Whether the gate is paused, so that nothing was taken.
    pub paused: bool,
    /// Standing problems of the gate.
    pub problems: Vec<String>,
}
