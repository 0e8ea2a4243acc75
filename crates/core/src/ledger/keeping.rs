//! Keeping the ledger: backup while it is in use, putting a backup back, seeing
//! damage, trimming what is old.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use rusqlite::backup::{Backup, StepResult};
use rusqlite::{Connection, OpenFlags};

use crate::files::roots::Reach;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::state::State;
use crate::ledger::writer::Tx;
use crate::ledger::{FILE_NAME, Ledger, schema};

/// Pages that are copied before others have their turn.
const PIECE: i32 = 2000;

/// Entries that are trimmed in one transaction.
const TRIM: usize = 2000;

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
                // One monotonic_now state is copied, whatever is written meanwhile.
                reader
                    .execute_batch("BEGIN; SELECT tag FROM ledger")
                    .map_err(failed("backed up"))?;
                let snapshot = Snapshot(reader);
                let mut target = Connection::open(&staged).map_err(failed("backed up"))?;
                {
                    let backup = Backup::new(reader, &mut target).map_err(failed("backed up"))?;
                    loop {
                        let step = backup.step(PIECE).map_err(failed("backed up"))?;
                        let pages = backup.progress();
                        let all = u64::try_from(pages.pagecount).unwrap_or(0);
                        let left = u64::try_from(pages.remaining).unwrap_or(0);
                        progress(all.saturating_sub(left), all);
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

    /// Forgets the details of entries whose life ended before `before` and whose file
    /// lies in no drop folder; their identities are kept, so that none is worked
    /// again. `progress` is told how many are done. Gives how many there were.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn trim(
        &self,
        before: Timestamp,
        mut progress: impl FnMut(u64),
    ) -> Result<u64, LedgerError> {
        let before = before.as_millisecond();
        let mut trimmed = 0;
        loop {
            let count = self.submit(move |tx| trim_piece(tx, before))?.wait()?;
            trimmed += count as u64;
            progress(trimmed);
            if count < TRIM {
                break;
            }
        }
        self.submit(move |tx| {
            tx.connection
                .execute_batch(&format!(
                    "DELETE FROM batch WHERE begun_at < {before} AND ended_at IS NOT NULL
                       AND NOT EXISTS (SELECT 1 FROM part WHERE part.batch = batch.id)
                       AND NOT EXISTS (SELECT 1 FROM entry WHERE entry.batch = batch.id
                                         AND entry.state = 'working');
                     DELETE FROM output WHERE published_at IS NOT NULL
                       AND NOT EXISTS (SELECT 1 FROM batch WHERE batch.id = output.batch);"
                ))
                .map_err(writing)
        })?
        .wait()?;
        Ok(trimmed)
    }

    /// How many entries [`Ledger::trim`] would trim.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn would_trim(&self, before: Timestamp) -> Result<u64, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(&format!("SELECT COUNT(*) FROM entry WHERE {TRIMMED}"))
                .and_then(|mut select| {
                    select.query_row([before.as_millisecond()], |row| row.get::<_, i64>(0))
                })
                .map(i64::cast_unsigned)
                .map_err(super::reading)
        })
    }
}

/// Which entries are trimmed. The first of waiting repeats is not among them.
pub(crate) const TRIMMED: &str = "COALESCE(filed_at, ready_at) < ?1 AND in_drop = 0
    AND state IN ('filed', 'gone', 'passed over', 'adopted')
    AND NOT EXISTS (SELECT 1 FROM entry heir WHERE heir.repeat_of = entry.id
                      AND heir.state = 'repeat')";

fn trim_piece(tx: &mut Tx<'_>, before: i64) -> Result<usize, LedgerError> {
    let found = || -> rusqlite::Result<Vec<(i64, String, String)>> {
        let mut select = tx.connection.prepare_cached(&format!(
            "SELECT id, gate, state FROM entry WHERE {TRIMMED} ORDER BY id LIMIT {TRIM}"
        ))?;
        select.query_map([before], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
    };
    let found = found().map_err(writing)?;
    for (entry, gate, state) in &found {
        let trim = || -> rusqlite::Result<()> {
            tx.connection
                .prepare_cached(
                    "INSERT OR REPLACE INTO kept (space, identity, entry, at)
                     SELECT space, identity, id, COALESCE(worked_at, ready_at) FROM entry
                     WHERE id = ? AND identity IS NOT NULL",
                )?
                .execute([entry])?;
            for sql in [
                "DELETE FROM history WHERE entry = ?",
                "DELETE FROM part WHERE entry = ?",
                "DELETE FROM entry WHERE id = ?",
            ] {
                tx.connection.prepare_cached(sql)?.execute([entry])?;
            }
            Ok(())
        };
        trim().map_err(writing)?;
        if let Some(state) = State::of(state) {
            tx.uncount(gate, state);
        }
    }
    Ok(found.len())
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
