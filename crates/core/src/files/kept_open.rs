//! Folders that are kept open while many files of them are worked: to open one costs more
//! than most of what is done in it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io;
use std::marker::PhantomData;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::files::at::Folder;
use crate::files::roots::Reach;

/// So many folders are kept open at the most.
const MOST_OPEN: usize = 64;

#[derive(Default)]
struct Kept {
    /// How many want them kept.
    wanted: u32,
    folders: HashMap<(usize, PathBuf), Arc<Folder>>,
}

thread_local! {
    static KEPT: RefCell<Kept> = RefCell::default();
}

/// As long as it lives, folders that this thread reaches stay open. Each stays the one that
/// it was when it was opened, whatever is done to its path meanwhile: so it is for a batch,
/// and not for longer.
pub(crate) struct KeptOpen {
    /// It is of its thread alone.
    here: PhantomData<*const ()>,
}

impl KeptOpen {
    pub fn begin() -> Self {
        KEPT.with_borrow_mut(|kept| kept.wanted += 1);
        KeptOpen { here: PhantomData }
    }
}

impl Drop for KeptOpen {
    fn drop(&mut self) {
        KEPT.with_borrow_mut(|kept| {
            kept.wanted -= 1;
            if kept.wanted == 0 {
                kept.folders.clear();
            }
        });
    }
}

/// A folder that is open, or is opened now.
pub(crate) fn kept(
    reach: &Reach,
    path: &Path,
    open: impl FnOnce() -> io::Result<Folder>,
) -> io::Result<Arc<Folder>> {
    if KEPT.with_borrow(|kept| kept.wanted == 0) {
        return open().map(Arc::new);
    }
    // A folder holds what it was reached by: its address is nobody else's meanwhile.
    let key = (reach.address(), path.to_owned());
    let found = KEPT.with_borrow(|kept| kept.folders.get(&key).cloned());
    if let Some(folder) = found {
        return Ok(folder);
    }
    let folder = Arc::new(open()?);
    KEPT.with_borrow_mut(|kept| {
        if kept.folders.len() >= MOST_OPEN {
            kept.folders.clear();
        }
        kept.folders.insert(key, Arc::clone(&folder));
    });
    Ok(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_stay_open_as_long_as_they_are_wanted() {
        let home = tempfile::tempdir().unwrap();
        let path = home.path().join("out");
        std::fs::create_dir(&path).unwrap();
        let reach = Reach::below(&[home.path().to_owned()], &home.path().join("state"));
        let key = || reach.at(&path.join("x")).unwrap().folder().key().unwrap();
        let (first, kept) = (key(), KeptOpen::begin());
        assert_eq!(key(), first);
        std::fs::rename(&path, home.path().join("moved")).unwrap();
        std::fs::create_dir(&path).unwrap();
        let inner = KeptOpen::begin();
        assert_eq!(key(), first, "it is the one that it was");
        drop(inner);
        assert_eq!(key(), first, "somebody wants it still");
        drop(kept);
        assert_ne!(key(), first);
    }
}
