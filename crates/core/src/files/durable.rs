//! Bringing the bytes of files onto the disk.
//!
//! Whoever dropped a file may not have synced it: its bytes are then in memory alone,
//! and a power cut leaves an empty file under its name. So before an entry is recorded,
//! on which outputs and the archive will rest, its bytes are made durable. How that is
//! done best depends on the file system: with a journal one `syncfs` for many files costs
//! one commit instead of one for each; without one it costs one flush of the disk instead of
//! one for each, but waits for whatever else is to be written there. Where that is much the
//! writing of all is started, and each is waited for.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::fs::MetadataExt;
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

/// More files than these are synced by one call for the whole file system, where that is
/// the better way.
const MANY: usize = 8;

/// Files from so many bytes on are written while others are read.
const LARGE: u64 = 1 << 20;

/// With so many bytes of everybody's in memory a file system without a journal is not synced
/// as a whole.
const MUCH: u64 = 64 << 20;

/// A sync of such a file system is slow when it takes longer for each file, and so much
/// besides. Then each file is waited for, for a while.
const SLOW_EACH: Duration = Duration::from_micros(300);
const SLOW_AT_LEAST: Duration = Duration::from_millis(50);
const SLOW_FOR: Duration = Duration::from_secs(60);

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

/// Has the kernel begin to write the bytes of a large file, without waiting for it.
pub(crate) fn start_writing(file: &File, bytes: u64) {
    if bytes >= LARGE {
        begin_writing(file);
    }
}

fn begin_writing(file: &File) {
    // SAFETY: a plain system call on an open descriptor; length 0 means to the end.
    unsafe { libc::sync_file_range(file.as_raw_fd(), 0, 0, libc::SYNC_FILE_RANGE_WRITE) };
    // That it could not begin is seen when the bytes are waited for.
}

/// The first files of a device, and the numbers of all.
type Together = (Vec<File>, Vec<usize>);

/// Files whose bytes are to be made durable together, by numbers of the caller's.
pub(crate) struct Unsynced {
    /// The point of the protocol that is passed at each sync.
    point: &'static str,
    /// Whether what is known of a file is made durable with its bytes.
    whole: bool,
    /// Files that are synced one by one.
    each: Vec<(usize, File)>,
    /// By their device, those of file systems that are synced as a whole; none where each file
    /// is.
    together: HashMap<u64, Option<Together>>,
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
        let (each, together, failed) = (Vec::new(), HashMap::new(), Vec::new());
        Unsynced { point, whole, each, together, failed }
    }

    /// Adds a file.
    pub fn add(&mut self, number: usize, file: File) {
        let meta = match file.metadata() {
            Ok(meta) => meta,
            Err(error) => return self.failed.push((number, error)),
        };
        let device = meta.dev();
        let first = || syncs_together(device).then(Default::default);
        if let Some((files, numbers)) = self.together.entry(device).or_insert_with(first) {
            start_writing(&file, meta.len());
            if files.len() <= MANY {
                files.push(file);
            }
            return numbers.push(number);
        }
        begin_writing(&file);
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
        for (device, pending) in std::mem::take(&mut self.together) {
            let Some((files, numbers)) = pending else { continue };
            if numbers.len() <= MANY {
                if files.len() > 1 {
                    files.iter().for_each(begin_writing);
                }
                self.each.extend(numbers.into_iter().zip(files));
                continue;
            }
            let begun = Instant::now();
            let whole = files.first().map_or(Ok(()), |first| {
                crate::fault::at(self.point)?;
                synced(rustix::fs::syncfs(first).map_err(io::Error::from))?;
                // Without a journal the disk is told to empty its cache before the last blocks
                // are waited for: the sync of one file has it done once more.
                match journal(device) {
                    Journal::None => synced(first.sync_data()),
                    _ => Ok(()),
                }
            });
            note_time(device, begun.elapsed(), numbers.len());
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

/// What a sync of a whole file system costs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Journal {
    /// One commit of its journal.
    There,
    /// A flush of its disk, after whatever is to be written there.
    None,
    /// That is not known.
    Unknown,
}

/// Whether many files of a device are made durable best by one sync of the whole.
fn syncs_together(device: u64) -> bool {
    match journal(device) {
        Journal::There => true,
        Journal::None => !is_slow(device) && to_be_written().is_some_and(|bytes| bytes < MUCH),
        Journal::Unknown => false,
    }
}

/// Devices of which a sync as a whole was slow, and when.
static SLOW: Mutex<Vec<(u64, Instant)>> = Mutex::new(Vec::new());

fn is_slow(device: u64) -> bool {
    let slow = SLOW.lock().unwrap_or_else(PoisonError::into_inner);
    slow.iter().any(|(known, when)| *known == device && when.elapsed() < SLOW_FOR)
}

/// Takes note of how long a sync of the whole has taken for so many files.
fn note_time(device: u64, took: Duration, files: usize) {
    let files = u32::try_from(files).unwrap_or(u32::MAX);
    if took > SLOW_AT_LEAST + SLOW_EACH.saturating_mul(files) {
        let mut slow = SLOW.lock().unwrap_or_else(PoisonError::into_inner);
        slow.retain(|(known, _)| *known != device);
        slow.push((device, Instant::now()));
    }
}

/// Bytes that anybody has written and that are in memory alone; none where the kernel does
/// not tell it.
fn to_be_written() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix("Dirty:"))?;
    Some(line.trim().strip_suffix(" kB")?.parse::<u64>().ok()? * 1024)
}

/// Asked of the kernel once for each device.
fn journal(device: u64) -> Journal {
    static KNOWN: Mutex<Option<HashMap<u64, Journal>>> = Mutex::new(None);
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    *known.get_or_insert_default().entry(device).or_insert_with(|| ask_journal(device))
}

fn ask_journal(device: u64) -> Journal {
    let (major, minor) = (libc::major(device), libc::minor(device));
    let Ok(mounts) = std::fs::read_to_string("/proc/self/mountinfo") else {
        return Journal::Unknown;
    };
    let numbers = format!("{major}:{minor}");
    for line in mounts.lines() {
        let Some((before, after)) = line.split_once(" - ") else { continue };
        if before.split(' ').nth(2) != Some(numbers.as_str()) {
            continue;
        }
        let mut words = after.split(' ');
        let (kind, source) = (words.next().unwrap_or(""), words.next().unwrap_or(""));
        return match kind {
            "xfs" | "btrfs" => Journal::There,
            "ext4" | "ext3" => {
                let name = source.rsplit('/').next().unwrap_or("");
                let is_its = |entry: std::fs::DirEntry| {
                    let journal = entry.file_name();
                    let journal = journal.to_string_lossy();
                    journal.rsplit_once('-').is_some_and(|(of, _)| of == name)
                };
                let journals = std::fs::read_dir("/proc/fs/jbd2");
                match journals.is_ok_and(|all| all.flatten().any(is_its)) {
                    true => Journal::There,
                    false => Journal::None,
                }
            }
            _ => Journal::Unknown,
        };
    }
    Journal::Unknown
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
            unsynced.add(number, file);
        }
        assert!(unsynced.finish().is_empty());
    }
}
