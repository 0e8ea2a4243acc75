//! Moving one file.

use std::ffi::CString;
use std::fs::{File, FileTimes};
use std::io::{self, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use super::{numbered, sync_folder};
use crate::arrivals::Version;
use crate::fault::at;

/// A file to be moved.
pub(crate) struct Moving<'a> {
    pub source: &'a Path,
    /// The link that leads to the source, where one does: the source is copied and
    /// stays, and the link is removed.
    pub link: Option<&'a Path>,
    pub version: &'a Version,
    pub sha256: &'a str,
    pub target: &'a Path,
    /// Name of the copy while it is made on another device.
    pub staged_name: String,
}

/// What a move came to.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Moved {
    /// The file stands at its target.
    Done,
    /// It stood there already: an earlier move was interrupted after it.
    Already,
    /// Another file has the target's name; nothing was moved.
    Taken,
    /// The source is not there, and not at the target either.
    Missing,
    /// The source is another version by now; it was left, or put back.
    Swapped,
}

/// Why a file could not be moved.
#[derive(Debug, thiserror::Error)]
#[error("`{}` cannot be moved to `{}`: {source}", from.display(), to.display())]
pub(crate) struct MoveError {
    pub from: PathBuf,
    pub to: PathBuf,
    pub source: io::Error,
}

/// The version at `path`, or `None` when nothing is there.
fn version_at(path: &Path) -> io::Result<Option<Version>> {
    match std::fs::symlink_metadata(path) {
        Ok(meta) => Ok(Some(Version::of(&meta))),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// Renames, failing with `AlreadyExists` rather than replacing.
pub(crate) fn rename_over_nothing(from: &Path, to: &Path) -> io::Result<()> {
    let from_c = CString::new(from.as_os_str().as_bytes())?;
    let to_c = CString::new(to.as_os_str().as_bytes())?;
    let at = libc::AT_FDCWD;
    // SAFETY: both are valid C strings for the length of the call.
    let done =
        unsafe { libc::renameat2(at, from_c.as_ptr(), at, to_c.as_ptr(), libc::RENAME_NOREPLACE) };
    if done == 0 {
        return Ok(());
    }
    let error = io::Error::last_os_error();
    if error.raw_os_error() != Some(libc::EINVAL) {
        return Err(error);
    }
    // A file system without that flag: a hard link never replaces either.
    std::fs::hard_link(from, to)?;
    std::fs::remove_file(from)
}

/// Moves a file to its target, on the same device or another. The folders must
/// be made durable afterwards; a copy is durable when this returns.
pub(crate) fn move_to(moving: &Moving<'_>) -> Result<Moved, MoveError> {
    try_move(moving).map_err(|source| MoveError {
        from: moving.source.to_owned(),
        to: moving.target.to_owned(),
        source,
    })
}

fn try_move(moving: &Moving<'_>) -> io::Result<Moved> {
    match version_at(moving.source)? {
        Some(found) if found == *moving.version => {}
        other => {
            if stands_at_target(moving)? {
                return Ok(Moved::Already);
            }
            return Ok(if other.is_some() { Moved::Swapped } else { Moved::Missing });
        }
    }
    if moving.link.is_some() {
        return copy_over(moving);
    }
    match at("file.rename").and_then(|()| rename_over_nothing(moving.source, moving.target)) {
        Ok(()) => at("file.renamed")?,
        Err(error) => match error.raw_os_error() {
            Some(libc::EEXIST) => return Ok(Moved::Taken),
            Some(libc::EXDEV) => return copy_over(moving),
            Some(libc::ENOENT) if version_at(moving.source)?.is_none() => {
                return Ok(Moved::Missing);
            }
            _ => return Err(error),
        },
    }
    // Between the look and the rename another file may have come to that name.
    if version_at(moving.target)? == Some(*moving.version) {
        return Ok(Moved::Done);
    }
    put_back(moving)?;
    Ok(Moved::Swapped)
}

fn put_back(moving: &Moving<'_>) -> io::Result<()> {
    let mut place = moving.source.to_owned();
    for number in 2.. {
        match rename_over_nothing(moving.target, &place) {
            Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {
                place = numbered(moving.source, number);
            }
            other => return other,
        }
    }
    Ok(())
}

/// Whether the target is the file of an earlier, interrupted move: the same
/// inode, or a verified copy on another device, which has our time and sum.
fn stands_at_target(moving: &Moving<'_>) -> io::Result<bool> {
    let Some(found) = version_at(moving.target)? else { return Ok(false) };
    if found == *moving.version {
        return Ok(true);
    }
    let alike =
        found.bytes == moving.version.bytes && found.modified_ns == moving.version.modified_ns;
    Ok(alike && crate::arrivals::hex(&sum_of(moving.target)?) == moving.sha256)
}

/// SHA-256 of a file.
pub(crate) fn sum_of(path: &Path) -> io::Result<[u8; 32]> {
    let mut sum = crate::arrivals::Sum::new();
    io::copy(&mut File::open(path)?, &mut sum)?;
    Ok(sum.finish())
}

/// Copies to another device: copy, fsync, verify, rename, unlink.
fn copy_over(moving: &Moving<'_>) -> io::Result<Moved> {
    let folder = moving.target.parent().unwrap_or(Path::new("/"));
    if stands_at_target(moving)? {
        // Interrupted between the rename of the copy and the unlink.
        return unlink_source(moving, Moved::Already);
    }
    if version_at(moving.target)?.is_some() {
        return Ok(Moved::Taken);
    }
    let staged = folder.join(&moving.staged_name);
    let copied = copy_verified(moving, &staged);
    match copied {
        Ok(true) => {}
        Ok(false) => {
            std::fs::remove_file(&staged)?;
            return Ok(Moved::Swapped);
        }
        Err(error) => {
            // The copy is made anew next time; a leftover would only take room.
            let _ = std::fs::remove_file(&staged);
            return Err(error);
        }
    }
    match at("file.place").and_then(|()| rename_over_nothing(&staged, moving.target)) {
        Ok(()) => sync_folder(folder)?,
        Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {
            std::fs::remove_file(&staged)?;
            return Ok(Moved::Taken);
        }
        Err(error) => return Err(error),
    }
    unlink_source(moving, Moved::Done)
}

fn unlink_source(moving: &Moving<'_>, moved: Moved) -> io::Result<Moved> {
    at("file.unlink")?;
    if let Some(link) = moving.link {
        std::fs::remove_file(link)?;
        return Ok(moved);
    }
    // Another file that came to the name meanwhile is a new arrival: it stays.
    if version_at(moving.source)? == Some(*moving.version) {
        std::fs::remove_file(moving.source)?;
    }
    Ok(moved)
}

/// False when the source turned out to be another version.
fn copy_verified(moving: &Moving<'_>, staged: &Path) -> io::Result<bool> {
    let mut source = File::open(moving.source)?;
    let meta = source.metadata()?;
    if Version::of(&meta) != *moving.version {
        File::create(staged)?;
        return Ok(false);
    }
    at("file.copy")?;
    let mut copy = File::create(staged)?;
    let mut buffer = vec![0; 256 * 1024];
    loop {
        let count = source.read(&mut buffer)?;
        if count == 0 {
            break;
        }
        crate::fault::write("file.write", &buffer[..count], |bytes| copy.write_all(bytes))?;
    }
    copy.set_permissions(meta.permissions())?;
    copy.set_times(FileTimes::new().set_modified(meta.modified()?).set_accessed(meta.accessed()?))?;
    copy.sync_all()?;
    drop(copy);
    at("file.verify")?;
    Ok(crate::arrivals::hex(&sum_of(staged)?) == moving.sha256)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn moving<'a>(
        source: &'a Path,
        version: &'a Version,
        target: &'a Path,
        sum: &'a str,
    ) -> Moving<'a> {
        let staged_name = ".vadegate-1.copy".into();
        Moving { source, link: None, version, sha256: sum, target, staged_name }
    }

    /// A folder on this device and, where there is one, on another.
    fn homes() -> Vec<tempfile::TempDir> {
        let mut homes = vec![tempfile::tempdir().unwrap()];
        homes.extend(tempfile::tempdir_in("/dev/shm"));
        homes
    }

    #[test]
    fn a_move_replaces_nothing_and_can_be_repeated() {
        for away in homes() {
            let home = tempfile::tempdir().unwrap();
            let (source, target) = (home.path().join("a.csv"), away.path().join("a.csv"));
            std::fs::write(&source, "rows").unwrap();
            let version = version_at(&source).unwrap().unwrap();
            let sum = crate::arrivals::hex(&sum_of(&source).unwrap());

            std::fs::write(&target, "other").unwrap();
            assert_eq!(move_to(&moving(&source, &version, &target, &sum)).unwrap(), Moved::Taken);
            assert_eq!(std::fs::read_to_string(&target).unwrap(), "other");

            std::fs::remove_file(&target).unwrap();
            assert_eq!(move_to(&moving(&source, &version, &target, &sum)).unwrap(), Moved::Done);
            assert_eq!(move_to(&moving(&source, &version, &target, &sum)).unwrap(), Moved::Already);
            assert_eq!(std::fs::read_to_string(&target).unwrap(), "rows");
            assert!(!source.try_exists().unwrap());
            assert_eq!(
                std::fs::read_dir(away.path()).unwrap().count(),
                1,
                "no staged copy is left"
            );
        }
    }

    #[test]
    fn another_version_stays_where_it_is() {
        for away in homes() {
            let home = tempfile::tempdir().unwrap();
            let (source, target) = (home.path().join("a.csv"), away.path().join("a.csv"));
            std::fs::write(&source, "rows").unwrap();
            let version = version_at(&source).unwrap().unwrap();
            std::fs::write(&source, "newer rows").unwrap();
            let outcome = move_to(&moving(&source, &version, &target, "")).unwrap();
            assert_eq!(outcome, Moved::Swapped);
            assert_eq!(std::fs::read_to_string(&source).unwrap(), "newer rows");
            std::fs::remove_file(&source).unwrap();
            let outcome = move_to(&moving(&source, &version, &target, "")).unwrap();
            assert_eq!(outcome, Moved::Missing);
        }
    }

    #[test]
    fn a_copy_interrupted_before_the_unlink_is_ended() {
        let Ok(away) = tempfile::tempdir_in("/dev/shm") else { return };
        let home = tempfile::tempdir().unwrap();
        let (source, target) = (home.path().join("a.csv"), away.path().join("a.csv"));
        std::fs::write(&source, "rows").unwrap();
        let version = version_at(&source).unwrap().unwrap();
        let sum = crate::arrivals::hex(&sum_of(&source).unwrap());
        let job = moving(&source, &version, &target, &sum);
        assert!(copy_verified(&job, &target).unwrap());
        assert_eq!(move_to(&job).unwrap(), Moved::Already);
        assert!(!source.try_exists().unwrap());
    }
}
