//! Files beside an output: rows that were set aside, accounts.

use std::path::{Path, PathBuf};

use crate::files::roots::Reach;
use crate::ledger::requests::{OutputAt, PlannedOutput};
use crate::ledger::words::{OutputMode, OutputRole};
use crate::work::tables::source::{OutputFault, OutputTrouble};

/// How a file beside an output meets what is there.
#[derive(Debug)]
pub(crate) struct SideFile {
    pub path: PathBuf,
    mode: OutputMode,
    base_bytes: u64,
    /// Whether it begins with its header.
    pub header: bool,
}

impl SideFile {
    /// It as an output that is to be staged.
    pub fn planned(&self, role: OutputRole) -> PlannedOutput {
        staged(&self.path, self.mode, self.base_bytes, role)
    }
}

/// An output that is staged in the folder in which it will stand.
pub(crate) fn staged(
    path: &Path,
    mode: OutputMode,
    base_bytes: u64,
    role: OutputRole,
) -> PlannedOutput {
    PlannedOutput {
        path: path.display().to_string(),
        at: OutputAt::Staged(path.parent().unwrap_or(Path::new("/")).to_owned()),
        mode,
        base_bytes,
        base_sha256: None,
        role,
        of: None,
    }
}

/// Whether an output is there.
///
/// # Errors
/// Why it cannot be looked at.
pub(crate) fn is_there(reach: &Reach, path: &Path) -> Result<bool, OutputFault> {
    let found = reach.at_if_there(path).and_then(|at| at.map_or(Ok(None), |at| at.look()));
    match found {
        Ok(meta) => Ok(meta.is_some_and(|meta| meta.is_file())),
        Err(error) => Err(OutputTrouble::Unseen(error).of(path)),
    }
}

/// How a file beside an output meets what is there.
///
/// # Errors
/// Why it cannot be looked at.
pub(crate) fn beside(reach: &Reach, path: PathBuf, grows: bool) -> Result<SideFile, OutputFault> {
    let there = is_there(reach, &path)?;
    let version = reach.at(&path).and_then(|at| at.version());
    let bytes = version.ok().flatten().map_or(0, |version| version.bytes);
    Ok(if there && grows {
        SideFile { path, mode: OutputMode::Append, base_bytes: bytes, header: bytes == 0 }
    } else {
        SideFile { path, mode: OutputMode::Replace, base_bytes: 0, header: true }
    })
}
