//! Folders that files are moved to: made when missing, inside the roots, reached through
//! no link, and durable.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::files::at::{At, Folder};
use crate::files::roots::Reach;

/// Why a folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FolderError {
    /// It lies outside the roots.
    #[error("the folder `{}` lies outside the roots; add its folder to `roots` in [service]", .0.display())]
    Outside(PathBuf),
    /// A part of its path is a link.
    #[error("the folder `{}` is, or lies behind, a link, and links are not followed: what is behind it lies outside the roots; name the folder to which it leads", .0.display())]
    Link(PathBuf),
    /// It cannot be made or looked at.
    #[error("the folder `{}` cannot be used: {source}", folder.display())]
    Io {
        /// The folder.
        folder: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// Folders that are open in this pass.
#[derive(Debug, Default)]
pub(crate) struct Folders {
    open: HashMap<PathBuf, Arc<Folder>>,
}

/// So many folders are kept open at the most.
const MOST_OPEN: usize = 64;

impl Folders {
    /// The folder, made when it is missing.
    pub fn ensure(&mut self, reach: &Reach, folder: &Path) -> Result<Arc<Folder>, FolderError> {
        self.keep(folder, || reach.make_folder(folder)).map_err(|source| {
            let folder = folder.to_owned();
            if !reach.allows(&folder) {
                FolderError::Outside(folder)
            } else if source.raw_os_error() == Some(libc::ELOOP) {
                FolderError::Link(folder)
            } else {
                FolderError::Io { folder, source }
            }
        })
    }

    /// A name in a folder that is there.
    ///
    /// # Errors
    /// As [`Reach::folder`].
    pub fn at(&mut self, reach: &Reach, path: &Path) -> io::Result<At> {
        let name = path.file_name().ok_or(io::Error::from(io::ErrorKind::InvalidInput))?;
        let parent = path.parent().unwrap_or(Path::new("/"));
        Ok(self.keep(parent, || reach.folder(parent))?.at(name))
    }

    fn keep(
        &mut self,
        path: &Path,
        open: impl FnOnce() -> io::Result<Folder>,
    ) -> io::Result<Arc<Folder>> {
        if let Some(folder) = self.open.get(path) {
            return Ok(Arc::clone(folder));
        }
        let folder = Arc::new(open()?);
        if self.open.len() >= MOST_OPEN {
            self.open.clear();
        }
        self.open.insert(path.to_owned(), Arc::clone(&folder));
        Ok(folder)
    }
}

/// `tide.csv` as `tide-2.csv`; a name without ending gets the number at its
/// end.
pub(crate) fn numbered(path: &Path, number: u32) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let (stem, ext) = crate::pattern::template::split_name(&name);
    let dot = if ext.is_empty() { "" } else { "." };
    path.with_file_name(format!("{stem}-{number}{dot}{ext}"))
}
