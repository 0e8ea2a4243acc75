//! Checkpoints: what stands in the write-ahead log goes into the database.
//!
//! A thread of its own does it, beside the commits, so that none of them waits while
//! thousands of pages are written all over a large file and synced. Commits go on meanwhile,
//! behind what is copied; once little is left the writing thread copies that between two
//! transactions, and the log begins anew.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};
use std::sync::mpsc::{self, Receiver, SyncSender};
use std::thread::JoinHandle;

use rusqlite::Connection;
use rusqlite::hooks::Wal;

use crate::ledger::error::LedgerError;
use crate::ledger::schema::{self, opening};

/// Pages of 4 KiB in the log at which they are copied. With more of them there would be less
/// to write, and longer times in which the disk is busy with that while a commit is synced.
const MANY: i32 = 1000;

/// Pages that the writing thread copies itself, in a few milliseconds.
const FEW: i32 = 250;

/// Pages beyond which commits are quicker than the thread, and have to wait for the copy.
const FAR: i32 = 16_000;

/// How far a checkpoint came.
struct Done {
    /// Pages in the log.
    pages: i32,
    /// Of them not in the database yet.
    left: i32,
}

/// Copies what it can without anybody waiting. Where it cannot nothing is lost, and it is
/// tried again behind the next commits, but somebody must know.
fn checkpoint(connection: &Connection) -> Option<Done> {
    let done = connection.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |row| {
        let (pages, copied): (i32, i32) = (row.get(1)?, row.get(2)?);
        Ok(Done { pages, left: pages - copied })
    });
    match done {
        Ok(done) => {
            tracing::debug!(pages = done.pages, left = done.left, "checkpoint");
            Some(done)
        }
        Err(error) => {
            tracing::warn!(%error, "the log of the ledger cannot be copied into it, and grows");
            None
        }
    }
}

/// What the thread has seen.
#[derive(Default)]
struct Seen {
    /// Little is left.
    nearly: AtomicBool,
    /// A reader needs the database as it was: nobody can copy what came later.
    needed: AtomicBool,
}

/// The thread that copies, as the writing thread has it.
pub(crate) struct Checkpoints {
    wake: Option<SyncSender<()>>,
    thread: Option<JoinHandle<()>>,
    seen: Arc<Seen>,
    /// Pages in the log after the last commit.
    pages: Arc<AtomicI32>,
    /// Pages in the log when the thread was woken last.
    asked_at: i32,
}

impl Checkpoints {
    /// Begins, for the writing connection of a ledger, whose own checkpoints end.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn start(writer: &mut Connection, file: &Path) -> Result<Self, LedgerError> {
        let pages = Arc::new(AtomicI32::new(0));
        let counted = Arc::clone(&pages);
        let count = move |_: &mut Wal, pages| {
            counted.store(pages, Ordering::Relaxed);
            Ok(())
        };
        writer.wal_hook(Some(count)).map_err(opening)?;
        let connection = schema::open_beside(file).map_err(opening)?;
        let (wake, woken) = mpsc::sync_channel(1);
        let seen = Arc::new(Seen::default());
        let told = Arc::clone(&seen);
        let thread = std::thread::Builder::new()
            .name("ledger-log".into())
            .spawn(move || copy_when_woken(&connection, &woken, &told))
            .map_err(|source| LedgerError::Folder { folder: file.to_owned(), source })?;
        Ok(Checkpoints { wake: Some(wake), thread: Some(thread), seen, pages, asked_at: 0 })
    }

    /// Is told that a transaction has ended, and no other has begun.
    pub fn between(&mut self, connection: &Connection) {
        let pages = self.pages.load(Ordering::Relaxed);
        if self.seen.nearly.swap(false, Ordering::Acquire) {
            checkpoint(connection);
        }
        if pages < self.asked_at {
            // The log has begun anew.
            self.asked_at = 0;
        }
        if pages - self.asked_at < MANY {
            return;
        }
        self.asked_at = pages;
        let woken = self.wake.as_ref().is_some_and(|wake| match wake.try_send(()) {
            Ok(()) | Err(mpsc::TrySendError::Full(())) => true,
            Err(mpsc::TrySendError::Disconnected(())) => false,
        });
        if !woken || pages > FAR && !self.seen.needed.load(Ordering::Acquire) {
            checkpoint(connection);
        }
    }
}

impl Drop for Checkpoints {
    fn drop(&mut self) {
        drop(self.wake.take());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn copy_when_woken(connection: &Connection, woken: &Receiver<()>, seen: &Seen) {
    let mut copied = 0;
    while woken.recv().is_ok() {
        let mut before = i32::MAX;
        while let Some(Done { pages, left }) = checkpoint(connection) {
            seen.needed.store(left > FEW && pages - left == copied, Ordering::Release);
            seen.nearly.store((1..=FEW).contains(&left), Ordering::Release);
            copied = pages - left;
            // What was written meanwhile is less each time, unless a reader needs the
            // database as it was, or commits are quicker.
            if left <= FEW || left >= before / 2 {
                break;
            }
            before = left;
        }
    }
}
