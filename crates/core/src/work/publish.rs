//! Publishing: bringing a committed output into its place. Every step can be
//! done again after a crash at any point.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use crate::fault::at;
use crate::filing::{numbered, rename_over_nothing, sync_folder};
use crate::ledger::Unpublished;

/// Why an output cannot be published; it is tried again at the next pass.
#[derive(Debug, thiserror::Error)]
pub(crate) enum PublishError {
    /// The output to append to is shorter than it was.
    #[error("the output `{}` had {expected} bytes and now has {found}; put it back as it was, or move it away and `{}` will be started anew", path.display(), path.display())]
    Shortened { path: PathBuf, expected: u64, found: u64 },
    /// Somebody else appended to the output.
    #[error("the output `{}` was changed by somebody else after its {expected} bytes; move it away and it will be started anew", path.display())]
    Foreign { path: PathBuf, expected: u64 },
    /// The staged file is gone.
    #[error("the staged file `{}` for `{}` is gone", staged.display(), path.display())]
    Lost { staged: PathBuf, path: PathBuf },
    /// The file system refused.
    #[error("the output `{}` cannot be published: {source}", path.display())]
    Io { path: PathBuf, source: io::Error },
}

/// Publishes and gives the path at which the output stands.
pub(crate) fn publish(output: &Unpublished) -> Result<PathBuf, PublishError> {
    let path = Path::new(&output.path);
    let staged = Path::new(&output.staged);
    let done = match output.mode.as_str() {
        "append" => append(output, path, staged),
        "replace" => replace(output, path, staged),
        _ => create(output, path, staged),
    }?;
    let folder = path.parent().unwrap_or(Path::new("/"));
    let synced = sync_folder(folder).and_then(|()| at("publish.published"));
    synced.map_err(|source| PublishError::Io { path: done.clone(), source })?;
    Ok(done)
}

fn inode_at(path: &Path) -> Option<u64> {
    std::fs::symlink_metadata(path).ok().map(|meta| meta.ino())
}

fn lost(path: &Path, staged: &Path) -> PublishError {
    PublishError::Lost { staged: staged.to_owned(), path: path.to_owned() }
}

fn create(output: &Unpublished, path: &Path, staged: &Path) -> Result<PathBuf, PublishError> {
    let there = inode_at(staged).is_some();
    let mut place = path.to_owned();
    for number in 2..100_000 {
        if inode_at(&place) == Some(output.inode) {
            return Ok(place);
        }
        if there {
            match at("publish.create").and_then(|()| rename_over_nothing(staged, &place)) {
                Ok(()) => return Ok(place),
                Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {}
                Err(source) => return Err(PublishError::Io { path: place, source }),
            }
        } else if inode_at(&place).is_none() {
            break;
        }
        place = numbered(path, number);
    }
    Err(lost(path, staged))
}

fn replace(output: &Unpublished, path: &Path, staged: &Path) -> Result<PathBuf, PublishError> {
    match at("publish.replace").and_then(|()| std::fs::rename(staged, path)) {
        Ok(()) => Ok(path.to_owned()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            if inode_at(path) == Some(output.inode) {
                Ok(path.to_owned())
            } else {
                Err(lost(path, staged))
            }
        }
        Err(source) => Err(PublishError::Io { path: path.to_owned(), source }),
    }
}

/// Appends the staged bytes after the recorded length. What stands there
/// already must be the beginning of our own bytes, from an append that was
/// interrupted: anything else is somebody else's, and is not cut off.
fn append(output: &Unpublished, path: &Path, staged: &Path) -> Result<PathBuf, PublishError> {
    let failed = |source| PublishError::Io { path: path.to_owned(), source };
    at("publish.append").map_err(failed)?;
    let mut piece = match File::open(staged) {
        Ok(piece) => piece,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            // The staged file is removed only after the append was durable.
            let length = std::fs::metadata(path).map_err(failed)?.len();
            let whole = length >= output.base_bytes + output.bytes;
            return if whole { Ok(path.to_owned()) } else { Err(lost(path, staged)) };
        }
        Err(source) => return Err(failed(source)),
    };
    let mut options = File::options();
    options.read(true).write(true).custom_flags(libc::O_NOFOLLOW);
    let mut file = match options.open(path) {
        Ok(file) => file,
        // Moved away since the commit: the rows begin a new output. They lack
        // the header, which its reader will notice; they are not lost.
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return create(output, path, staged);
        }
        Err(source) => return Err(failed(source)),
    };
    let length = file.metadata().map_err(failed)?.len();
    if length < output.base_bytes {
        return Err(PublishError::Shortened {
            path: path.to_owned(),
            expected: output.base_bytes,
            found: length,
        });
    }
    file.seek(SeekFrom::Start(output.base_bytes)).map_err(failed)?;
    let beyond = length - output.base_bytes;
    if beyond > output.bytes || !begins_alike(&mut file, &mut piece, beyond).map_err(failed)? {
        return Err(PublishError::Foreign { path: path.to_owned(), expected: output.base_bytes });
    }
    if beyond < output.bytes {
        file.set_len(output.base_bytes).map_err(failed)?;
        file.seek(SeekFrom::Start(output.base_bytes)).map_err(failed)?;
        piece.rewind().map_err(failed)?;
        copy(&mut piece, &mut file).map_err(failed)?;
    }
    at("publish.sync").and_then(|()| file.sync_all()).map_err(failed)?;
    at("publish.unstage").and_then(|()| std::fs::remove_file(staged)).map_err(failed)?;
    Ok(path.to_owned())
}

fn copy(piece: &mut File, file: &mut File) -> io::Result<()> {
    let mut buffer = vec![0; 64 * 1024];
    loop {
        let count = piece.read(&mut buffer)?;
        if count == 0 {
            return Ok(());
        }
        crate::fault::write("publish.write", &buffer[..count], |bytes| file.write_all(bytes))?;
    }
}

fn begins_alike(file: &mut File, piece: &mut File, length: u64) -> io::Result<bool> {
    let (mut left, mut a, mut b) = (length, vec![0; 64 * 1024], vec![0; 64 * 1024]);
    while left > 0 {
        let count = usize::try_from(left).unwrap_or(usize::MAX).min(a.len());
        file.read_exact(&mut a[..count])?;
        piece.read_exact(&mut b[..count])?;
        if a[..count] != b[..count] {
            return Ok(false);
        }
        left -= count as u64;
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn output(folder: &Path, mode: &str, base: u64, staged: &str) -> Unpublished {
        let path = folder.join(".vadegate-1.staged");
        std::fs::write(&path, staged).unwrap();
        Unpublished {
            id: 1,
            batch: 1,
            path: folder.join("out.csv").display().to_string(),
            inode: inode_at(&path).unwrap(),
            staged: path.display().to_string(),
            mode: mode.into(),
            base_bytes: base,
            bytes: staged.len() as u64,
        }
    }

    #[test]
    fn an_append_interrupted_anywhere_ends_the_same() {
        for written in 0..=6 {
            let folder = tempfile::tempdir().unwrap();
            let piece = output(folder.path(), "append", 4, "b\nc\nd\n");
            let out = folder.path().join("out.csv");
            std::fs::write(&out, format!("h\na\n{}", &"b\nc\nd\n"[..written])).unwrap();
            publish(&piece).unwrap();
            publish(&piece).unwrap();
            assert_eq!(std::fs::read_to_string(&out).unwrap(), "h\na\nb\nc\nd\n");
            assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        }
    }

    #[test]
    fn rows_of_somebody_else_are_not_cut_off() {
        let folder = tempfile::tempdir().unwrap();
        let piece = output(folder.path(), "append", 4, "b\n");
        let out = folder.path().join("out.csv");
        for (text, part) in
            [("h\na\nx\n", "changed by somebody else"), ("h\n", "had 4 bytes and now has 2")]
        {
            std::fs::write(&out, text).unwrap();
            assert!(publish(&piece).unwrap_err().to_string().contains(part));
            assert_eq!(std::fs::read_to_string(&out).unwrap(), text);
        }
    }

    #[test]
    fn a_new_output_never_replaces_one_that_came_meanwhile() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("out.csv"), "theirs").unwrap();
        let piece = output(folder.path(), "create", 0, "ours");
        let place = publish(&piece).unwrap();
        assert_eq!(place, folder.path().join("out-2.csv"));
        assert_eq!(publish(&piece).unwrap(), place, "again after a crash");
        assert_eq!(std::fs::read_to_string(folder.path().join("out.csv")).unwrap(), "theirs");
    }

    #[test]
    fn a_replacement_can_be_repeated_and_a_lost_piece_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let out = folder.path().join("out.csv");
        std::fs::write(&out, "old").unwrap();
        let piece = output(folder.path(), "replace", 0, "new");
        publish(&piece).unwrap();
        publish(&piece).unwrap();
        assert_eq!(std::fs::read_to_string(&out).unwrap(), "new");
        std::fs::remove_file(&out).unwrap();
        assert!(publish(&piece).unwrap_err().to_string().contains("is gone"));
    }
}
