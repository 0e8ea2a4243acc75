//! Opening folders that may be reached, without following a link.

use std::fs::DirBuilder;
use std::io;
use std::os::fd::AsFd;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Component, Path};

use rustix::fs::{CWD, Mode, OFlags};
use rustix::io::Errno;

use crate::files::at::{At, Folder};
use crate::files::kept_open::kept;
use crate::files::roots::Reach;
use crate::files::walk::{is_missing, open_below};

/// How a folder is opened: for reading its names and for making them durable.
const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

impl Reach {
    /// Opens a folder.
    ///
    /// # Errors
    /// `PermissionDenied` outside the roots, `ELOOP` when a part of the path below the
    /// root is a link, and the file system's.
    pub(crate) fn folder(&self, path: &Path) -> io::Result<Folder> {
        let fd = if self.is_anywhere() {
            rustix::fs::openat(CWD, path, FOLDER, Mode::empty())?
        } else {
            let (root, below) = self.root_of(path).ok_or_else(|| self.outside(path))?;
            let root = rustix::fs::openat(CWD, &root, FOLDER | OFlags::PATH, Mode::empty())?;
            open_below(root.as_fd(), below, FOLDER)?
        };
        Ok(Folder::new(fd, path.to_owned(), self.clone()))
    }

    /// Opens a folder, which is made when it is missing, with those above it; each new
    /// name is durable.
    ///
    /// # Errors
    /// As [`Reach::folder`].
    pub(crate) fn make_folder(&self, path: &Path) -> io::Result<Folder> {
        match self.folder(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            other => return other,
        }
        if self.is_anywhere() {
            std::fs::create_dir_all(path)?;
            return self.folder(path);
        }
        let (root, below) = self.root_of(path).ok_or_else(|| self.outside(path))?;
        // A root that is missing is made as it is named.
        DirBuilder::new().recursive(true).mode(0o777).create(&root)?;
        let mut here = rustix::fs::openat(CWD, &root, FOLDER, Mode::empty())?;
        for part in below.components() {
            // As when what is there is opened: nothing climbs.
            let Component::Normal(name) = part else { return Err(Errno::XDEV.into()) };
            match rustix::fs::mkdirat(&here, name, Mode::from_raw_mode(0o777)) {
                Ok(()) => rustix::fs::fsync(&here)?,
                Err(Errno::EXIST) => {}
                Err(error) => return Err(error.into()),
            }
            here = rustix::fs::openat(&here, name, FOLDER | OFlags::NOFOLLOW, Mode::empty())?;
        }
        Ok(Folder::new(here, path.to_owned(), self.clone()))
    }

    /// A name in a folder that is there.
    ///
    /// # Errors
    /// As [`Reach::folder`].
    pub(crate) fn at(&self, path: &Path) -> io::Result<At> {
        let name = path.file_name().ok_or(io::Error::from(io::ErrorKind::InvalidInput))?;
        // A person may name a file of the folder in which they are.
        let parent = path.parent().unwrap_or(Path::new("/"));
        let parent = if parent.as_os_str().is_empty() { Path::new(".") } else { parent };
        Ok(kept(self, parent, || self.folder(parent))?.at(name))
    }

    /// A name in a folder, which is made when it is missing.
    ///
    /// # Errors
    /// As [`Reach::folder`].
    pub(crate) fn at_made(&self, path: &Path) -> io::Result<At> {
        let name = path.file_name().ok_or(io::Error::from(io::ErrorKind::InvalidInput))?;
        let parent = path.parent().unwrap_or(Path::new("/"));
        Ok(kept(self, parent, || self.make_folder(parent))?.at(name))
    }

    /// As [`Reach::at`]; none when its folder is not there.
    pub(crate) fn at_if_there(&self, path: &Path) -> io::Result<Option<At>> {
        match self.at(path) {
            Err(error) if is_missing(&error) => Ok(None),
            other => other.map(Some),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::walk::walk_below;
    use std::os::unix::fs::symlink;

    struct House {
        home: tempfile::TempDir,
        outside: tempfile::TempDir,
    }

    fn house() -> House {
        let (home, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::fs::create_dir_all(home.path().join("drops/tide")).unwrap();
        std::fs::create_dir_all(home.path().join("state")).unwrap();
        symlink(outside.path(), home.path().join("drops/away")).unwrap();
        symlink("tide", home.path().join("drops/near")).unwrap();
        House { home, outside }
    }

    fn reach(house: &House) -> Reach {
        Reach::below(&[house.home.path().to_owned()], &house.home.path().join("state"))
    }

    #[test]
    fn no_link_below_the_roots_is_followed_in_any_part() {
        let house = house();
        let reach = reach(&house);
        let below = |path: &str| house.home.path().join(path);
        assert!(reach.folder(&below("drops/tide")).is_ok());
        for path in ["drops/away", "drops/near", "drops/away/x", "drops/near/x"] {
            let error = reach.folder(&below(path)).unwrap_err();
            assert_eq!(error.raw_os_error(), Some(libc::ELOOP), "{path}: {error}");
            let error = reach.make_folder(&below(path)).unwrap_err();
            assert_eq!(error.raw_os_error(), Some(libc::ELOOP), "{path}: {error}");
        }
        assert_eq!(std::fs::read_dir(house.outside.path()).unwrap().count(), 0);
    }

    #[test]
    fn the_state_folder_and_what_is_outside_are_refused_by_any_name() {
        let house = house();
        let reach = reach(&house);
        let linked = house.outside.path().join("home");
        symlink(house.home.path(), &linked).unwrap();
        let by_link = Reach::below(std::slice::from_ref(&linked), &house.home.path().join("state"));
        for (reach, path) in [
            (&reach, house.home.path().join("state")),
            (&reach, house.home.path().join("state/x")),
            (&by_link, linked.join("state")),
            (&by_link, house.home.path().join("state")),
            (&reach, house.outside.path().to_owned()),
        ] {
            assert!(!reach.allows(&path), "{}", path.display());
            let error = reach.folder(&path).unwrap_err();
            assert_eq!(error.kind(), io::ErrorKind::PermissionDenied, "{}", path.display());
        }
        // A root that is itself a link is named by who writes the configuration.
        assert!(by_link.folder(&linked.join("drops/tide")).is_ok());
    }

    #[test]
    fn walking_a_part_at_a_time_answers_as_the_kernel_does() {
        let house = house();
        let root = rustix::fs::openat(CWD, house.home.path(), FOLDER, Mode::empty()).unwrap();
        for path in ["drops/tide", "drops/away", "drops/near/x", "drops/none", "../x", "."] {
            let (path, root) = (Path::new(path), root.as_fd());
            let kinds = [open_below(root, path, FOLDER), walk_below(root, path, FOLDER)]
                .map(|opened| opened.map(drop).map_err(|error| error.raw_os_error()));
            assert_eq!(kinds[0], kinds[1], "{}", path.display());
        }
    }

    #[test]
    fn a_missing_folder_is_made_below_the_roots_alone() {
        let house = house();
        let reach = reach(&house);
        let made = house.home.path().join("archive/2026/03");
        assert!(reach.make_folder(&made).is_ok() && made.is_dir());
        assert!(reach.make_folder(&house.outside.path().join("x")).is_err());
        assert!(!house.outside.path().join("x").is_dir());
    }
}
