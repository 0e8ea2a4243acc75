//! Moving one file.

use std::fs::FileTimes;
use std::io::{self, Read, Write};
use std::path::PathBuf;

use crate::fault::at;
use crate::files::at::At;
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::filing::folders::numbered;

/// A file to be moved.
pub(crate) struct Moving<'a> {
    pub source: &'a At,
    /// The link that leads to the source, where one does: the source is copied and
    /// stays, and the link is removed.
    pub link: Option<&'a At>,
    pub version: &'a Version,
    pub sha256: Sha256,
    pub target: &'a At,
    /// Name of the copy while it is made on another device.
    pub staged_name: String,
}

/// What a move came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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

/// Moves a file to its target, on the same device or another. The folders must
/// be made durable afterwards; a copy is durable when this returns.
pub(crate) fn move_to(moving: &Moving<'_>) -> Result<Moved, MoveError> {
    try_move(moving).map_err(|source| MoveError {
        from: moving.source.path(),
        to: moving.target.path(),
        source,
    })
}

fn try_move(moving: &Moving<'_>) -> io::Result<Moved> {
    match moving.source.version()? {
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
    let renamed = at("file.rename").and_then(|()| moving.source.rename_over_nothing(moving.target));
    match renamed {
        Ok(()) => at("file.renamed")?,
        Err(error) => match error.raw_os_error() {
            Some(libc::EEXIST) => return Ok(Moved::Taken),
            Some(libc::EXDEV) => return copy_over(moving),
            Some(libc::ENOENT) if moving.source.version()?.is_none() => {
                return Ok(Moved::Missing);
            }
            _ => return Err(error),
        },
    }
    // Between the look and the rename another file may have come to that name. The
    // rename itself has changed the time of the inode.
    if moving.target.version()?.is_some_and(|found| found.is_same_file(moving.version)) {
        return Ok(Moved::Done);
    }
    put_back(moving)?;
    Ok(Moved::Swapped)
}

fn put_back(moving: &Moving<'_>) -> io::Result<()> {
    let mut place = moving.source.clone();
    for number in 2.. {
        match moving.target.rename_over_nothing(&place) {
            Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {
                let name = numbered(&moving.source.path(), number);
                place = moving.source.folder().at(name.file_name().unwrap_or_default());
            }
            other => return other,
        }
    }
    Ok(())
}

/// Whether the target is the file of an earlier, interrupted move: the same
/// inode, or a verified copy on another device, which has our time and sum.
fn stands_at_target(moving: &Moving<'_>) -> io::Result<bool> {
    let Some(found) = moving.target.version()? else { return Ok(false) };
    if found.is_same_file(moving.version) {
        return Ok(true);
    }
    let alike =
        found.bytes == moving.version.bytes && found.modified_ns == moving.version.modified_ns;
    Ok(alike && sum_of(moving.target)? == moving.sha256)
}

/// SHA-256 of a file.
pub(crate) fn sum_of(place: &At) -> io::Result<Sha256> {
    let mut sum = crate::files::sha256::Sum::new();
    io::copy(&mut place.open()?, &mut sum)?;
    Ok(sum.finish())
}

/// Copies to another device: copy, fsync, verify, rename, unlink.
fn copy_over(moving: &Moving<'_>) -> io::Result<Moved> {
    if stands_at_target(moving)? {
        // Interrupted between the rename of the copy and the unlink.
        return unlink_source(moving, Moved::Already);
    }
    if moving.target.version()?.is_some() {
        return Ok(Moved::Taken);
    }
    let staged = moving.target.folder().at(moving.staged_name.as_ref());
    let copied = copy_verified(moving, &staged);
    match copied {
        Ok(true) => {}
        Ok(false) => {
            staged.remove()?;
            return Ok(Moved::Swapped);
        }
        Err(error) => {
            // The copy is made anew next time; a leftover would only take room.
            let _ = staged.remove();
            return Err(error);
        }
    }
    place_and_unlink(moving, &staged)
}

/// Brings what was staged to its name, over nothing and durably, and removes the source.
pub(crate) fn place_and_unlink(moving: &Moving<'_>, staged: &At) -> io::Result<Moved> {
    match at("file.place").and_then(|()| staged.rename_over_nothing(moving.target)) {
        Ok(()) => moving.target.folder().sync()?,
        Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {
            staged.remove()?;
            return Ok(Moved::Taken);
        }
        Err(error) => return Err(error),
    }
    unlink_source(moving, Moved::Done)
}

pub(crate) fn unlink_source(moving: &Moving<'_>, moved: Moved) -> io::Result<Moved> {
    at("file.unlink")?;
    if let Some(link) = moving.link {
        link.remove()?;
        return Ok(moved);
    }
    // Another file that came to the name meanwhile is a new arrival: it stays.
    if moving.source.is(moving.version) {
        moving.source.remove()?;
    }
    Ok(moved)
}

/// False when the source turned out to be another version.
fn copy_verified(moving: &Moving<'_>, staged: &At) -> io::Result<bool> {
    let mut source = moving.source.open()?;
    let meta = source.metadata()?;
    if Version::of(&meta) != *moving.version {
        return Ok(false);
    }
    at("file.copy")?;
    // Nobody else may read it before it has the permissions of its source.
    let mut copy = staged.create(0o600)?;
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
    Ok(sum_of(staged)? == moving.sha256)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    fn at_path(path: &Path) -> At {
        crate::files::roots::Reach::anywhere().at(path).unwrap()
    }

    fn moving<'a>(source: &'a At, version: &'a Version, target: &'a At, sum: Sha256) -> Moving<'a> {
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
            let (from, to) = (at_path(&source), at_path(&target));
            std::fs::write(&source, "rows").unwrap();
            let version = from.version().unwrap().unwrap();
            let sum = sum_of(&from).unwrap();

            std::fs::write(&target, "other").unwrap();
            assert_eq!(move_to(&moving(&from, &version, &to, sum)).unwrap(), Moved::Taken);
            assert_eq!(std::fs::read_to_string(&target).unwrap(), "other");

            std::fs::remove_file(&target).unwrap();
            assert_eq!(move_to(&moving(&from, &version, &to, sum)).unwrap(), Moved::Done);
            assert_eq!(move_to(&moving(&from, &version, &to, sum)).unwrap(), Moved::Already);
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
            let (from, to) = (at_path(&source), at_path(&target));
            std::fs::write(&source, "rows").unwrap();
            let version = from.version().unwrap().unwrap();
            std::fs::write(&source, "newer rows").unwrap();
            let outcome = move_to(&moving(&from, &version, &to, Sha256::default())).unwrap();
            assert_eq!(outcome, Moved::Swapped);
            assert_eq!(std::fs::read_to_string(&source).unwrap(), "newer rows");
            std::fs::remove_file(&source).unwrap();
            let outcome = move_to(&moving(&from, &version, &to, Sha256::default())).unwrap();
            assert_eq!(outcome, Moved::Missing);
        }
    }

    #[test]
    fn a_copy_interrupted_before_the_unlink_is_ended() {
        let Ok(away) = tempfile::tempdir_in("/dev/shm") else { return };
        let home = tempfile::tempdir().unwrap();
        let (source, target) = (home.path().join("a.csv"), away.path().join("a.csv"));
        let (from, to) = (at_path(&source), at_path(&target));
        std::fs::write(&source, "rows").unwrap();
        let version = from.version().unwrap().unwrap();
        let sum = sum_of(&from).unwrap();
        let job = moving(&from, &version, &to, sum);
        assert!(copy_verified(&job, &to).unwrap());
        assert_eq!(move_to(&job).unwrap(), Moved::Already);
        assert!(!source.try_exists().unwrap());
    }
}
