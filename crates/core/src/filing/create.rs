//! Bringing what was staged to a name that is free.

use std::io;
use std::path::PathBuf;

use crate::fault::at;
use crate::files::at::At;
use crate::filing::folders::numbered;
use crate::ledger::requests::Unpublished;

/// Why an output cannot be published; it is tried again at the next pass.
#[derive(Debug, thiserror::Error)]
pub(crate) enum PublishError {
    /// The output to append to is shorter than it was.
    #[error("the output `{}` had {expected} bytes and now has {found}; put it back as it was, or move it away and `{}` will be started anew", path.display(), path.display())]
    Shortened { path: PathBuf, expected: u64, found: u64 },
    /// Somebody else appended to the output.
    #[error("the output `{}` was changed by somebody else after its {expected} bytes; move it away and it will be started anew", path.display())]
    Foreign { path: PathBuf, expected: u64 },
    /// What it was made from is not what stands there any more.
    #[error("the output `{}` was changed by somebody else since it was read; it is left as it is, and what was made of it is in `{}`", path.display(), staged.display())]
    Changed { staged: PathBuf, path: PathBuf },
    /// The staged file is gone, and does not stand in its place either.
    #[error("the staged file `{}` for `{}` is gone", staged.display(), path.display())]
    Lost { staged: PathBuf, path: PathBuf },
    /// The file system refused.
    #[error("the output `{}` cannot be published: {source}", path.display())]
    Io { path: PathBuf, source: io::Error },
}

pub(super) fn failed(place: &At) -> impl Fn(io::Error) -> PublishError {
    let path = place.path();
    move |source| PublishError::Io { path: path.clone(), source }
}

/// The inode of what lies at a place.
pub(super) fn inode_at(place: &At) -> Option<u64> {
    place.version().ok().flatten().map(|version| version.inode)
}

/// A staged file that is neither there nor in its place.
pub(super) fn lost(place: &At, staged: &At) -> PublishError {
    PublishError::Lost { staged: staged.path(), path: place.path() }
}

/// Gives it its name, or one with a number where somebody else has that.
pub(super) fn create(output: &Unpublished, to: &At, staged: &At) -> Result<At, PublishError> {
    let mut place = to.clone();
    for number in 2..100_000 {
        match at("publish.create").and_then(|()| staged.rename_over_nothing(&place)) {
            Ok(()) => return Ok(place),
            Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {
                // Where a rename is a link and a removal, it may have been cut off between.
                if inode_at(&place) == Some(output.inode) {
                    staged.remove().map_err(failed(staged))?;
                    return Ok(place);
                }
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return came_to(output, to, staged);
            }
            Err(source) => return Err(failed(&place)(source)),
        }
        place = beside(to, number);
    }
    Err(lost(to, staged))
}

fn beside(to: &At, number: u32) -> At {
    let name = numbered(&to.path(), number);
    to.folder().at(name.file_name().unwrap_or_default())
}

/// Where a staged file is that is not staged any more: it came to its name before an
/// interruption.
fn came_to(output: &Unpublished, to: &At, staged: &At) -> Result<At, PublishError> {
    let mut place = to.clone();
    for number in 2..100_000 {
        match inode_at(&place) {
            Some(inode) if inode == output.inode => return Ok(place),
            Some(_) => place = beside(to, number),
            None => break,
        }
    }
    Err(lost(to, staged))
}
