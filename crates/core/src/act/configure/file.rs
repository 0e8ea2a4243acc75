//! Writing a file of the configuration: whole, durable, and over nothing but what was read.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, RenameFlags, renameat_with};

use crate::act::configure::types::ConfigureError;
use crate::files::sha256::Sha256;

/// The text of a file of the configuration.
pub(super) fn read_text(path: &Path) -> Result<String, ConfigureError> {
    fs::read_to_string(path).map_err(failed(path))
}

fn failed(path: &Path) -> impl Fn(io::Error) -> ConfigureError {
    let file = path.display().to_string();
    move |source| ConfigureError::Io { file: file.clone(), source }
}

/// Puts a text in the place of the version with the sum `was`, or where nothing is; gives
/// what stood there.
pub(super) fn swap_in(
    path: &Path,
    text: &str,
    was: Option<Sha256>,
) -> Result<String, ConfigureError> {
    // A link to the file stays one.
    let place = match fs::canonicalize(path) {
        Ok(place) => place,
        Err(error) if error.kind() == io::ErrorKind::NotFound && was.is_none() => path.to_owned(),
        Err(error) => return Err(failed(path)(error)),
    };
    let changed = || ConfigureError::Changed(path.display().to_string());
    if let Some(folder) = place.parent().filter(|_| was.is_none()) {
        fs::create_dir_all(folder).map_err(failed(path))?;
    }
    let staged = stage(&place, text).map_err(failed(path))?;
    let swapped = swap(&place, &staged, was);
    let outcome = match swapped {
        Ok(Some(before)) => Ok(before),
        Ok(None) => Err(changed()),
        Err(error) => Err(failed(path)(error)),
    };
    // What was swapped out, or was not wanted.
    let _ = fs::remove_file(&staged);
    let folder = place.parent().unwrap_or(Path::new("/"));
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(failed(path))?;
    outcome
}

/// Writes the text beside its place, with the rights of what stands there.
fn stage(place: &Path, text: &str) -> io::Result<PathBuf> {
    let name = place.file_name().unwrap_or_default().to_string_lossy();
    let staged = place.with_file_name(format!(".{name}.{}.vadegate-edited", std::process::id()));
    let before = fs::metadata(place).ok();
    // One of an earlier process of this number may lie there.
    let _ = fs::remove_file(&staged);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&staged)?;
    let written = file.write_all(text.as_bytes()).and_then(|()| {
        if let Some(before) = before {
            // Only root may give a file away; the rights matter more.
            let _ = std::os::unix::fs::fchown(&file, Some(before.uid()), Some(before.gid()));
            file.set_permissions(fs::Permissions::from_mode(before.mode() & 0o7777))?;
        } else {
            file.set_permissions(fs::Permissions::from_mode(0o640))?;
        }
        file.sync_all()
    });
    if let Err(error) = written {
        let _ = fs::remove_file(&staged);
        return Err(error);
    }
    Ok(staged)
}

/// Swaps the staged file in; gives what stood there, and none when that was something else: then
/// it stands there again.
fn swap(place: &Path, staged: &Path, was: Option<Sha256>) -> io::Result<Option<String>> {
    let Some(was) = was else {
        return match renameat_with(CWD, staged, CWD, place, RenameFlags::NOREPLACE) {
            Err(rustix::io::Errno::EXIST) => Ok(None),
            renamed => renamed.map(|()| Some(String::new())).map_err(io::Error::from),
        };
    };
    let is = |text: &str| Sha256::of(text.as_bytes()) == was;
    if !is(&fs::read_to_string(place)?) {
        return Ok(None);
    }
    // What was swapped out is looked at again: nobody can write between.
    renameat_with(CWD, staged, CWD, place, RenameFlags::EXCHANGE)?;
    let before = fs::read_to_string(staged)?;
    if is(&before) {
        return Ok(Some(before));
    }
    renameat_with(CWD, staged, CWD, place, RenameFlags::EXCHANGE)?;
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_put_over_what_was_read_and_over_nothing_else() {
        let home = tempfile::tempdir().unwrap();
        let file = home.path().join("vadegate.toml");
        fs::write(&file, "one").unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o604)).unwrap();
        let one = Sha256::of(b"one");
        assert_eq!(swap_in(&file, "two", Some(one)).unwrap(), "one");
        assert_eq!(fs::read_to_string(&file).unwrap(), "two");
        assert_eq!(fs::metadata(&file).unwrap().mode() & 0o777, 0o604);
        assert!(matches!(swap_in(&file, "three", Some(one)), Err(ConfigureError::Changed(_))));
        assert!(matches!(swap_in(&file, "three", None), Err(ConfigureError::Changed(_))));
        assert_eq!(fs::read_to_string(&file).unwrap(), "two");
        // A link to it stays one, and a new file goes where nothing is.
        let link = home.path().join("link.toml");
        std::os::unix::fs::symlink(&file, &link).unwrap();
        swap_in(&link, "four", Some(Sha256::of(b"two"))).unwrap();
        assert!(fs::symlink_metadata(&link).unwrap().is_symlink());
        assert_eq!(fs::read_to_string(&file).unwrap(), "four");
        let new = home.path().join("gates.d/tide.toml");
        swap_in(&new, "five", None).unwrap();
        assert_eq!(fs::read_to_string(&new).unwrap(), "five");
        let names = |folder: &Path| fs::read_dir(folder).unwrap().count();
        assert_eq!((names(home.path()), names(&home.path().join("gates.d"))), (3, 1));
    }
}
