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

/// The longest name of a file, in bytes: what file systems hold.
const LONGEST_NAME: usize = 255;

/// `tide.csv` as `tide-2.csv`; a name without ending gets the number at its
/// end. A name that would become too long is cut before the number.
pub(crate) fn numbered(path: &Path, number: u32) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let (stem, ext) = crate::pattern::template::split_name(&name);
    let dot = if ext.is_empty() { "" } else { "." };
    let end = format!("-{number}{dot}{ext}");
    let room = LONGEST_NAME.saturating_sub(end.len()).min(stem.len());
    let cut = (0..=room).rev().find(|at| stem.is_char_boundary(*at)).unwrap_or(0);
    path.with_file_name(format!("{}{end}", &stem[..cut]))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_number_stands_before_the_ending() {
        let named = |name: &str| numbered(Path::new(name), 2).display().to_string();
        assert_eq!(named("/a/tide.csv"), "/a/tide-2.csv");
        assert_eq!(named("/a.b/tide"), "/a.b/tide-2");
        assert_eq!(named("/a/.hidden"), "/a/.hidden-2");
        assert_eq!(named("/a/tide.csv.gz"), "/a/tide.csv-2.gz");
    }

    proptest! {
        #[test]
        fn a_numbered_name_can_be_kept_and_is_another_for_each_number(
            stem in "[a-zö\u{1F30A}.]{1,90}",
            longer in 0..160_usize,
            ext in "(\\.[a-z]{1,8})?",
        ) {
            let name = format!("{stem}{}{ext}", "x".repeat(longer));
            prop_assume!(name.len() <= LONGEST_NAME && !matches!(name.as_str(), "." | ".."));
            let path = Path::new("/srv/coast/archive").join(&name);
            let mut seen = BTreeSet::from([path.clone()]);
            for number in [2, 3, 10, 4_294_967_295] {
                let other = numbered(&path, number);
                let shown = other.file_name().unwrap().to_str().unwrap();
                prop_assert!(shown.len() <= LONGEST_NAME, "{} bytes", shown.len());
                prop_assert_eq!(other.parent(), path.parent());
                prop_assert!(shown.contains(&format!("-{number}")), "{}", shown);
                prop_assert!(seen.insert(other.clone()), "{} twice", shown);
            }
        }
    }
}
