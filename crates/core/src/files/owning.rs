//! Which service works a drop folder: a lock on the folder itself, which the kernel
//! gives back when the process ends, however it ends. Two services with state folders of
//! their own would work each file twice.
//!
//! Gates that leave their files where they are only look: they share a folder with each
//! other. A file system that knows no such locks is worked without one.

use std::collections::{BTreeSet, HashMap};
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use rustix::fs::FlockOperation;
use rustix::io::Errno;

use crate::files::at::Folder;

/// Device and inode of a folder.
pub(crate) type FolderKey = (u64, u64);

/// The drop folders that this process owns.
#[derive(Debug, Default)]
pub(crate) struct Owned(Mutex<HashMap<FolderKey, Held>>);

#[derive(Debug)]
struct Held {
    lock: OwnedFd,
    /// Which gates use it, and whether they take files away.
    gates: HashMap<String, bool>,
}

/// A folder that belongs to another process.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Elsewhere {
    /// Number of that process, where the kernel tells it.
    pub process: Option<u32>,
}

impl Owned {
    /// Takes a drop folder for a gate; `takes` when it takes files away.
    pub fn claim(&self, gate: &str, folder: &Folder, takes: bool) -> Result<FolderKey, Elsewhere> {
        let mut owned = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Ok(key) = folder.key() else { return Ok((0, 0)) };
        if let Some(held) = owned.get_mut(&key) {
            let had = held.gates.insert(gate.to_owned(), takes);
            if let Err(elsewhere) = lock(&held.lock, held.takes(), key) {
                match had {
                    Some(before) => held.gates.insert(gate.to_owned(), before),
                    None => held.gates.remove(gate),
                };
                // As it was before; that cannot fail, since it is less.
                let _ = lock(&held.lock, held.takes(), key);
                return Err(elsewhere);
            }
            return Ok(key);
        }
        let Ok(fd) = folder.again() else { return Ok(key) };
        lock(&fd, takes, key)?;
        let gates = HashMap::from([(gate.to_owned(), takes)]);
        owned.insert(key, Held { lock: fd, gates });
        Ok(key)
    }

    /// Gives back the folders of a gate but for these.
    pub fn keep(&self, gate: &str, keys: &BTreeSet<FolderKey>) {
        let mut owned = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        owned.retain(|key, held| {
            if !keys.contains(key) {
                held.gates.remove(gate);
            }
            !held.gates.is_empty()
        });
    }
}

impl Held {
    fn takes(&self) -> bool {
        self.gates.values().any(|takes| *takes)
    }
}

/// Whether the folder belongs to another process, asked without keeping it.
pub(crate) fn belongs_elsewhere(folder: &Folder, takes: bool) -> Option<Elsewhere> {
    let (fd, key) = (folder.again().ok()?, folder.key().ok()?);
    lock(&fd, takes, key).err()
}

fn lock(fd: &OwnedFd, takes: bool, key: FolderKey) -> Result<(), Elsewhere> {
    let how = match takes {
        true => FlockOperation::NonBlockingLockExclusive,
        false => FlockOperation::NonBlockingLockShared,
    };
    match rustix::fs::flock(fd, how) {
        Err(Errno::WOULDBLOCK) => Err(Elsewhere { process: holder(key) }),
        _ => Ok(()),
    }
}

/// How often the kernel's list of locks is read before the holder counts as not told.
const READINGS: usize = 16;

/// The process that holds the lock of a folder, as the kernel lists it. The kernel hands
/// its list out a page at a time, and a lock that is given back between two pages moves
/// the others up by one, so that one of them may be missing: what is not found is looked
/// for again.
fn holder(key: FolderKey) -> Option<u32> {
    (0..READINGS).find_map(|_| listed_holder(key))
}

fn listed_holder((device, inode): FolderKey) -> Option<u32> {
    let locks = std::fs::read_to_string("/proc/locks").ok()?;
    let (major, minor) = (libc::major(device), libc::minor(device));
    // With the space behind it: another inode may begin with the same digits.
    let place = format!(" {major:02x}:{minor:02x}:{inode} ");
    let line = locks.lines().find(|line| line.contains(" FLOCK ") && line.contains(&place))?;
    line.split_whitespace().nth(4)?.parse().ok()
}

/// What is said of a folder that belongs to another.
pub(crate) fn words(folder: &Path, elsewhere: Elsewhere) -> String {
    let who =
        elsewhere.process.map_or("another process".to_owned(), |pid| format!("process {pid}"));
    format!(
        "the drop folder `{}` is worked by another vadegate ({who}), so nothing is taken there; stop one of the two, or let both say archive = \"leave\" and have no work",
        folder.display()
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::roots::Reach;

    #[test]
    fn a_folder_has_one_taker_or_several_that_look() {
        let home = tempfile::tempdir().unwrap();
        let folder = Reach::anywhere().folder(home.path()).unwrap();
        let (one, other) = (Owned::default(), Owned::default());
        let key = one.claim("tide", &folder, false).unwrap();
        assert_eq!(other.claim("wave", &folder, false), Ok(key), "both only look");
        let refused = one.claim("buoy", &folder, true).unwrap_err();
        assert_eq!(refused.process, Some(std::process::id()));
        other.keep("wave", &BTreeSet::new());
        assert_eq!(one.claim("buoy", &folder, true), Ok(key), "two gates of one service");
        assert!(other.claim("wave", &folder, false).is_err());
        one.keep("buoy", &BTreeSet::new());
        assert!(
            one.claim("tide", &folder, false).is_ok()
                && other.claim("wave", &folder, false).is_ok()
        );
        drop(one);
        assert!(other.claim("wave", &folder, true).is_ok());
    }
}
