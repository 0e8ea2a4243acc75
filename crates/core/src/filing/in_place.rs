//! What takes the place of the file of which it was made, in its drop folder.
//!
//! The two change names at once, so that at no moment nothing lies there; then the file that
//! came out is looked at. If it is another than was edited, it was put there by somebody
//! meanwhile: it gets its name back, and what was edited comes beside it, under a number.

use std::io;

use crate::fault::at;
use crate::files::at::At;
use crate::files::sha256::Sha256;
use crate::filing::create::{PublishError, create, failed, inode_at};
use crate::filing::moving::sum_of;
use crate::ledger::requests::Unpublished;

/// Brings what was edited into the place of its file; that has the staged name afterwards,
/// from which it is filed.
pub(super) fn in_place(output: &Unpublished, to: &At, staged: &At) -> Result<At, PublishError> {
    let Some(base) = output.base_sha256 else { return create(output, to, staged) };
    let stands = inode_at(to) == Some(output.inode);
    match inode_at(staged) {
        Some(inode) if inode == output.inode => exchange(output, base, to, staged),
        // They have changed names before an interruption.
        Some(_) if stands => match is(staged, base).map_err(failed(to))? {
            true => Ok(to.clone()),
            false => back(output, to, staged),
        },
        // What was edited was taken from there since. A file of somebody that could not get its
        // name back then gets one now.
        Some(_) => match is(staged, base).map_err(failed(to))? {
            true => Ok(to.clone()),
            false => create(output, to, staged),
        },
        None => create(output, to, staged),
    }
}

fn exchange(output: &Unpublished, base: Sha256, to: &At, staged: &At) -> Result<At, PublishError> {
    let failed = failed(to);
    let Some(before) = to.look().map_err(&failed)?.filter(|meta| meta.is_file()) else {
        return create(output, to, staged);
    };
    if !is(to, base).map_err(&failed)? {
        return create(output, to, staged);
    }
    let exchanged = at("publish.exchange").and_then(|()| staged.exchange(to));
    match exchanged.and_then(|()| at("publish.exchanged")) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return create(output, to, staged);
        }
        Err(error) => return Err(failed(error)),
    }
    // The exchange itself has changed the time of the inode.
    match staged.look().map_err(&failed)? {
        Some(meta) if meta.version.is_same_file(&before.version) => Ok(to.clone()),
        _ => back(output, to, staged),
    }
}

/// Gives a file of somebody its name back.
fn back(output: &Unpublished, to: &At, staged: &At) -> Result<At, PublishError> {
    staged.exchange(to).map_err(failed(to))?;
    create(output, to, staged)
}

/// Whether a file has this content; what has gone has none.
fn is(place: &At, base: Sha256) -> io::Result<bool> {
    match sum_of(place) {
        Ok(sum) => Ok(sum == base),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::Path;

    use super::*;
    use crate::files::roots::Reach;
    use crate::files::sha256::Sum;
    use crate::ledger::ids::{BatchId, OutputId};
    use crate::ledger::words::{OutputMode, OutputRole};

    /// An edit of `sheet.txt` that is staged, and not published.
    fn staged(folder: &Path, base: &str) -> (Unpublished, At, At) {
        let (to, staged) = (folder.join("sheet.txt"), folder.join(".vadegate-1.staged"));
        fs::write(&to, base).unwrap();
        fs::write(&staged, "edited").unwrap();
        let reach = Reach::anywhere();
        let (to, staged) = (reach.at(&to).unwrap(), reach.at(&staged).unwrap());
        let output = Unpublished {
            id: OutputId::of(1),
            batch: BatchId::of(1),
            path: to.path().display().to_string(),
            staged: staged.path().display().to_string(),
            mode: OutputMode::InPlace,
            base_bytes: 0,
            base_sha256: Some(Sum::of(base.as_bytes())),
            inode: inode_at(&staged).unwrap(),
            bytes: 6,
            sha256: None,
            role: OutputRole::Edited,
        };
        (output, to, staged)
    }

    fn text(at: &At) -> String {
        fs::read_to_string(at.path()).unwrap()
    }

    #[test]
    fn the_two_change_names_and_again_after_an_interruption_nothing_happens() {
        let folder = tempfile::tempdir().unwrap();
        let (output, to, staged) = staged(folder.path(), "original");
        for _ in 0..2 {
            assert_eq!(in_place(&output, &to, &staged).unwrap().path(), to.path());
            assert_eq!((text(&to), text(&staged)), ("edited".into(), "original".into()));
        }
        // The original was filed, and the record of it was lost.
        staged.remove().unwrap();
        assert_eq!(in_place(&output, &to, &staged).unwrap().path(), to.path());
        assert_eq!(text(&to), "edited");
    }

    #[test]
    fn what_somebody_put_there_meanwhile_keeps_its_name() {
        let folder = tempfile::tempdir().unwrap();
        let (output, to, staged) = staged(folder.path(), "original");
        fs::write(to.path(), "theirs").unwrap();
        for _ in 0..2 {
            let place = in_place(&output, &to, &staged).unwrap();
            assert_eq!(place.path(), folder.path().join("sheet-2.txt"));
            assert_eq!((text(&to), text(&place)), ("theirs".into(), "edited".into()));
        }
    }

    #[test]
    fn what_came_between_the_look_and_the_exchange_gets_its_name_back() {
        let folder = tempfile::tempdir().unwrap();
        let (output, to, staged) = staged(folder.path(), "original");
        // As a kill right behind the exchange leaves it.
        fs::write(to.path(), "theirs").unwrap();
        staged.exchange(&to).unwrap();
        let place = in_place(&output, &to, &staged).unwrap();
        assert_eq!((text(&to), text(&place)), ("theirs".into(), "edited".into()));
        assert!(fs::read_dir(folder.path()).unwrap().count() == 2);
    }

    #[test]
    fn a_file_of_somebody_never_stays_under_the_hidden_name() {
        let folder = tempfile::tempdir().unwrap();
        let (output, to, staged) = staged(folder.path(), "original");
        // The names were changed, could not be changed back, and ours was taken away.
        fs::write(to.path(), "theirs").unwrap();
        staged.exchange(&to).unwrap();
        fs::rename(to.path(), folder.path().join("elsewhere.txt")).unwrap();
        in_place(&output, &to, &staged).unwrap();
        assert_eq!(text(&to), "theirs");
    }

    #[test]
    fn what_was_moved_away_meanwhile_leaves_its_name() {
        let folder = tempfile::tempdir().unwrap();
        let (output, to, staged) = staged(folder.path(), "original");
        fs::rename(to.path(), folder.path().join("elsewhere.txt")).unwrap();
        for _ in 0..2 {
            assert_eq!(in_place(&output, &to, &staged).unwrap().path(), to.path());
            assert_eq!(text(&to), "edited");
        }
    }
}
