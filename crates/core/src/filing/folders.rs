//! Folders that files are moved to: made when missing, inside the roots, and
//! durable.

use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use crate::config::Config;

/// Why a folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FolderError {
    /// It lies outside the roots, by name or through a link.
    #[error("the folder `{}` lies outside the roots; add its folder to `roots` in [service]", .0.display())]
    Outside(PathBuf),
    /// It cannot be made or looked at.
    #[error("the folder `{}` cannot be used: {source}", folder.display())]
    Io {
        /// The folder.
        folder: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// Folders that were found good in this pass.
#[derive(Debug, Default)]
pub(crate) struct Folders {
    good: HashSet<PathBuf>,
}

impl Folders {
    /// Sees that `folder` is there and inside the roots, links resolved.
    pub fn ensure(&mut self, config: &Config, folder: &Path) -> Result<(), FolderError> {
        if self.good.contains(folder) {
            return Ok(());
        }
        // Before anything is made: a folder outside is not even created.
        if !config.within_roots(folder) {
            return Err(FolderError::Outside(folder.to_owned()));
        }
        let failed = |source| FolderError::Io { folder: folder.to_owned(), source };
        make(folder).map_err(failed)?;
        if config.really_within_roots(folder).is_err() {
            return Err(FolderError::Outside(folder.to_owned()));
        }
        self.good.insert(folder.to_owned());
        Ok(())
    }
}

/// Makes a folder and those above it; each new name is durable.
fn make(folder: &Path) -> io::Result<()> {
    match std::fs::create_dir(folder) {
        Ok(()) => folder.parent().map_or(Ok(()), sync_folder),
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let Some(parent) = folder.parent() else { return Err(error) };
            make(parent)?;
            make(folder)
        }
        Err(error) => Err(error),
    }
}

/// Makes the names in a folder durable.
pub(crate) fn sync_folder(folder: &Path) -> io::Result<()> {
    crate::fault::at("folder.sync")?;
    File::open(folder)?.sync_all()
}

/// `tide.csv` as `tide-2.csv`; a name without ending gets the number at its
/// end.
pub(crate) fn numbered(path: &Path, number: u32) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let (stem, ext) = crate::pattern::split_name(&name);
    let dot = if ext.is_empty() { "" } else { "." };
    path.with_file_name(format!("{stem}-{number}{dot}{ext}"))
}
