//! A version of a file.

use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;

/// What tells one version of a file at a path from another: when any of these
/// differ, it is a new arrival.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Version {
    /// Size in bytes.
    pub bytes: u64,
    /// Modification time in nanoseconds since 1970.
    pub modified_ns: i64,
    /// Inode number.
    pub inode: u64,
}

impl Version {
    /// The version that `meta` describes.
    pub fn of(meta: &Metadata) -> Self {
        Version {
            bytes: meta.len(),
            modified_ns: meta
                .mtime()
                .saturating_mul(1_000_000_000)
                .saturating_add(meta.mtime_nsec()),
            inode: meta.ino(),
        }
    }
}

/// Time of the last change of the inode, in nanoseconds since 1970.
pub(super) fn changed_ns(meta: &Metadata) -> i64 {
    meta.ctime().saturating_mul(1_000_000_000).saturating_add(meta.ctime_nsec())
}
