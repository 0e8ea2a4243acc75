//! A version of a file.

use serde::{Deserialize, Serialize};
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use utoipa::ToSchema;

/// What tells one version of a file at a path from another: when any of these
/// differ, it is a new arrival.
#[derive(Debug, Clone, Copy, Eq)]
pub struct Version {
    /// Size in bytes.
    pub bytes: u64,
    /// Modification time in nanoseconds since 1970.
    pub modified_ns: i64,
    /// Inode number.
    pub inode: u64,
    /// Time of the inode's last change in nanoseconds since 1970, which nobody can set
    /// back; 0 where it is not known or says nothing.
    pub changed_ns: i64,
}

/// Two versions are the same when all that is known of both is.
impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        let unknown = self.changed_ns == 0 || other.changed_ns == 0;
        self.is_same_file(other) && (unknown || self.changed_ns == other.changed_ns)
    }
}

impl Version {
    /// The version that `meta` describes.
    pub fn of(meta: &Metadata) -> Self {
        Version {
            bytes: meta.len(),
            modified_ns: nanoseconds(meta.mtime(), meta.mtime_nsec()),
            inode: meta.ino(),
            changed_ns: nanoseconds(meta.ctime(), meta.ctime_nsec()),
        }
    }

    /// The version that `stat` describes.
    pub(crate) fn of_stat(stat: &rustix::fs::Stat) -> Self {
        let part = |nanoseconds: u64| i64::try_from(nanoseconds).unwrap_or(0);
        Version {
            bytes: stat.st_size.cast_unsigned(),
            modified_ns: nanoseconds(stat.st_mtime, part(stat.st_mtime_nsec)),
            inode: stat.st_ino,
            changed_ns: nanoseconds(stat.st_ctime, part(stat.st_ctime_nsec)),
        }
    }

    /// The same, with nothing said of the inode's time.
    #[must_use]
    pub fn without_inode_time(self) -> Self {
        Version { changed_ns: 0, ..self }
    }

    /// Whether it is this file with this size and modification time. A rename changes
    /// the inode's time and nothing of that.
    pub fn is_same_file(&self, other: &Self) -> bool {
        self.bytes == other.bytes
            && self.modified_ns == other.modified_ns
            && self.inode == other.inode
    }
}

fn nanoseconds(seconds: i64, part: i64) -> i64 {
    seconds.saturating_mul(1_000_000_000).saturating_add(part)
}

/// What kind of thing lies in a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link: never followed.
    Link,
    /// A socket, pipe or device.
    Special,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_time_of_the_inode_counts_where_both_have_it() {
        let one = Version { bytes: 4, modified_ns: 7, inode: 9, changed_ns: 11 };
        let other = Version { changed_ns: 12, ..one };
        assert!(one != other && one.is_same_file(&other));
        assert!(one == Version { changed_ns: 0, ..one });
        assert!(one != Version { inode: 8, changed_ns: 0, ..one });
    }
}
