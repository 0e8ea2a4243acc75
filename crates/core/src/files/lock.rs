//! One service owns a state folder: an advisory lock on a file in it, which
//! the kernel gives back when the process ends, however it ends. It cannot
//! keep a program away that does not ask for it.

use std::fs::{DirBuilder, File, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// A service that is killed in the instant in which it starts a program leaves
/// a child that has the lock until it notices. Its end is waited for so long.
const ORPHAN: Duration = Duration::from_secs(5);

/// Name of the file in the state folder that says where the service listens.
pub const ADDRESS_FILE: &str = "address";

/// Why the state folder cannot be owned.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// Another process owns it.
    #[error("the state folder `{}` belongs to a running vadegate{}; stop that one, or give this one another `state`", folder.display(), owner.map(|pid| format!(" (process {pid})")).unwrap_or_default())]
    Owned {
        /// The folder.
        folder: PathBuf,
        /// Number of the owner's process, if it could be read.
        owner: Option<u32>,
    },
    /// The folder cannot be used.
    #[error("the state folder `{}` cannot be used: {source}", folder.display())]
    Io {
        /// The folder.
        folder: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// Ownership of a state folder, until it is dropped.
#[derive(Debug)]
pub struct StateLock {
    file: File,
}

fn lock_file(folder: &Path) -> io::Result<File> {
    File::options().read(true).write(true).create(true).truncate(false).open(folder.join("lock"))
}

impl StateLock {
    /// Takes the folder, which is made when missing (mode 0700).
    ///
    /// # Errors
    /// [`LockError`].
    pub fn take(folder: &Path) -> Result<Self, LockError> {
        let failed = |source| LockError::Io { folder: folder.to_owned(), source };
        DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(failed)?;
        let mut file = lock_file(folder).map_err(failed)?;
        let begun = Instant::now();
        loop {
            match file.try_lock() {
                Ok(()) => break,
                Err(TryLockError::WouldBlock) => {
                    let owner = owner(&mut file);
                    if owner.is_none_or(lives) || begun.elapsed() > ORPHAN {
                        return Err(LockError::Owned { folder: folder.to_owned(), owner });
                    }
                    // The kernel tells nobody of the end of a process that is
                    // not its child, so it is asked again.
                    std::thread::sleep(Duration::from_millis(5));
                }
                Err(TryLockError::Error(source)) => return Err(failed(source)),
            }
        }
        let write = |file: &mut File| -> io::Result<()> {
            file.set_len(0)?;
            file.rewind()?;
            writeln!(file, "{}", std::process::id())
        };
        write(&mut file).map_err(failed)?;
        // Left by a service that was killed: nobody listens there now.
        match std::fs::remove_file(folder.join(ADDRESS_FILE)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(failed(error)),
            _ => {}
        }
        Ok(StateLock { file })
    }
}

impl Drop for StateLock {
    fn drop(&mut self) {
        // The kernel gives the lock back with the file in any case.
        let _ = self.file.unlock();
    }
}

/// Whether a process of this number lives.
fn lives(pid: u32) -> bool {
    let pid = i32::try_from(pid).ok().and_then(rustix::process::Pid::from_raw);
    // One that may not be signalled lives.
    pid.is_none_or(|pid| rustix::process::test_kill_process(pid) != Err(rustix::io::Errno::SRCH))
}

fn owner(file: &mut File) -> Option<u32> {
    let mut text = String::new();
    file.rewind().ok()?;
    file.read_to_string(&mut text).ok()?;
    text.trim().parse().ok()
}

/// The process that owns a state folder, if one does.
pub fn owner_of(folder: &Path) -> Option<u32> {
    let mut file = File::open(folder.join("lock")).ok()?;
    matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock)).then(|| owner(&mut file))?
}

/// The base address of the service that owns a state folder, if one is
/// running and has said where it listens.
pub fn running_service(folder: &Path) -> Option<String> {
    let file = File::open(folder.join("lock")).ok()?;
    match file.try_lock_shared() {
        Err(TryLockError::WouldBlock) => {
            let address = std::fs::read_to_string(folder.join(ADDRESS_FILE)).ok()?;
            Some(address.trim().to_owned())
        }
        _ => None,
    }
}
