//! Files that are staged: hidden, and nobody's to see, until they are committed.

use std::fs::{File, Permissions};
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;
use std::sync::OnceLock;
use std::time::SystemTime;

use crate::fault::at;
use crate::files::at::At;
use crate::files::sha256::Sum;
use crate::files::version::Version;
use crate::ledger::requests::MadeOutput;

/// A file that is being staged.
pub(crate) struct Staging {
    file: File,
    /// None where nobody asks for it.
    sum: Option<Sum>,
    bytes: u64,
    /// Permissions that it has in the end.
    mode: u32,
}

impl Staging {
    /// Begins an empty staged file, which nobody else may read before it is finished:
    /// then it has `mode`.
    pub fn create(place: &At, summed: bool, mode: u32) -> io::Result<Self> {
        at("stage.create")?;
        let sum = summed.then(Sum::new);
        let file = match place.create_new(0o600) {
            // One that was left there has permissions of its own.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                place.remove().and_then(|()| place.create_new(0o600))?
            }
            created => created?,
        };
        Ok(Staging { file, sum, bytes: 0, mode })
    }

    /// Makes it durable.
    pub fn finish(self, rows: u64, account: Option<String>) -> io::Result<MadeOutput> {
        let (made, file) = self.end(None)?;
        at("stage.sync").and_then(|()| file.sync_all())?;
        at("stage.synced")?;
        Ok(MadeOutput { rows, account, ..made })
    }

    /// Gives it its permissions, and its time: that of what it is a copy of, or the present.
    /// It is durable once the file is synced, which is the caller's to do.
    pub fn end(self, modified: Option<SystemTime>) -> io::Result<(MadeOutput, File)> {
        self.file.set_permissions(Permissions::from_mode(self.mode))?;
        // To the nanosecond, where the file system counts in ticks: by this it is told from
        // whatever gets its inode after it.
        self.file.set_modified(modified.unwrap_or_else(SystemTime::now))?;
        let Version { inode, modified_ns, .. } = Version::of(&self.file.metadata()?);
        let sha256 = self.sum.map(|sum| sum.finish()).unwrap_or_default();
        let bytes = self.bytes;
        Ok((MadeOutput { inode, modified_ns, bytes, sha256, rows: 0, account: None }, self.file))
    }
}

impl Write for Staging {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        crate::fault::write("stage.write", bytes, |bytes| self.file.write_all(bytes))?;
        if let Some(sum) = &mut self.sum {
            sum.update(bytes);
        }
        self.bytes += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// What this process gives a new file.
pub(crate) fn default_mode() -> u32 {
    static UMASK: OnceLock<u32> = OnceLock::new();
    let umask = UMASK.get_or_init(|| {
        // Asking by setting it would be seen by other threads; the kernel tells it too.
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("Umask:"));
        line.and_then(|mask| u32::from_str_radix(mask.trim(), 8).ok()).unwrap_or(0o022)
    });
    0o666 & !umask
}

/// Stages a small text, such as an account.
pub(crate) fn stage_text(staged: &At, text: &str, mode: u32) -> io::Result<MadeOutput> {
    let mut staging = Staging::create(staged, true, mode)?;
    staging.write_all(text.as_bytes())?;
    staging.finish(0, None)
}
