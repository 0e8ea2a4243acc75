//! What an edited configuration comes to.

use std::io;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::act::Reloaded;
use crate::config::ConfigError;
use crate::engine::error::EngineError;
use crate::files::sha256::Sha256;

/// A file of the configuration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigFile {
    /// Its path.
    pub path: String,
    /// What stands in it.
    pub text: String,
    /// The sum of that.
    #[schema(value_type = String)]
    pub sha256: Sha256,
}

/// A file of the configuration as it is to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EditedFile {
    /// Its path: that of a file of the configuration, or a new one in `gates.d` beside it.
    pub path: String,
    /// What is to stand in it.
    pub text: String,
}

/// A fault of an edited configuration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigFault {
    /// The file in which it is.
    pub file: String,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// What is wrong, and what was expected.
    pub message: String,
}

/// What an edited configuration would come to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TriedConfig {
    /// What is wrong with it; the rest is empty then.
    pub faults: Vec<ConfigFault>,
    /// Gates that are new.
    pub added: Vec<String>,
    /// Gates whose rules would be other ones.
    pub changed: Vec<String>,
    /// Gates that would be no more.
    pub removed: Vec<String>,
    /// Files that lie there now and would be taken that are not, or the reverse; the first
    /// hundred.
    pub files: Vec<FileChange>,
    /// How many would be taken that are not.
    pub taken_count: u64,
    /// How many would not be taken any more that are.
    pub left_count: u64,
    /// Whether there are more files than were looked at.
    pub more: bool,
}

/// A file that would be taken and is not, or the reverse.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileChange {
    /// The gate.
    pub gate: String,
    /// Its path.
    pub path: String,
    /// Whether it would be taken.
    pub taken: bool,
    /// Why not, when it would not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

/// A configuration that was saved, and is in force.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SavedConfig {
    /// The sum of what stands in the file now.
    #[schema(value_type = String)]
    pub sha256: Sha256,
    /// What it came to.
    pub taken: Reloaded,
}

/// Why a configuration is not saved.
#[derive(Debug, thiserror::Error)]
pub enum ConfigureError {
    /// It is no file of the configuration.
    #[error("{0}")]
    NotThere(String),
    /// It has a fault.
    #[error("{0}; nothing was saved")]
    Faulty(String),
    /// It is another than what was edited.
    #[error(
        "`{0}` was changed by somebody else meanwhile; nothing was saved. Look at it again, and make your change anew"
    )]
    Changed(String),
    /// The files cannot be read.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// The engine's.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// The file system's.
    #[error("`{file}` cannot be saved: {source}; may this user write its folder?")]
    Io {
        /// The file.
        file: String,
        /// Why.
        source: io::Error,
    },
}
