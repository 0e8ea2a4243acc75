//! Files over which the service dies: a reader that runs out of memory takes the whole
//! process with it, and would again at each start.
//!
//! While a table is read a marker in the state folder names its entry: one of a few files
//! that are kept, because to make and remove one for each table costs more than a small
//! table does. When the service
//! has died by itself (a fatal signal of its own, or killed for want of memory), and one
//! file alone was being read, that is noted; at the second such death the entry is held.
//! Several at once are suspects: each is read alone from then on. Being killed by
//! somebody else, however often, says nothing of a file.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::os::fd::AsRawFd;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI32, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use crate::ledger::Ledger;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;

/// Deaths over a file, read alone, after which it is held.
const MOST_DEATHS: i64 = 2;

const RUNNING: &str = "running";
const DIED: &str = "died";
const READING: &str = "reading";

/// What is known of files over which the service died, and the markers of those that are
/// read now.
#[derive(Debug, Default)]
pub(crate) struct Deaths {
    /// The folder of markers; none where nothing is noted.
    folder: Option<PathBuf>,
    state: PathBuf,
    suspects: HashSet<EntryId>,
    condemned: Mutex<HashMap<EntryId, String>>,
    turn: RwLock<()>,
    /// Markers that name no entry now, and how many there are in all.
    free: Mutex<Vec<File>>,
    made: AtomicUsize,
}

/// A table is being read, until this is dropped.
pub(crate) struct BeingRead<'a> {
    marker: Option<File>,
    free: &'a Mutex<Vec<File>>,
    _turn: Turn<'a>,
}

/// Letters of a marker: the number of an entry, and space behind it.
const LETTERS: usize = 20;
/// A marker that names no entry.
const NONE: [u8; LETTERS] = [b' '; LETTERS];

#[expect(dead_code, reason = "held for the sake of its end")]
enum Turn<'a> {
    Beside(RwLockReadGuard<'a, ()>),
    Alone(RwLockWriteGuard<'a, ()>),
}

impl Drop for BeingRead<'_> {
    fn drop(&mut self) {
        if let Some(marker) = self.marker.take() {
            // One that is left says only that a file was read when the service died.
            let _ = marker.write_all_at(&NONE, 0);
            self.free.lock().unwrap_or_else(PoisonError::into_inner).push(marker);
        }
    }
}

impl Deaths {
    /// Looks at what an earlier run left in a state folder, whose lock the caller holds,
    /// and begins to note what this one reads.
    ///
    /// # Errors
    /// The ledger's.
    pub fn begin(state: &Path, ledger: &Ledger) -> Result<Self, LedgerError> {
        let folder = state.join(READING);
        let by_itself = died_by_itself(state);
        let mut deaths = Deaths::default();
        deaths.state = state.to_owned();
        let left: Vec<EntryId> = std::fs::read_dir(&folder)
            .into_iter()
            .flatten()
            .flatten()
            .filter_map(|marker| std::fs::read_to_string(marker.path()).ok()?.trim().parse().ok())
            .collect();
        if by_itself && !left.is_empty() {
            deaths.conclude(&left, ledger)?;
        }
        // What cannot be written is not noted; nothing else depends on it.
        let _ = std::fs::remove_dir_all(&folder);
        if std::fs::create_dir(&folder).is_ok() && note_start(state).is_ok() {
            deaths.folder = Some(folder);
        }
        Ok(deaths)
    }

    fn conclude(&mut self, left: &[EntryId], ledger: &Ledger) -> Result<(), LedgerError> {
        self.suspects.extend(left);
        let [alone] = left else {
            tracing::warn!(
                "the service died while it read {} files; each is read alone now",
                left.len()
            );
            return Ok(());
        };
        let deaths = ledger.died_over(*alone)?;
        tracing::warn!(
            entry = alone.number(),
            deaths,
            "the service died while it read this file alone"
        );
        if deaths >= MOST_DEATHS {
            let why = format!(
                "the service died {deaths} times while it read this file and no other; look at it with a program of its own kind, and make it smaller"
            );
            self.condemned.get_mut().unwrap_or_else(PoisonError::into_inner).insert(*alone, why);
        }
        Ok(())
    }

    /// Notes that the table of an entry is read now. One over which the service has died
    /// is read while nothing else is.
    pub fn reading(&self, entry: EntryId) -> BeingRead<'_> {
        let turn = if self.suspects.contains(&entry) {
            Turn::Alone(self.turn.write().unwrap_or_else(PoisonError::into_inner))
        } else {
            Turn::Beside(self.turn.read().unwrap_or_else(PoisonError::into_inner))
        };
        let named = format!("{entry:<LETTERS$}");
        // One that cannot be written names nothing, and is kept all the same.
        let marker = self.marker();
        if let Some(marker) = &marker {
            let _ = marker.write_all_at(named.as_bytes(), 0);
        }
        BeingRead { marker, free: &self.free, _turn: turn }
    }

    /// A marker that names no entry; none where nothing is noted.
    fn marker(&self) -> Option<File> {
        let folder = self.folder.as_ref()?;
        let free = self.free.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let make = || {
            let number = self.made.fetch_add(1, Ordering::Relaxed);
            File::create(folder.join(format!("table-{number}"))).ok()
        };
        free.or_else(make)
    }

    /// Why an entry is not read any more, told once.
    pub fn condemned(&self, entry: EntryId) -> Option<String> {
        self.condemned.lock().unwrap_or_else(PoisonError::into_inner).remove(&entry)
    }
}

impl Drop for Deaths {
    fn drop(&mut self) {
        if let Some(folder) = &self.folder {
            FATAL.store(-1, Ordering::SeqCst);
            // It ends as it should: nothing is to be concluded from it.
            let _ = std::fs::remove_file(self.state.join(RUNNING));
            let _ = std::fs::remove_dir_all(folder);
        }
    }
}

/// How often the kernel has killed a process for want of memory since it booted.
fn killed_for_memory() -> u64 {
    let text = std::fs::read_to_string("/proc/vmstat").unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("oom_kill "));
    line.and_then(|count| count.trim().parse().ok()).unwrap_or(0)
}

fn boot() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default()
}

/// Whether the run before this one died, and not by somebody else's hand.
fn died_by_itself(state: &Path) -> bool {
    let Ok(noted) = std::fs::read_to_string(state.join(RUNNING)) else { return false };
    let told = std::fs::metadata(state.join(DIED)).is_ok_and(|meta| meta.len() > 0);
    let (count, boot_then) = noted.split_once('\n').unwrap_or_default();
    let count: u64 = count.parse().unwrap_or(u64::MAX);
    told || boot_then.trim() == boot().trim() && killed_for_memory() > count
}

fn note_start(state: &Path) -> std::io::Result<()> {
    std::fs::write(state.join(RUNNING), format!("{}\n{}", killed_for_memory(), boot()))?;
    let died = File::create(state.join(DIED))?;
    FATAL.store(died.as_raw_fd(), Ordering::SeqCst);
    // It must stay open for as long as the process lives.
    std::mem::forget(died);
    listen_to_fatal_signals();
    Ok(())
}

/// Where the handler writes that the process dies by itself; -1: nowhere.
static FATAL: AtomicI32 = AtomicI32::new(-1);

/// Has a fatal signal of our own leave a word before the process ends.
fn listen_to_fatal_signals() {
    extern "C" fn dying(signal: libc::c_int) {
        let file = FATAL.load(Ordering::SeqCst);
        if file >= 0 {
            // SAFETY: write is async-signal-safe, and the byte lives as long as needed.
            unsafe { libc::write(file, c"!".as_ptr().cast(), 1) };
        }
        // SAFETY: both are async-signal-safe; the signal then ends the process.
        unsafe {
            libc::signal(signal, libc::SIG_DFL);
            libc::raise(signal);
        }
    }
    static ONCE: std::sync::Once = std::sync::Once::new();
    ONCE.call_once(|| {
        // Of an overflowing stack and of memory that cannot be had Rust makes an abort.
        for signal in [libc::SIGABRT, libc::SIGILL, libc::SIGFPE] {
            // SAFETY: the handler keeps to what a handler may do.
            unsafe { libc::signal(signal, dying as extern "C" fn(libc::c_int) as usize) };
        }
    });
}
