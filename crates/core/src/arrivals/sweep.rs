//! Reading a drop folder from disk.

use std::fs::{FileType, Metadata};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::Version;
use super::version::changed_ns;

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

impl Kind {
    fn of(kind: FileType) -> Kind {
        if kind.is_file() {
            Kind::File
        } else if kind.is_dir() {
            Kind::Folder
        } else if kind.is_symlink() {
            Kind::Link
        } else {
            Kind::Special
        }
    }
}

/// One thing seen in a drop folder.
#[derive(Debug, Clone)]
pub struct Seen {
    /// Path below the drop folder, parted by `/`. Bytes that are not UTF-8 are
    /// shown as `\xNN`.
    pub path: String,
    /// Whether the name is UTF-8, so that `path` names the file.
    pub utf8: bool,
    /// What it is.
    pub kind: Kind,
    /// Its version.
    pub version: Version,
    /// Time of the inode's last change, in nanoseconds since 1970.
    pub changed_ns: i64,
    /// User number of its owner.
    pub owner: u32,
}

impl Seen {
    fn new(path: String, utf8: bool, meta: &Metadata) -> Seen {
        Seen {
            path,
            utf8,
            kind: Kind::of(meta.file_type()),
            version: Version::of(meta),
            changed_ns: changed_ns(meta),
            owner: meta.uid(),
        }
    }
}

/// A folder that could not be read, or the drop folder itself missing.
#[derive(Debug, thiserror::Error)]
#[error("the folder `{folder}` cannot be read: {source}")]
pub struct SweepProblem {
    /// The folder.
    pub folder: String,
    /// The same below the folder from which paths are counted.
    pub place: String,
    /// Why.
    pub source: io::Error,
}

/// Looks at one path below `drop`; `None` when nothing is there.
///
/// # Errors
/// The file system's.
pub fn look_at(drop: &Path, path: &str) -> io::Result<Option<Seen>> {
    match std::fs::symlink_metadata(drop.join(path)) {
        Ok(meta) => Ok(Some(Seen::new(path.to_owned(), true, &meta))),
        Err(error)
            if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) =>
        {
            Ok(None)
        }
        Err(error) => Err(error),
    }
}

/// Reads `folder` and the folders below it down to `depth` (0: none, 1: the folders
/// in it, and so on); `each` gets every thing as it is seen. Links are told, never
/// followed. Folders that cannot be read are returned as problems, and the rest
/// goes on.
///
/// # Errors
/// [`SweepProblem`] when the folder itself cannot be read.
pub fn sweep(
    folder: &Path,
    depth: u32,
    each: impl FnMut(Seen),
) -> Result<Vec<SweepProblem>, SweepProblem> {
    sweep_from(folder, "", depth, each)
}

/// As [`sweep`], for the folder `start` below `base`, from which paths are counted.
pub(crate) fn sweep_from(
    base: &Path,
    start: &str,
    depth: u32,
    mut each: impl FnMut(Seen),
) -> Result<Vec<SweepProblem>, SweepProblem> {
    let mut problems = Vec::new();
    let mut folders = vec![(start.to_owned(), 0)];
    while let Some((folder, level)) = folders.pop() {
        let here = if folder.is_empty() { base.to_owned() } else { base.join(&folder) };
        let problem = |source| SweepProblem {
            folder: here.display().to_string(),
            place: folder.clone(),
            source,
        };
        let entries = match std::fs::read_dir(&here) {
            Ok(entries) => entries,
            Err(source) if folder == start => return Err(problem(source)),
            Err(source) if source.kind() == io::ErrorKind::NotFound => continue,
            Err(source) => {
                problems.push(problem(source));
                continue;
            }
        };
        for entry in entries {
            let entry = match entry {
                Ok(entry) => entry,
                Err(source) => {
                    problems.push(problem(source));
                    break;
                }
            };
            // A file that vanished since the folder was read is no problem.
            let Ok(meta) = entry.metadata() else { continue };
            let name = entry.file_name();
            let (name, utf8) = match name.to_str() {
                Some(name) => (name.to_owned(), true),
                None => (shown(name.as_encoded_bytes()), false),
            };
            let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
            let seen = Seen::new(path, utf8, &meta);
            if level < depth && utf8 && seen.kind == Kind::Folder {
                folders.push((seen.path.clone(), level + 1));
            }
            each(seen);
        }
    }
    Ok(problems)
}

/// A name that is not UTF-8, for people.
fn shown(bytes: &[u8]) -> String {
    let chunks = bytes.utf8_chunks();
    let part = |chunk: std::str::Utf8Chunk<'_>| {
        let bad: String = chunk.invalid().iter().map(|byte| format!("\\x{byte:02x}")).collect();
        format!("{}{bad}", chunk.valid())
    };
    chunks.map(part).collect()
}
