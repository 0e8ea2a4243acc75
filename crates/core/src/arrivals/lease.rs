//! Asking the kernel whether any process has a file open for writing.
//!
//! A read lease (`fcntl F_SETLEASE`, Linux) is refused while somebody has the
//! file open for writing. It is given back at once: while it is held a writer's
//! open would wait. On file systems where it is known to answer wrongly, or
//! not at all, nothing is asked and the quiet time decides alone.

use std::fs::File;
use std::os::fd::AsRawFd;
use std::path::Path;
use std::sync::Once;

/// What the lease tells of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lease {
    /// Nobody has it open for writing.
    Free,
    /// Somebody has it open for writing.
    Open,
    /// The kernel cannot tell for this file.
    CannotTell,
}

/// Why a lease does not tell who writes to files of a folder.
#[derive(Debug, thiserror::Error)]
pub enum LeaseBlind {
    /// Nobody says what the folder lies on.
    #[error("the file system cannot be asked: {0}")]
    NotAsked(#[from] std::io::Error),
    /// Writers of its layers are not seen.
    #[error("an overlay file system does not see every writer")]
    Overlay,
    /// It is none of those of which it is known; the number is its magic of statfs(2).
    #[error("the file system (type {0:#x}) is not known to see every writer")]
    Unknown(i64),
}

/// Whether a lease can be relied on for files in `folder`, and if not, why.
///
/// # Errors
/// [`LeaseBlind`]: the reason.
pub fn lease_tells(folder: &Path) -> Result<(), LeaseBlind> {
    // Magic numbers of statfs(2).
    const RELIABLE: [(i64, &str); 4] =
        [(0xEF53, "ext4"), (0x0102_1994, "tmpfs"), (0x5846_5342, "xfs"), (0x9123_683E, "btrfs")];
    const OVERLAY: i64 = 0x794C_7630;
    let kind = file_system(folder)?;
    if RELIABLE.iter().any(|(magic, _)| *magic == kind) {
        return Ok(());
    }
    if kind == OVERLAY {
        return Err(LeaseBlind::Overlay);
    }
    Err(LeaseBlind::Unknown(kind))
}

/// What kind of network file system a folder lies on, if it lies on one.
pub fn network_kind(folder: &Path) -> Option<&'static str> {
    // Magic numbers of statfs(2).
    const NETWORK: [(i64, &str); 7] = [
        (0x6969, "NFS"),
        (0x517B, "SMB"),
        (0xFF53_4D42, "CIFS"),
        (0xFE53_4D42, "SMB2"),
        (0x0102_1997, "9P"),
        (0x6573_5546, "FUSE"),
        (0x00C3_6400, "Ceph"),
    ];
    let kind = file_system(folder).ok()?;
    NETWORK.iter().find(|(magic, _)| *magic == kind).map(|(_, name)| *name)
}

fn file_system(folder: &Path) -> std::io::Result<i64> {
    Ok(rustix::fs::statfs(folder)?.f_type)
}

/// Asks whether anybody has `file`, which is open for reading, open for
/// writing as well.
pub fn writers(file: &File) -> Lease {
    ignore_lease_breaks();
    let fd = file.as_raw_fd();
    // SAFETY: `fd` is open for the length of the call; the arguments are those
    // of fcntl(2).
    if unsafe { libc::fcntl(fd, libc::F_SETLEASE, libc::F_RDLCK) } == 0 {
        // SAFETY: as above.
        unsafe { libc::fcntl(fd, libc::F_SETLEASE, libc::F_UNLCK) };
        return Lease::Free;
    }
    match std::io::Error::last_os_error().raw_os_error() {
        Some(libc::EAGAIN) => Lease::Open,
        // Another user's file, or a file system without leases.
        _ => Lease::CannotTell,
    }
}

/// A writer that opens the file in the instant in which we hold the lease makes
/// the kernel send us SIGIO, which would end the process. A handler that does
/// nothing is set rather than SIG_IGN, because it is not inherited by programs
/// that a gate runs.
fn ignore_lease_breaks() {
    extern "C" fn nothing(_: libc::c_int) {}
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        // SAFETY: the handler touches nothing, and the structure is zeroed,
        // which is a valid empty mask and flags.
        unsafe {
            let mut action: libc::sigaction = std::mem::zeroed();
            action.sa_sigaction = nothing as extern "C" fn(libc::c_int) as usize;
            action.sa_flags = libc::SA_RESTART;
            libc::sigaction(libc::SIGIO, &raw const action, std::ptr::null_mut());
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_writer_is_seen_and_its_end_too() {
        let folder = tempfile::tempdir().unwrap();
        if lease_tells(folder.path()).is_err() {
            return;
        }
        let path = folder.path().join("tide.csv");
        let writer = File::create(&path).unwrap();
        let reader = File::open(&path).unwrap();
        assert_eq!(writers(&reader), Lease::Open);
        drop(writer);
        assert_eq!(writers(&reader), Lease::Free);
        // The lease was given back: a new writer need not wait.
        File::options().append(true).open(&path).unwrap();
    }
}
