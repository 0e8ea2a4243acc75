//! Values that may be secrets: they stand in the configuration, in a variable or in a file.

use std::fmt;
use std::path::{Path, PathBuf};

use crate::settings::keys::join;
use crate::settings::reader::{Named, Section};

/// Where a value is found. It is read anew each time that it is needed, and never kept.
#[derive(Clone, PartialEq, Eq)]
pub enum Secret {
    /// In the configuration itself.
    Text(String),
    /// In this variable of the environment.
    Environment(String),
    /// In the first line of this file.
    File(PathBuf),
}

/// Of a text nothing is shown, which may be a secret all the same.
impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Secret::Text(text) => write!(f, "a text of {} bytes", text.len()),
            Secret::Environment(name) => write!(f, "the variable {name}"),
            Secret::File(path) => write!(f, "the file {}", path.display()),
        }
    }
}

/// Why a value cannot be had; it does not stand in it. Its words follow what it is the value
/// of.
#[derive(Debug, thiserror::Error)]
pub enum SecretFault {
    /// Its variable is not set, or is no text.
    #[error("is to be in the variable `{0}`, which is not set")]
    NotSet(String),
    /// Its file cannot be read.
    #[error("is to be in `{}`: {why}", file.display())]
    Unreadable {
        /// The file.
        file: PathBuf,
        /// Why not.
        why: std::io::Error,
    },
}

impl Secret {
    /// The value.
    ///
    /// # Errors
    /// [`SecretFault`]: why it cannot be had.
    pub fn read(&self) -> Result<String, SecretFault> {
        match self {
            Secret::Text(text) => Ok(text.clone()),
            Secret::Environment(name) => {
                std::env::var(name).map_err(|_| SecretFault::NotSet(name.clone()))
            }
            Secret::File(path) => match std::fs::read_to_string(path) {
                Ok(text) => Ok(text.lines().next().unwrap_or_default().to_owned()),
                Err(why) => Err(SecretFault::Unreadable { file: path.clone(), why }),
            },
        }
    }

    /// Reads `{ env = "NAME" }` or `{ file = "PATH" }`; `what` it is, for messages.
    pub(crate) fn table(mut section: Section<'_>, folder: &Path, what: &str) -> Option<Self> {
        let variable = section.text("env").map(|text| Secret::Environment(text.value));
        let file = section.text("file").map(|text| Secret::File(join(folder, &text.value)));
        if variable.is_some() == file.is_some() {
            section.fault_here(format!(
                "{what} is in a variable or in a file: say {{ env = \"NAME\" }} or {{ file = \"PATH\" }}"
            ));
        }
        section.finish();
        variable.or(file)
    }

    /// Reads a table of values by names of the user's own.
    pub(crate) fn named(
        section: &mut Section<'_>,
        key: &'static str,
        folder: &Path,
    ) -> Vec<(String, Secret)> {
        let read = |(name, value)| match value {
            Named::Text(text) => Some((name, Secret::Text(text.value))),
            Named::Table(table) => {
                let secret = Secret::table(table, folder, &format!("`{name}`"))?;
                Some((name, secret))
            }
        };
        section.named(key).into_iter().filter_map(read).collect()
    }
}
