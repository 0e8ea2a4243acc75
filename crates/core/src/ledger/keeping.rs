//! Keeping the ledger: backup while it is in use, and putting a backup back.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use rusqlite::backup::{Backup, StepResult};
use rusqlite::{Connection, OpenFlags};

use crate::files::roots::Reach;
use crate::ledger::error::LedgerError;
use crate::ledger::{FILE_NAME, Ledger, schema};

/// Pages that are copied before others have their turn.
const PIECE: i32 = 2000;

fn failed(doing: &'static str) -> impl Fn(rusqlite::Error) -> LedgerError {
    move |source| LedgerError::Sqlite { doing, source: Arc::new(source) }
}

fn folder_fault(folder: &Path) -> impl Fn(std::io::Error) -> LedgerError + '_ {
    move |source| LedgerError::Folder { folder: folder.to_owned(), source }
}

/// A reading transaction, which ends with it.
struct Snapshot<'c>(&'c Connection);

impl Drop for Snapshot<'_> {
    fn drop(&mut self) {
        // It only read: there is nothing that could fail to be kept.
        let _ = self.0.execute_batch("COMMIT");
    }
}

impl Ledger {
    /// Copies the ledger to `to` while it is in use, and sees that the copy is
    /// sound; `progress` is told how many pages of how many are done.
    ///
    /// # Errors
    /// [`LedgerError`]; nothing is left at `to` then.
    pub fn back_up(
        &self,
        to: &Path,
        mut progress: impl FnMut(u64, u64),
    ) -> Result<(), LedgerError> {
        let folder = to.parent().unwrap_or(Path::new("."));
        let staged = to.with_file_name(format!(
            ".{}.under-way",
            to.file_name().unwrap_or_default().to_string_lossy()
        ));
        let mut copy = || -> Result<(), LedgerError> {
            self.read(|reader| {
                // One steady state is copied, whatever is written meanwhile.
                reader
                    .execute_batch("BEGIN; SELECT tag FROM ledger")
                    .map_err(failed("backed up"))?;
                let snapshot = Snapshot(reader);
                let mut target = Connection::open(&staged).map_err(failed("backed up"))?;
                let written = std::fs::File::open(&staged).map_err(folder_fault(folder))?;
                {
                    let backup = Backup::new(reader, &mut target).map_err(failed("backed up"))?;
                    loop {
                        let step = backup.step(PIECE).map_err(failed("backed up"))?;
                        let pages = backup.progress();
                        let all = u64::try_from(pages.pagecount).unwrap_or(0);
                        let left = u64::try_from(pages.remaining).unwrap_or(0);
                        progress(all.saturating_sub(left), all);
                        // All at the end would keep the disk from the ledger for long.
                        written.sync_data().map_err(folder_fault(folder))?;
                        match step {
                            StepResult::Done => break,
                            StepResult::More => {}
                            // The writer has its turn.
                            _ => std::thread::sleep(Duration::from_millis(5)),
                        }
                    }
                }
                drop(snapshot);
                // One file, without a log beside it.
                target
                    .pragma_update(None, "journal_mode", "DELETE")
                    .map_err(failed("backed up"))?;
                schema::refuse_damaged(&target, &staged)
            })?;
            let place = || -> std::io::Result<()> {
                std::fs::File::open(&staged)?.sync_all()?;
                let at = |path: &Path| Reach::anywhere().at(&std::path::absolute(path)?);
                let to = at(to)?;
                at(&staged)?.rename_over_nothing(&to)?;
                to.folder().sync()
            };
            place().map_err(folder_fault(folder))
        };
        let copied = copy();
        if copied.is_err() {
            // A half copy is worth nothing.
            let _ = std::fs::remove_file(&staged);
        }
        copied
    }
}

/// Puts a backup in the place of the ledger of a state folder, whose lock the caller
/// holds. What was there is moved aside; gives where.
///
/// # Errors
/// [`LedgerError`]; the ledger is as it was then.
pub fn restore(state: &Path, from: &Path) -> Result<Option<PathBuf>, LedgerError> {
    let file = state.join(FILE_NAME);
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    {
        let backup = Connection::open_with_flags(from, flags).map_err(failed("opened"))?;
        schema::refuse_damaged(&backup, from)?;
        schema::refuse_newer(&backup, from)?;
        schema::refuse_foreign(&backup, from)?;
    }
    let staged = state.join(".ledger.restored");
    std::fs::copy(from, &staged)
        .and_then(|_| std::fs::File::open(&staged)?.sync_all())
        .map_err(folder_fault(state))?;
    let mut aside = None;
    if file.try_exists().map_err(folder_fault(state))? {
        let now = Timestamp::now().strftime("%Y%m%dT%H%M%SZ").to_string();
        let place = state.join(format!("ledger.before-{now}.db"));
        // With its log, without which it would not be whole.
        for ending in ["", "-wal", "-shm"] {
            let (old, new) = (with_ending(&file, ending), with_ending(&place, ending));
            match std::fs::rename(&old, &new) {
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                other => other.map_err(folder_fault(state))?,
            }
        }
        aside = Some(place);
    }
    std::fs::rename(&staged, &file)
        .and_then(|()| std::fs::File::open(state)?.sync_all())
        .map_err(folder_fault(state))?;
    Ok(aside)
}

fn with_ending(path: &Path, ending: &str) -> PathBuf {
    let mut path = path.as_os_str().to_owned();
    path.push(ending);
    PathBuf::from(path)
}
