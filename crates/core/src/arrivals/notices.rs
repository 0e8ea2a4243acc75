//! The kernel's notices of changes in drop folders.
//!
//! A notice only says "look there"; nothing is believed of it. When notices
//! are lost, or cannot be had, the periodic sweep finds everything.

use std::collections::{BTreeMap, HashSet};
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
    /// Paths below the base.
    pub paths: HashSet<String>,
    /// Notices were lost, or too many: sweep.
    pub sweep: bool,
}

impl Wanted {
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty() && !self.sweep
    }
}

/// Folders to be watched, and whether with all folders below.
pub(crate) type Watched = BTreeMap<PathBuf, bool>;

/// Notices of the drop folders of a gate.
pub(crate) struct Notices {
    wanted: Arc<Mutex<Wanted>>,
    watcher: Option<RecommendedWatcher>,
    /// Device, inode and manner of each folder that is watched.
    watched: BTreeMap<PathBuf, (u64, u64, bool)>,
    base: PathBuf,
    wake: Arc<dyn Fn() + Send + Sync>,
}

impl Notices {
    /// Notices of things below `base`; `wake` is called when there is something to
    /// look at.
    pub fn new(base: &Path, wake: Arc<dyn Fn() + Send + Sync>) -> Self {
        Notices {
            wanted: Arc::default(),
            watcher: None,
            watched: BTreeMap::new(),
            base: base.to_owned(),
            wake,
        }
    }

    /// Watches these folders, anew when one is another folder than before at the
    /// same path, or is not asked for any more. Gives why there are no notices of
    /// some.
    pub fn keep_watching(&mut self, wanted: &Watched) -> Vec<String> {
        let there = |path: &Path, below: bool| {
            let meta = std::fs::metadata(path).ok()?;
            Some((meta.dev(), meta.ino(), below))
        };
        let stale = |(path, was): (&PathBuf, &(u64, u64, bool))| {
            wanted.get(path).and_then(|below| there(path, *below)) != Some(*was)
        };
        if self.watched.iter().any(stale) {
            self.watcher = None;
            self.watched.clear();
        }
        let mut without = Vec::new();
        for (path, below) in wanted {
            if self.watched.contains_key(path) {
                continue;
            }
            // Asked before it is watched: one that is swapped meanwhile is stale.
            let watched = std::fs::metadata(path)
                .map_err(|error| error.to_string())
                .and_then(|meta| self.watch(path, *below).map(|()| meta));
            match watched {
                Ok(meta) => {
                    self.watched.insert(path.clone(), (meta.dev(), meta.ino(), *below));
                }
                Err(why) => without.push(format!("`{}`: {why}", path.display())),
            }
        }
        without
    }

    fn watch(&mut self, path: &Path, below: bool) -> Result<(), String> {
        let mode = if below { RecursiveMode::Recursive } else { RecursiveMode::NonRecursive };
        let mut watcher = match self.watcher.take() {
            Some(watcher) => watcher,
            None => notify::recommended_watcher(self.handler()).map_err(|e| e.to_string())?,
        };
        let done = watcher.watch(path, mode).map_err(|error| error.to_string());
        self.watcher = Some(watcher);
        done
    }

    fn handler(&self) -> impl FnMut(notify::Result<Event>) + Send + 'static {
        let wanted = Arc::clone(&self.wanted);
        let (base, wake) = (self.base.clone(), Arc::clone(&self.wake));
        move |notice: notify::Result<Event>| {
            let mut wanted = wanted.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
            let was_empty = wanted.is_empty();
            note(&mut wanted, &base, notice);
            let now_wanted = was_empty && !wanted.is_empty();
            drop(wanted);
            if now_wanted {
                wake();
            }
        }
    }

    /// How many folders are watched.
    pub fn count(&self) -> usize {
        self.watched.len()
    }

    /// Takes what is to be looked at.
    pub fn take(&self) -> Wanted {
        std::mem::take(&mut *self.wanted.lock().unwrap_or_else(|poisoned| poisoned.into_inner()))
    }
}

/// Why there are no notices of some of these folders.
pub(crate) fn try_notices(base: &Path, folders: &Watched) -> Vec<String> {
    Notices::new(base, Arc::new(|| {})).keep_watching(folders)
}

fn note(wanted: &mut Wanted, base: &Path, notice: notify::Result<Event>) {
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
        match path.strip_prefix(base).ok().and_then(Path::to_str) {
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
