//! Walking a path without following a link in it.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Component, Path};
use std::sync::atomic::{AtomicBool, Ordering};

use rustix::fs::{Mode, OFlags, ResolveFlags};
use rustix::io::Errno;

/// An exchange of folders while a path is walked has the kernel ask for another try.
const TRIES: u32 = 64;

/// Whether the error says that there is nothing.
pub(crate) fn is_missing(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

/// Opens what lies at `path` below `folder`; a link in any part is `ELOOP`.
pub(crate) fn open_below(
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
pub(crate) fn walk_below(
    folder: BorrowedFd<'_>,
    path: &Path,
    flags: OFlags,
) -> io::Result<OwnedFd> {
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
