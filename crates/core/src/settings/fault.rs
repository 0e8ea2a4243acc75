//! Faults of a configuration file, and what a check of it found.

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::words::visible;

/// One fault of a configuration file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// The file in which it is.
    pub file: PathBuf,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// What is wrong, and what was expected.
    pub message: String,
}

impl Fault {
    /// A fault at a place; what it repeats of the file does nothing to who reads it.
    pub(crate) fn at(file: &Path, (line, column): (usize, usize), message: String) -> Self {
        let shown = match visible(&message) {
            Cow::Owned(shown) => shown,
            Cow::Borrowed(_) => message,
        };
        Fault { file: file.to_owned(), line, column, message: shown }
    }
}

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// It will not work so.
    Fault,
    /// It works, but hardly as meant.
    Warning,
}

/// One thing that [`check`](crate::check::check) found.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Finding {
    /// Fault or warning.
    pub severity: Severity,
    /// The gate, if it is about one.
    pub gate: Option<String>,
    /// The file in which it is, if it is about one.
    pub file: Option<String>,
    /// Line in that file, if it is about one.
    pub line: Option<usize>,
    /// Column of that line, if it is about a value there.
    pub column: Option<usize>,
    /// What is wrong, where, and what to do.
    pub message: String,
}

impl Finding {
    /// A fault that has no place in a file.
    pub(crate) fn fault(message: String) -> Self {
        let (file, line, column) = (None, None, None);
        Finding { severity: Severity::Fault, gate: None, file, line, column, message }
    }
}

impl From<&Fault> for Finding {
    fn from(fault: &Fault) -> Self {
        Finding {
            severity: Severity::Fault,
            gate: None,
            file: Some(fault.file.display().to_string()),
            line: Some(fault.line),
            column: Some(fault.column),
            message: fault.message.clone(),
        }
    }
}
