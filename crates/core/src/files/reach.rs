//! Which folders may be reached, and opening them without following a link.

use std::fs::DirBuilder;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
use rustix::io::Errno;

use super::{At, Folder};

/// How a folder is opened: for reading its names and for making them durable.
const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

/// An exchange of folders while a path is walked has the kernel ask for another try.
const TRIES: u32 = 64;

/// What may be reached: the folders below the roots, but for the state folder.
///
/// A root may itself be a link, or lie behind one: who writes the configuration
/// names it. Below it no link is followed.
#[derive(Debug, Clone)]
pub struct Reach(Arc<Bounds>);

#[derive(Debug)]
struct Bounds {
    /// Each root as it is named, and as it is when links are resolved.
    roots: Vec<(PathBuf, PathBuf)>,
    /// The state folder, in both ways: never data.
    state: Vec<PathBuf>,
    /// No bounds: for a person who works by hand, with their own rights.
    anywhere: bool,
}

impl Reach {
    /// What lies below `roots` (absolute, without `..`), but for what lies in `state`.
    pub fn below(roots: &[PathBuf], state: &Path) -> Self {
        let mut both: Vec<(PathBuf, PathBuf)> = Vec::new();
        for root in roots {
            let real = resolve(root);
            both.push((root.clone(), real.clone()));
            both.push((real.clone(), real));
        }
        // The longest first: it is the one that was meant for what lies in it.
        both.sort_by_key(|(root, _)| std::cmp::Reverse(root.components().count()));
        let state = vec![state.to_owned(), resolve(state)];
        Reach(Arc::new(Bounds { roots: both, state, anywhere: false }))
    }

    /// Everything that this user may reach; links in folders are followed.
    pub fn anywhere() -> Self {
        Reach(Arc::new(Bounds { roots: Vec::new(), state: Vec::new(), anywhere: true }))
    }

    /// Whether `path` (absolute, without `..`) lies in one of the roots, and not in
    /// the state folder.
    pub fn allows(&self, path: &Path) -> bool {
        self.0.anywhere || self.root_of(path).is_some()
    }

    /// Whether `path` is the state folder, or lies in it.
    pub fn is_state(&self, path: &Path) -> bool {
        self.0.state.iter().any(|state| path.starts_with(state))
    }

    /// The root below which `path` is reached, and what of it lies below.
    fn root_of<'a>(&self, path: &'a Path) -> Option<(PathBuf, &'a Path)> {
        if self.is_state(path) {
            return None;
        }
        let mut found = self.0.roots.iter().filter_map(|(root, real)| {
            let below = path.strip_prefix(root).ok()?;
            (!self.is_state(&real.join(below))).then(|| (root.clone(), below))
        });
        found.next()
    }

    fn outside(&self, path: &Path) -> io::Error {
        let shown = path.display();
        let why = if self.is_state(path) {
            format!("`{shown}` lies in the state folder, which is never data")
        } else {
            format!("`{shown}` lies outside the roots; add its folder to `roots` in [service]")
        };
        io::Error::new(io::ErrorKind::PermissionDenied, why)
    }

    /// Opens a folder.
    ///
    /// # Errors
    /// `PermissionDenied` outside the roots, `ELOOP` when a part of the path below the
    /// root is a link, and the file system's.
    pub(crate) fn folder(&self, path: &Path) -> io::Result<Folder> {
        let fd = if self.0.anywhere {
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
        if self.0.anywhere {
            std::fs::create_dir_all(path)?;
            return self.folder(path);
        }
        let (root, below) = self.root_of(path).ok_or_else(|| self.outside(path))?;
        // A root that is missing is made as it is named.
        DirBuilder::new().recursive(true).mode(0o777).create(&root)?;
        let mut here = rustix::fs::openat(CWD, &root, FOLDER, Mode::empty())?;
        for part in below.components() {
            let name = part.as_os_str();
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
        Ok(Arc::new(self.folder(parent)?).at(name))
    }

    /// As [`Reach::at`]; none when its folder is not there.
    pub(crate) fn at_if_there(&self, path: &Path) -> io::Result<Option<At>> {
        match self.at(path) {
            Err(error) if is_missing(&error) => Ok(None),
            other => other.map(Some),
        }
    }
}

/// Whether the error says that there is nothing.
pub(super) fn is_missing(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

/// The path with links resolved, as far as it is there.
fn resolve(path: &Path) -> PathBuf {
    for above in path.ancestors() {
        if let Ok(real) = above.canonicalize() {
            return match path.strip_prefix(above) {
                Ok(rest) if rest.as_os_str().is_empty() => real,
                Ok(rest) => real.join(rest),
                Err(_) => real,
            };
        }
    }
    path.to_owned()
}

/// Opens what lies at `path` below `folder`; a link in any part is `ELOOP`.
pub(super) fn open_below(
    folder: BorrowedFd<'_>,
    path: &Path,
    flags: OFlags,
) -> io::Result<OwnedFd> {
    static WITHOUT: AtomicBool = AtomicBool::new(false);
    let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    let mut tries = 0;
    while !WITHOUT.load(Ordering::Relaxed) {
        match rustix::fs::openat2(folder, path, flags, Mode::empty(), resolve) {
            // An old kernel, or a sandbox that does not know the call.
            Err(Errno::NOSYS | Errno::PERM) => WITHOUT.store(true, Ordering::Relaxed),
            Err(Errno::AGAIN | Errno::INTR) if tries < TRIES => tries += 1,
            other => return Ok(other?),
        }
    }
    walk_below(folder, path, flags)
}

/// The same a part at a time, for kernels that cannot do it at once.
fn walk_below(folder: BorrowedFd<'_>, path: &Path, flags: OFlags) -> io::Result<OwnedFd> {
    let mut here: Option<OwnedFd> = None;
    let mut parts = path.components().peekable();
    while let Some(part) = parts.next() {
        let at = here.as_ref().map_or(folder, AsFd::as_fd);
        let name = match part {
            Component::Normal(name) => name,
            Component::CurDir => std::ffi::OsStr::new("."),
            _ => return Err(Errno::XDEV.into()),
        };
        let flags = match parts.peek() {
            Some(_) => OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC,
            None => flags,
        };
        let opened = rustix::fs::openat(at, name, flags | OFlags::NOFOLLOW, Mode::empty());
        here = Some(opened.map_err(|error| match error {
            // `O_DIRECTORY` comes before `O_NOFOLLOW` in the kernel's answers.
            Errno::NOTDIR if is_link(at, name) => Errno::LOOP,
            other => other,
        })?);
    }
    here.ok_or_else(|| Errno::NOENT.into())
}

fn is_link(folder: BorrowedFd<'_>, name: &std::ffi::OsStr) -> bool {
    rustix::fs::statat(folder, name, rustix::fs::AtFlags::SYMLINK_NOFOLLOW)
        .is_ok_and(|stat| rustix::fs::FileType::from_raw_mode(stat.st_mode).is_symlink())
}

#[cfg(test)]
mod tests {
    use super::*;
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
