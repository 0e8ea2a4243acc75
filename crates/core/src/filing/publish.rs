//! Publishing: bringing a committed output into its place. Every step can be
//! done again after a crash at any point.

use std::fs::{File, Permissions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use crate::fault::at;
use crate::files::at::At;
use crate::files::roots::Reach;
pub(crate) use crate::filing::create::PublishError;
use crate::filing::create::{create, failed, inode_at, lost};
use crate::filing::in_place::in_place;
use crate::filing::moving::sum_of;
use crate::ledger::requests::Unpublished;
use crate::ledger::words::{OutputMode, OutputRole};

/// Brings an output into its place, and gives where it stands; its folder is to be made
/// durable behind it.
pub(crate) fn place(reach: &Reach, output: &Unpublished) -> Result<At, PublishError> {
    let path = Path::new(&output.path);
    if output.role == OutputRole::Member {
        return place_member(reach, output, path);
    }
    let reached = reach.at(path).and_then(|to| Ok((to, reach.at(Path::new(&output.staged))?)));
    let (to, staged) =
        reached.map_err(|source| PublishError::Io { path: path.to_owned(), source })?;
    match output.mode {
        OutputMode::Append => append(output, &to, &staged),
        OutputMode::Replace => replace(output, &to, &staged),
        OutputMode::Update => update(output, &to, &staged),
        OutputMode::InPlace => in_place(output, &to, &staged),
        _ => create(output, &to, &staged),
    }
}

/// Brings a member of an archive into its place, whose folder is made when it is missing.
/// Its staged file is gone once the folder was renamed in which it was.
fn place_member(reach: &Reach, output: &Unpublished, path: &Path) -> Result<At, PublishError> {
    let failed = |source| PublishError::Io { path: path.to_owned(), source };
    let to = reach.at_made(path).map_err(failed)?;
    if inode_at(&to) == Some(output.inode) {
        return Ok(to);
    }
    let staged = Path::new(&output.staged);
    match reach.at_if_there(staged).map_err(failed)? {
        Some(staged) if output.mode == OutputMode::Replace => replace(output, &to, &staged),
        Some(staged) => create(output, &to, &staged),
        None => Err(PublishError::Lost { staged: staged.to_owned(), path: path.to_owned() }),
    }
}

/// Renames a whole staged folder into its place, where nothing is; nothing happens where
/// something is, or where it was done before.
pub(crate) fn place_folder(reach: &Reach, output: &Unpublished) -> io::Result<()> {
    let (path, staged) = (Path::new(&output.path), Path::new(&output.staged));
    let Some(staged) = reach.at_if_there(staged)? else { return Ok(()) };
    let to = reach.at(path)?;
    if to.look()?.is_some() || staged.look()?.is_none() {
        return Ok(());
    }
    at("publish.folder")?;
    match staged.rename_over_nothing(&to) {
        Err(error) if error.raw_os_error() == Some(libc::EEXIST) => Ok(()),
        renamed => renamed.and_then(|()| to.folder().sync()),
    }
}

/// Removes what is left of a staged folder whose members are all in their places.
pub(crate) fn end_folder(reach: &Reach, output: &Unpublished) -> io::Result<()> {
    let staged = reach.at_if_there(Path::new(&output.staged))?;
    staged.map_or(Ok(()), |at| at.remove_tree())
}

/// Makes the names in the folder of an output durable.
pub(crate) fn make_durable(place: &At) -> Result<(), PublishError> {
    let synced = place.folder().sync().and_then(|()| at("publish.published"));
    synced.map_err(failed(place))
}

fn replace(output: &Unpublished, to: &At, staged: &At) -> Result<At, PublishError> {
    match at("publish.replace").and_then(|()| staged.rename(to)) {
        Ok(()) => Ok(to.clone()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            if inode_at(to) == Some(output.inode) { Ok(to.clone()) } else { Err(lost(to, staged)) }
        }
        Err(source) => Err(failed(to)(source)),
    }
}

/// Puts the staged file in the place of the version that it was made from, and of no other.
fn update(output: &Unpublished, to: &At, staged: &At) -> Result<At, PublishError> {
    if inode_at(staged).is_none() {
        return replace(output, to, staged);
    }
    let there = match sum_of(to) {
        Ok(sum) => Some(sum),
        // Moved away since: nothing of anybody is replaced.
        Err(error) if error.kind() == io::ErrorKind::NotFound => return create(output, to, staged),
        Err(source) => return Err(failed(to)(source)),
    };
    if there != output.base_sha256 {
        return Err(PublishError::Changed { staged: staged.path(), path: to.path() });
    }
    replace(output, to, staged)
}

/// Appends the staged bytes after the recorded length. What stands there
/// already must be the beginning of our own bytes, from an append that was
/// interrupted: anything else is somebody else's, and is not cut off.
fn append(output: &Unpublished, to: &At, staged: &At) -> Result<At, PublishError> {
    let failed = failed(to);
    at("publish.append").map_err(&failed)?;
    let mut piece = match staged.open() {
        Ok(piece) => piece,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            // The staged file is removed only after the append was durable.
            let length = to.version().map_err(&failed)?.map_or(0, |version| version.bytes);
            let whole = length >= output.base_bytes + output.bytes;
            return if whole { Ok(to.clone()) } else { Err(lost(to, staged)) };
        }
        Err(source) => return Err(failed(source)),
    };
    let mut file = match to.open_to_write() {
        Ok(file) => file,
        // Moved away since the commit: the rows begin a new output. They lack
        // the header, which its reader will notice; they are not lost.
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return create(output, to, staged);
        }
        Err(source) => return Err(failed(source)),
    };
    let length = file.metadata().map_err(&failed)?.len();
    if length < output.base_bytes {
        return Err(PublishError::Shortened {
            path: to.path(),
            expected: output.base_bytes,
            found: length,
        });
    }
    file.seek(SeekFrom::Start(output.base_bytes)).map_err(&failed)?;
    let beyond = length - output.base_bytes;
    if beyond > output.bytes || !begins_alike(&mut file, &mut piece, beyond).map_err(&failed)? {
        return Err(PublishError::Foreign { path: to.path(), expected: output.base_bytes });
    }
    if beyond < output.bytes {
        close_to_others(&file, &piece).map_err(&failed)?;
        file.set_len(output.base_bytes).map_err(&failed)?;
        file.seek(SeekFrom::Start(output.base_bytes)).map_err(&failed)?;
        piece.rewind().map_err(&failed)?;
        copy(&mut piece, &mut file).map_err(&failed)?;
    }
    at("publish.sync").and_then(|()| file.sync_all()).map_err(&failed)?;
    at("publish.unstage").and_then(|()| staged.remove()).map_err(&failed)?;
    Ok(to.clone())
}

/// Takes from the output the permissions that the rows which come into it do not give.
fn close_to_others(file: &File, piece: &File) -> io::Result<()> {
    let (has, wanted) = (file.metadata()?.permissions().mode(), piece.metadata()?.permissions());
    let kept = has & (wanted.mode() | 0o200);
    if kept == has { Ok(()) } else { file.set_permissions(Permissions::from_mode(kept & 0o7777)) }
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
    use std::path::PathBuf;

    use super::*;
    use crate::ledger::ids::{BatchId, OutputId};

    fn publish(reach: &Reach, output: &Unpublished) -> Result<PathBuf, PublishError> {
        let at = place(reach, output)?;
        make_durable(&at).map(|()| at.path())
    }

    fn output(folder: &Path, mode: OutputMode, base: u64, staged: &str) -> Unpublished {
        let path = folder.join(".vadegate-1.staged");
        std::fs::write(&path, staged).unwrap();
        Unpublished {
            id: OutputId::of(1),
            batch: BatchId::of(1),
            path: folder.join("out.csv").display().to_string(),
            inode: Reach::anywhere().at(&path).unwrap().version().unwrap().unwrap().inode,
            staged: path.display().to_string(),
            mode,
            base_bytes: base,
            base_sha256: None,
            bytes: staged.len() as u64,
            sha256: None,
            role: OutputRole::Rows,
        }
    }

    #[test]
    fn an_append_interrupted_anywhere_ends_the_same() {
        for written in 0..=6 {
            let folder = tempfile::tempdir().unwrap();
            let piece = output(folder.path(), OutputMode::Append, 4, "b\nc\nd\n");
            let out = folder.path().join("out.csv");
            std::fs::write(&out, format!("h\na\n{}", &"b\nc\nd\n"[..written])).unwrap();
            publish(&Reach::anywhere(), &piece).unwrap();
            publish(&Reach::anywhere(), &piece).unwrap();
            assert_eq!(std::fs::read_to_string(&out).unwrap(), "h\na\nb\nc\nd\n");
            assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        }
    }

    #[test]
    fn rows_of_somebody_else_are_not_cut_off() {
        let folder = tempfile::tempdir().unwrap();
        let piece = output(folder.path(), OutputMode::Append, 4, "b\n");
        let out = folder.path().join("out.csv");
        for (text, part) in
            [("h\na\nx\n", "changed by somebody else"), ("h\n", "had 4 bytes and now has 2")]
        {
            std::fs::write(&out, text).unwrap();
            assert!(publish(&Reach::anywhere(), &piece).unwrap_err().to_string().contains(part));
            assert_eq!(std::fs::read_to_string(&out).unwrap(), text);
        }
    }

    #[test]
    fn a_new_output_never_replaces_one_that_came_meanwhile() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("out.csv"), "theirs").unwrap();
        let piece = output(folder.path(), OutputMode::Create, 0, "ours");
        let place = publish(&Reach::anywhere(), &piece).unwrap();
        assert_eq!(place, folder.path().join("out-2.csv"));
        assert_eq!(publish(&Reach::anywhere(), &piece).unwrap(), place, "again after a crash");
        assert_eq!(std::fs::read_to_string(folder.path().join("out.csv")).unwrap(), "theirs");
    }

    #[test]
    fn a_name_that_was_given_by_a_link_alone_is_ended_and_not_numbered() {
        let folder = tempfile::tempdir().unwrap();
        let piece = output(folder.path(), OutputMode::Create, 0, "ours");
        std::fs::hard_link(&piece.staged, folder.path().join("out.csv")).unwrap();
        let place = publish(&Reach::anywhere(), &piece).unwrap();
        assert_eq!(place, folder.path().join("out.csv"));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[test]
    fn a_replacement_can_be_repeated_and_a_lost_piece_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let out = folder.path().join("out.csv");
        std::fs::write(&out, "old").unwrap();
        let piece = output(folder.path(), OutputMode::Replace, 0, "new");
        publish(&Reach::anywhere(), &piece).unwrap();
        publish(&Reach::anywhere(), &piece).unwrap();
        assert_eq!(std::fs::read_to_string(&out).unwrap(), "new");
        std::fs::remove_file(&out).unwrap();
        assert!(publish(&Reach::anywhere(), &piece).unwrap_err().to_string().contains("is gone"));
    }

    #[test]
    fn an_update_takes_the_place_of_what_it_was_made_from_and_of_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let out = folder.path().join("out.csv");
        std::fs::write(&out, "old").unwrap();
        let at = Reach::anywhere().at(&out).unwrap();
        let mut piece = output(folder.path(), OutputMode::Update, 0, "new");
        piece.base_sha256 = Some(sum_of(&at).unwrap());
        std::fs::write(&out, "theirs").unwrap();
        let refused = publish(&Reach::anywhere(), &piece).unwrap_err().to_string();
        assert!(refused.contains("changed by somebody else"), "{refused}");
        assert_eq!(std::fs::read_to_string(&out).unwrap(), "theirs");
        std::fs::write(&out, "old").unwrap();
        publish(&Reach::anywhere(), &piece).unwrap();
        publish(&Reach::anywhere(), &piece).unwrap();
        assert_eq!(std::fs::read_to_string(&out).unwrap(), "new");
    }
}
