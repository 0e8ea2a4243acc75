//! Bringing the bytes of files onto the disk.
//!
//! Whoever dropped a file may not have synced it: its bytes are then in memory alone,
//! and a power cut leaves an empty file under its name. So before an entry is recorded,
//! on which outputs and the archive will rest, its bytes are made durable. How that is
//! done best depends on the file system: with a journal one `syncfs` for many files costs
//! one commit instead of one for each; without one it is best to start the writing of
//! all and then wait for each.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::fs::MetadataExt;
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::Duration;

/// With a journal, so many files are synced by one call for the whole file system.
const MANY: usize = 8;

/// So many files are kept open before they are waited for.
const MOST_OPEN: usize = 64;

/// When the bytes of a source are made durable.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Durability {
    /// Before its entry is recorded.
    Content,
    /// Never by us: only renames are made durable. What a supplier did not sync can be
    /// lost in a power cut.
    Rename,
}

/// Has the kernel begin to write a file's bytes, without waiting for it.
pub(crate) fn start_writing(file: &File) {
    // SAFETY: a plain system call on an open descriptor; length 0 means to the end.
    unsafe { libc::sync_file_range(file.as_raw_fd(), 0, 0, libc::SYNC_FILE_RANGE_WRITE) };
    // That it could not begin is seen when the bytes are waited for.
}

/// Files whose bytes are to be made durable together, by numbers of the caller's.
pub(crate) struct Unsynced {
    /// The point of the protocol that is passed at each sync.
    point: &'static str,
    /// Whether what is known of a file is made durable with its bytes.
    whole: bool,
    /// Files that are synced one by one.
    each: Vec<(usize, File)>,
    /// Files of file systems with a journal: the first of them, and the numbers of all.
    journaled: HashMap<u64, (Vec<File>, Vec<usize>)>,
    failed: Vec<(usize, io::Error)>,
}

impl Unsynced {
    /// For files that are somebody else's, of which only the bytes are needed.
    pub fn of_sources() -> Self {
        Unsynced::new("enter.sync", false)
    }

    /// For staged files, whose times and permissions are ours too.
    pub fn of_outputs() -> Self {
        Unsynced::new("stage.sync", true)
    }

    fn new(point: &'static str, whole: bool) -> Self {
        let (each, journaled, failed) = (Vec::new(), HashMap::new(), Vec::new());
        Unsynced { point, whole, each, journaled, failed }
    }

    /// Adds a file whose writing was started.
    pub fn add(&mut self, number: usize, file: File) {
        let device = match file.metadata() {
            Ok(meta) => meta.dev(),
            Err(error) => return self.failed.push((number, error)),
        };
        if has_journal(device) {
            let (files, numbers) = self.journaled.entry(device).or_default();
            if files.len() <= MANY {
                files.push(file);
            }
            return numbers.push(number);
        }
        self.each.push((number, file));
        if self.each.len() >= MOST_OPEN {
            self.sync_each();
        }
    }

    fn sync_each(&mut self) {
        for (number, file) in self.each.drain(..) {
            let synced = crate::fault::at(self.point)
                .and_then(|()| synced(if self.whole { file.sync_all() } else { file.sync_data() }));
            if let Err(error) = synced {
                self.failed.push((number, error));
            }
        }
    }

    /// Waits until all bytes are on their disks; gives for which files that failed.
    pub fn finish(mut self) -> Vec<(usize, io::Error)> {
        for (_, (files, numbers)) in std::mem::take(&mut self.journaled) {
            if numbers.len() <= MANY {
                self.each.extend(numbers.into_iter().zip(files));
                continue;
            }
            let whole = files.first().map_or(Ok(()), |first| {
                crate::fault::at(self.point)?;
                synced(rustix::fs::syncfs(first).map_err(io::Error::from))
            });
            if let Err(error) = whole {
                let again = |number| (number, io::Error::new(error.kind(), error.to_string()));
                self.failed.extend(numbers.into_iter().map(again));
            }
        }
        self.sync_each();
        self.failed
    }
}

/// A file system that knows no sync has nothing that could be waited for.
fn synced(outcome: io::Result<()>) -> io::Result<()> {
    match outcome {
        Err(error)
            if matches!(
                error.raw_os_error(),
                Some(libc::EINVAL | libc::ENOSYS | libc::EOPNOTSUPP)
            ) =>
        {
            Ok(())
        }
        other => other,
    }
}

/// Whether one sync of the whole file system costs one commit of a journal. Asked of the
/// kernel once for each device.
fn has_journal(device: u64) -> bool {
    static KNOWN: Mutex<Option<HashMap<u64, bool>>> = Mutex::new(None);
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    *known.get_or_insert_default().entry(device).or_insert_with(|| ask_journal(device))
}

fn ask_journal(device: u64) -> bool {
    let (major, minor) = (libc::major(device), libc::minor(device));
    let Ok(mounts) = std::fs::read_to_string("/proc/self/mountinfo") else { return false };
    let numbers = format!("{major}:{minor}");
    for line in mounts.lines() {
        let Some((before, after)) = line.split_once(" - ") else { continue };
        if before.split(' ').nth(2) != Some(numbers.as_str()) {
            continue;
        }
        let mut words = after.split(' ');
        let (kind, source) = (words.next().unwrap_or(""), words.next().unwrap_or(""));
        return match kind {
            "xfs" | "btrfs" => true,
            "ext4" | "ext3" => {
                let name = source.rsplit('/').next().unwrap_or("");
                let is_its = |entry: std::fs::DirEntry| {
                    let journal = entry.file_name();
                    let journal = journal.to_string_lossy();
                    journal.rsplit_once('-').is_some_and(|(of, _)| of == name)
                };
                std::fs::read_dir("/proc/fs/jbd2").is_ok_and(|all| all.flatten().any(is_its))
            }
            _ => false,
        };
    }
    false
}

/// How long the kernel may keep written bytes in memory: what was last changed longer
/// ago is on its disk.
pub(crate) fn write_back_time() -> Duration {
    static TIME: OnceLock<Duration> = OnceLock::new();
    *TIME.get_or_init(ask_write_back_time)
}

fn ask_write_back_time() -> Duration {
    let centiseconds = |name: &str, otherwise: u64| {
        std::fs::read_to_string(format!("/proc/sys/vm/{name}"))
            .ok()
            .and_then(|text| text.trim().parse::<u64>().ok())
            .unwrap_or(otherwise)
    };
    let sum = centiseconds("dirty_expire_centisecs", 3000)
        + centiseconds("dirty_writeback_centisecs", 500);
    // A busy disk is behind; the double and a minute are given to it.
    Duration::from_millis(sum * 10 * 2) + Duration::from_secs(60)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_several_devices_are_made_durable_together() {
        let mut homes = vec![tempfile::tempdir().unwrap()];
        homes.extend(tempfile::tempdir_in("/dev/shm"));
        let mut files = Vec::new();
        for home in &homes {
            for number in 0..MANY + 2 {
                let path = home.path().join(format!("{number}.csv"));
                std::fs::write(&path, "rows").unwrap();
                files.push(File::open(path).unwrap());
            }
        }
        let mut unsynced = Unsynced::of_sources();
        for (number, file) in files.into_iter().enumerate() {
            start_writing(&file);
            unsynced.add(number, file);
        }
        assert!(unsynced.finish().is_empty());
    }
}
