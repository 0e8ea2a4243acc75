//! Reading a drop folder from disk.

use std::ffi::OsStr;
use std::io;
use std::path::Path;

use crate::arrivals::names::is_staging_folder;
use crate::files::at::{Folder, Meta};
use crate::files::roots::Reach;
use crate::files::version::Kind;
use crate::files::version::Version;

/// One thing seen in a drop folder.
#[derive(Debug, Clone)]
pub struct Seen {
    /// Path below the drop folder, separated by `/`. Bytes that are not UTF-8 are
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
    /// Permissions.
    pub mode: u32,
}

impl Seen {
    pub(crate) fn new(path: String, utf8: bool, meta: &Meta) -> Seen {
        Seen {
            path,
            utf8,
            kind: meta.kind,
            version: meta.version,
            changed_ns: meta.version.changed_ns,
            owner: meta.owner,
            mode: meta.mode,
        }
    }
}

/// A name in a drop folder, before it is looked at what lies there.
pub(crate) struct Glimpse<'a> {
    /// As of [`Seen`].
    pub path: String,
    /// As of [`Seen`].
    pub utf8: bool,
    /// What it is.
    pub kind: Kind,
    folder: &'a Folder,
    name: &'a OsStr,
}

impl Glimpse<'_> {
    /// Looks at it; none when it has vanished.
    pub fn look(self) -> Option<Seen> {
        let meta = self.folder.look(self.name).ok()??;
        Some(Seen::new(self.path, self.utf8, &meta))
    }
}

/// A folder that could not be read, or the drop folder itself missing.
#[derive(Debug, thiserror::Error)]
#[error("the folder `{folder}` cannot be read: {}", why(source))]
pub struct SweepProblem {
    /// The folder.
    pub folder: String,
    /// The same below the folder from which paths are counted.
    pub place: String,
    /// Why.
    pub source: io::Error,
}

fn why(source: &io::Error) -> String {
    match source.raw_os_error() {
        Some(libc::ELOOP) => {
            "a part of its path is a link, and links are not followed; name the folder to which it leads".into()
        }
        _ => source.to_string(),
    }
}

/// Looks at one path below `drop`; `None` when nothing is there.
///
/// # Errors
/// The file system's, and a link on the way.
pub(crate) fn look_at(reach: &Reach, drop: &Path, path: &str) -> io::Result<Option<Seen>> {
    let Some(at) = reach.at_if_there(&drop.join(path))? else { return Ok(None) };
    Ok(at.look()?.map(|meta| Seen::new(path.to_owned(), true, &meta)))
}

/// Reads `folder` and the folders below it down to `depth` (0: none, 1: the folders
/// in it, and so on); `each` gets every thing as it is seen. Links are told, never
/// followed. Folders that cannot be read are returned as problems, and the rest
/// goes on.
///
/// # Errors
/// [`SweepProblem`] when the folder itself cannot be read.
pub fn sweep(
    reach: &Reach,
    folder: &Path,
    depth: u32,
    each: impl FnMut(Seen),
) -> Result<Vec<SweepProblem>, SweepProblem> {
    let mut each = each;
    sweep_from(reach, (folder, ""), depth, &mut |_, _| (), &mut |one| {
        one.look().into_iter().for_each(&mut each);
    })
}

/// As [`sweep`], for the folder `start` below `base`, from which paths are counted;
/// `before` is told of each folder before its names are read, `each` of each name.
pub(crate) fn sweep_from(
    reach: &Reach,
    (base, start): (&Path, &str),
    depth: u32,
    before: &mut dyn FnMut(&Folder, &str),
    each: &mut dyn FnMut(Glimpse<'_>),
) -> Result<Vec<SweepProblem>, SweepProblem> {
    let mut problems = Vec::new();
    let mut folders = vec![(start.to_owned(), 0)];
    let mut top: Option<Folder> = None;
    while let Some((folder, level)) = folders.pop() {
        let here = if folder.is_empty() { base.to_owned() } else { base.join(&folder) };
        let problem = |source| SweepProblem {
            folder: here.display().to_string(),
            place: folder.clone(),
            source,
        };
        if reach.is_state(&here) {
            continue;
        }
        let below = folder[start.len()..].trim_start_matches('/');
        let opened = match &top {
            Some(top) => top.below(Path::new(below)),
            None => reach.folder(&here),
        };
        let read = opened.and_then(|open| {
            before(&open, &folder);
            open.names(|name, kind| {
                let (shown, utf8) = match name.to_str() {
                    Some(name) => (name.to_owned(), true),
                    None => (shown(name), false),
                };
                let ours = is_staging_folder(&shown);
                let path = if folder.is_empty() { shown } else { format!("{folder}/{shown}") };
                if level < depth && utf8 && kind == Kind::Folder && !ours {
                    folders.push((path.clone(), level + 1));
                }
                each(Glimpse { path, utf8, kind, folder: &open, name });
            })?;
            Ok(open)
        });
        match read {
            Ok(open) => {
                top.get_or_insert(open);
            }
            Err(source) if top.is_none() => return Err(problem(source)),
            Err(source) if source.kind() == io::ErrorKind::NotFound => {}
            Err(source) => problems.push(problem(source)),
        }
    }
    Ok(problems)
}

/// A name that is not UTF-8, for people.
fn shown(name: &OsStr) -> String {
    let chunks = name.as_encoded_bytes().utf8_chunks();
    let part = |chunk: std::str::Utf8Chunk<'_>| {
        let bad: String = chunk.invalid().iter().map(|byte| format!("\\x{byte:02x}")).collect();
        format!("{}{bad}", chunk.valid())
    };
    chunks.map(part).collect()
}
