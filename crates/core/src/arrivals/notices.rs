//! The kernel's notices of changes in a drop folder.
//!
//! A notice only says "look there"; nothing is believed of it. When notices
//! are lost, or cannot be had, the periodic sweep finds everything.

use std::collections::HashSet;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use notify::event::{AccessKind, AccessMode};
use notify::{Event, EventKind, RecommendedWatcher, RecursiveMode, Watcher};

/// Paths kept for a look; when there are more a sweep is quicker.
const MOST_PATHS: usize = 20_000;

/// What the notices ask to be looked at.
#[derive(Debug, Default)]
pub(crate) struct Wanted {
    /// Paths below the drop folder.
    pub paths: HashSet<String>,
    /// Notices were lost, or too many: sweep.
    pub sweep: bool,
}

impl Wanted {
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty() && !self.sweep
    }
}

/// Notices of one drop folder.
pub(crate) struct Notices {
    wanted: Arc<Mutex<Wanted>>,
    watcher: Option<RecommendedWatcher>,
    watched: Option<(u64, u64)>,
    drop: PathBuf,
    subfolders: bool,
    wake: Arc<dyn Fn() + Send + Sync>,
}

impl Notices {
    /// Notices of `drop`; `wake` is called when there is something to look at.
    pub fn new(drop: &Path, subfolders: bool, wake: Arc<dyn Fn() + Send + Sync>) -> Self {
        Notices {
            wanted: Arc::default(),
            watcher: None,
            watched: None,
            drop: drop.to_owned(),
            subfolders,
            wake,
        }
    }

    /// Watches the folder, anew when it is another folder than before at the
    /// same path. An error says why there are no notices.
    pub fn keep_watching(&mut self) -> Result<(), String> {
        let meta = std::fs::metadata(&self.drop).map_err(|error| error.to_string())?;
        let folder = (meta.dev(), meta.ino());
        if self.watcher.is_some() && self.watched == Some(folder) {
            return Ok(());
        }
        self.watcher = None;
        let wanted = Arc::clone(&self.wanted);
        let (drop, wake) = (self.drop.clone(), Arc::clone(&self.wake));
        let handler = move |notice: notify::Result<Event>| {
            let mut wanted = wanted.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
            let was_empty = wanted.is_empty();
            note(&mut wanted, &drop, notice);
            let now_wanted = was_empty && !wanted.is_empty();
            std::mem::drop(wanted);
            if now_wanted {
                wake();
            }
        };
        let mode =
            if self.subfolders { RecursiveMode::Recursive } else { RecursiveMode::NonRecursive };
        let watch = || -> notify::Result<RecommendedWatcher> {
            let mut watcher = notify::recommended_watcher(handler)?;
            watcher.watch(&self.drop, mode)?;
            Ok(watcher)
        };
        self.watcher = Some(watch().map_err(|error| error.to_string())?);
        self.watched = Some(folder);
        Ok(())
    }

    /// Takes what is to be looked at.
    pub fn take(&self) -> Wanted {
        std::mem::take(&mut *self.wanted.lock().unwrap_or_else(|poisoned| poisoned.into_inner()))
    }
}

/// Whether notices of a folder can be had; an error says why not.
pub(crate) fn try_notices(drop: &Path, subfolders: bool) -> Result<(), String> {
    Notices::new(drop, subfolders, Arc::new(|| {})).keep_watching()
}

fn note(wanted: &mut Wanted, drop: &Path, notice: notify::Result<Event>) {
    let Ok(event) = notice else {
        wanted.sweep = true;
        return;
    };
    if event.need_rescan() {
        wanted.sweep = true;
    }
    // Our own reading makes notices of opening; they say nothing new.
    let of_interest = match event.kind {
        EventKind::Access(AccessKind::Close(AccessMode::Write)) => true,
        EventKind::Access(_) => false,
        _ => true,
    };
    if !of_interest || wanted.sweep {
        return;
    }
    for path in event.paths {
        match path.strip_prefix(drop).ok().and_then(Path::to_str) {
            Some("") | None => wanted.sweep = true,
            Some(below) => {
                wanted.paths.insert(below.to_owned());
            }
        }
    }
    if wanted.paths.len() > MOST_PATHS {
        wanted.paths.clear();
        wanted.sweep = true;
    }
}
