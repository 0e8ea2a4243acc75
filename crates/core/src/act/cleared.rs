//! What is told of a clear.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a clear did, or would do.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Cleared {
    /// The rule.
    pub rule: String,
    /// Files that went, or would go.
    pub removed: Vec<ClearedFile>,
    /// Files that fit and stay, and why.
    pub stays: Vec<StayingFile>,
    /// Folders that were removed because they were empty.
    pub folders: Vec<String>,
    /// What could not be done, or not be looked at.
    pub problems: Vec<String>,
}

/// A file that went, or would go.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClearedFile {
    /// What it was.
    pub path: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was modified last.
    #[schema(value_type = String, format = DateTime)]
    pub modified: Timestamp,
    /// Where it was moved instead.
    pub moved_to: Option<String>,
}

/// A file that stays.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StayingFile {
    /// Its path.
    pub path: String,
    /// Why.
    pub because: String,
}
