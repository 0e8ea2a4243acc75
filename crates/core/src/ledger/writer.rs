//! The one writing thread and its group commit.
//!
//! Jobs come through a channel. All that wait are run in one transaction, each but
//! the first in a savepoint of its own, so that a job that fails takes nothing with
//! it but its own changes; one that changes many rows begins another transaction.
//! After the commit every caller is answered.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::mpsc::{self, Receiver, SyncSender};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use jiff::Timestamp;
use rusqlite::{Connection, Params, Row, params};

use crate::ledger::checkpoints::Checkpoints;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::ids::{ChangeId, EntryId};
use crate::ledger::state::{Cause, State};

/// Told after each commit: the number of the newest change.
pub type Listener = Box<dyn Fn(ChangeId) + Send>;

/// Jobs in one transaction at the most, so that no caller waits for long.
const GROUP: usize = 256;

/// Milliseconds of a slot of the activity table.
pub(crate) const SLOT_MS: i64 = 300_000;

/// Answers one caller: `Ok` once its group is durable.
type Answer = Box<dyn FnOnce(Result<(), LedgerError>) + Send>;
type Work = Box<dyn FnOnce(Result<&mut Tx<'_>, LedgerError>) -> Option<Answer> + Send>;

/// A write that waits for its turn.
struct Job {
    work: Work,
    /// It begins a transaction.
    begins: bool,
}

/// A job of more rows begins a transaction: what begins one needs no savepoint, and a
/// savepoint has a copy kept in memory of each page that is changed.
const MANY_ROWS: usize = 64;

/// A write that is under way.
pub(crate) struct Ticket<T>(Receiver<Result<T, LedgerError>>);

impl<T> Ticket<T> {
    /// Waits until the write is durable.
    pub fn wait(self) -> Result<T, LedgerError> {
        self.0.recv().unwrap_or(Err(LedgerError::Closed))
    }
}

pub(crate) struct Writer {
    jobs: Option<SyncSender<Job>>,
    thread: Option<JoinHandle<()>>,
    listeners: Arc<Mutex<Vec<Listener>>>,
}

impl Writer {
    pub fn start(mut connection: Connection, file: &Path) -> Result<Self, LedgerError> {
        let checkpoints = Checkpoints::start(&mut connection, file)?;
        let (jobs, queue) = mpsc::sync_channel::<Job>(GROUP);
        let listeners: Arc<Mutex<Vec<Listener>>> = Arc::default();
        let to_tell = Arc::clone(&listeners);
        let thread = std::thread::Builder::new()
            .name("ledger".into())
            .spawn(move || write_all(&connection, &queue, &to_tell, checkpoints))
            .map_err(|source| LedgerError::Folder { folder: "/".into(), source })?;
        Ok(Writer { jobs: Some(jobs), thread: Some(thread), listeners })
    }

    pub fn listen(&self, listener: Listener) {
        self.listeners.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).push(listener);
    }

    pub fn submit<T: Send + 'static>(
        &self,
        rows: usize,
        work: impl FnOnce(&mut Tx<'_>) -> Result<T, LedgerError> + Send + 'static,
    ) -> Ticket<T> {
        let (reply, ticket) = mpsc::sync_channel(1);
        let work: Work = Box::new(move |tx| match tx.and_then(|tx| tx.apart(work)) {
            Ok(value) => Some(Box::new(move |committed: Result<(), LedgerError>| {
                // A caller that no longer waits is no fault.
                let _ = reply.send(committed.map(|()| value));
            })),
            Err(error) => {
                let _ = reply.send(Err(error));
                None
            }
        });
        if let Some(jobs) = &self.jobs {
            // If the thread is gone the job is dropped, and with it the reply:
            // the ticket then says that the ledger is closed.
            let _ = jobs.send(Job { work, begins: rows > MANY_ROWS });
        }
        Ticket(ticket)
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        drop(self.jobs.take());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn write_all(
    connection: &Connection,
    queue: &Receiver<Job>,
    listeners: &Mutex<Vec<Listener>>,
    mut checkpoints: Checkpoints,
) {
    let mut waits: Option<Job> = None;
    while let Some(Job { work: first, .. }) = waits.take().or_else(|| queue.recv().ok()) {
        let mut answers: Vec<Answer> = Vec::new();
        if let Err(error) = connection.execute_batch("BEGIN IMMEDIATE") {
            first(Err(writing(error)));
            continue;
        }
        let mut tx = Tx::new(connection);
        let mut count = 0;
        let mut next = Some(first);
        while let Some(work) = next {
            answers.extend(work(Ok(&mut tx)));
            count += 1;
            let go_on = count < GROUP && !connection.is_autocommit();
            next = match if go_on { queue.try_recv().ok() } else { None } {
                Some(job) if job.begins => {
                    waits = Some(job);
                    None
                }
                job => job.map(|job| job.work),
            };
        }
        let newest = tx.newest_change;
        let committed = in_transaction(connection)
            .and_then(|()| tx.write_tallies())
            .and_then(|()| fault("ledger.commit"))
            .and_then(|()| connection.execute_batch("COMMIT").map_err(writing));
        match committed {
            Ok(()) => {
                // A kill between the commit and the answer; it is too late to fail.
                let _ = fault("ledger.committed");
                answers.into_iter().for_each(|answer| answer(Ok(())));
                if let Some(newest) = newest {
                    let listeners = listeners.lock().unwrap_or_else(|p| p.into_inner());
                    listeners.iter().for_each(|listener| listener(newest));
                }
                checkpoints.between(connection);
            }
            Err(error) => {
                let _ = connection.execute_batch("ROLLBACK");
                // The log may be what fills the disk: what it holds goes into the
                // database, and its room is given back.
                let _ = connection.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)");
                answers.into_iter().for_each(|answer| answer(Err(error.again())));
            }
        }
    }
}

/// After some errors (a full disk, say) SQLite rolls back the whole transaction by
/// itself. Whatever was written after that would be kept at once and reported as failed.
fn in_transaction(connection: &Connection) -> Result<(), LedgerError> {
    if connection.is_autocommit() {
        let code = rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_ABORT_ROLLBACK);
        let why = "a write beside it failed, and all were rolled back".to_owned();
        return Err(writing(rusqlite::Error::SqliteFailure(code, Some(why))));
    }
    Ok(())
}

/// A fault that a test has injected, as SQLite would tell it.
fn fault(point: &'static str) -> Result<(), LedgerError> {
    crate::fault::at(point).map_err(|error| {
        let full = error.raw_os_error() == Some(libc::ENOSPC);
        let code = if full { rusqlite::ffi::SQLITE_FULL } else { rusqlite::ffi::SQLITE_IOERR };
        writing(rusqlite::Error::SqliteFailure(rusqlite::ffi::Error::new(code), None))
    })
}

/// Counts by gate and something else. There are few of them, and each entry adds
/// to several: a look through the list is quicker than a table of owned keys.
struct Counts<K>(Vec<(String, K, i64)>);

impl<K> Default for Counts<K> {
    fn default() -> Self {
        Counts(Vec::new())
    }
}

impl<K: PartialEq> Counts<K> {
    fn add(&mut self, gate: &str, key: K, by: i64) {
        match self.0.iter_mut().find(|(known, other, _)| *other == key && known == gate) {
            Some((_, _, count)) => *count += by,
            None => self.0.push((gate.to_owned(), key, by)),
        }
    }
}

/// The transaction that a job works in.
pub(crate) struct Tx<'c> {
    pub(crate) connection: &'c Connection,
    pub(crate) now: i64,
    tallies: Counts<State>,
    activity: Counts<&'static str>,
    spaces: BTreeSet<String>,
    /// The person for whom it is done.
    pub(crate) who: Option<String>,
    /// The first and last entry that were entered, by slot.
    spans: BTreeMap<i64, (EntryId, EntryId)>,
    newest_change: Option<ChangeId>,
    /// Nothing has been done in it.
    fresh: bool,
}

impl<'c> Tx<'c> {
    fn new(connection: &'c Connection) -> Self {
        Tx {
            fresh: true,
            connection,
            now: Timestamp::now().as_millisecond(),
            tallies: Counts::default(),
            activity: Counts::default(),
            spaces: BTreeSet::new(),
            who: None,
            spans: BTreeMap::new(),
            newest_change: None,
        }
    }

    /// Runs a statement, which the connection keeps prepared; gives how many rows it
    /// changed.
    pub(crate) fn run(&self, sql: &str, values: impl Params) -> rusqlite::Result<usize> {
        self.connection.prepare_cached(sql)?.execute(values)
    }

    /// The row that a statement gives, which the connection keeps prepared.
    pub(crate) fn one<T>(
        &self,
        sql: &str,
        values: impl Params,
        read: impl FnOnce(&Row<'_>) -> rusqlite::Result<T>,
    ) -> rusqlite::Result<T> {
        self.connection.prepare_cached(sql)?.query_row(values, read)
    }

    /// Says something that takes nothing and gives nothing, which the connection keeps
    /// prepared.
    fn say(&self, sql: &'static str) -> Result<(), LedgerError> {
        self.run(sql, []).map(drop).map_err(writing)
    }

    /// Does a job so that nothing is left of it when it fails.
    fn apart<T>(
        &mut self,
        work: impl FnOnce(&mut Tx<'_>) -> Result<T, LedgerError>,
    ) -> Result<T, LedgerError> {
        // Most jobs are alone: they need no savepoint, which has a copy made of each page
        // before it is changed. The whole transaction goes back instead.
        let first = std::mem::replace(&mut self.fresh, false);
        if !first {
            self.say("SAVEPOINT job")?;
        }
        let mut inner = Tx::new(self.connection);
        match work(&mut inner) {
            Ok(value) => {
                if !first {
                    self.say("RELEASE job")?;
                }
                self.take_over(inner);
                Ok(value)
            }
            Err(error) => {
                if !self.connection.is_autocommit() {
                    let back = if first {
                        "ROLLBACK; BEGIN IMMEDIATE"
                    } else {
                        "ROLLBACK TO job; RELEASE job"
                    };
                    self.connection.execute_batch(back).map_err(writing)?;
                }
                Err(error)
            }
        }
    }

    /// Counts what a job has counted.
    fn take_over(&mut self, inner: Tx<'_>) {
        for (gate, state, count) in inner.tallies.0 {
            self.tallies.add(&gate, state, count);
        }
        for (gate, kind, count) in inner.activity.0 {
            self.activity.add(&gate, kind, count);
        }
        self.spaces.extend(inner.spaces);
        for (slot, (first, last)) in inner.spans {
            self.spans.entry(slot).or_insert((first, last)).1 = last;
        }
        self.newest_change = inner.newest_change.or(self.newest_change);
    }

    /// Counts an entry that comes to `to`, and no longer is `from`.
    pub(crate) fn count(&mut self, gate: &str, from: Option<State>, to: State) {
        if let Some(from) = from {
            self.tallies.add(gate, from, -1);
        }
        self.tallies.add(gate, to, 1);
        match to {
            State::Filed => self.happened(gate, "filed"),
            State::Held => self.happened(gate, "held"),
            State::Repeat => self.happened(gate, "repeat"),
            _ => {}
        }
    }

    /// Counts an entry that is no more.
    pub(crate) fn uncount(&mut self, gate: &str, was: State) {
        self.tallies.add(gate, was, -1);
    }

    pub(crate) fn happened(&mut self, gate: &str, kind: &'static str) {
        self.activity.add(gate, kind, 1);
    }

    /// Takes note of an identity space that is used.
    pub(crate) fn uses_space(&mut self, space: &str) {
        if !self.spaces.contains(space) {
            self.spaces.insert(space.to_owned());
        }
    }

    /// Takes note of an entry that was entered: numbers only grow.
    pub(crate) fn entered(&mut self, entry: EntryId) {
        let slot = self.now.div_euclid(SLOT_MS);
        self.spans.entry(slot).or_insert((entry, entry)).1 = entry;
    }

    /// Writes a line of history.
    pub(crate) fn tell(
        &mut self,
        entry: EntryId,
        gate: &str,
        state: State,
        cause: Cause,
        words: &str,
    ) -> Result<(), LedgerError> {
        self.connection
            .prepare_cached(
                "INSERT INTO history (entry, gate, at, state, cause, words, who) VALUES (?, ?, ?, ?, ?, ?, ?)",
            )
            .and_then(|mut insert| {
                let (state, cause) = (state.word(), cause.word());
                insert.execute(params![entry, gate, self.now, state, cause, words, self.who])
            })
            .map_err(writing)?;
        self.newest_change = Some(ChangeId::of(self.connection.last_insert_rowid()));
        Ok(())
    }

    fn write_tallies(&mut self) -> Result<(), LedgerError> {
        let write = || -> rusqlite::Result<()> {
            let mut tally = self.connection.prepare_cached(
                "INSERT INTO tally (gate, state, count) VALUES (?1, ?2, ?3)
                 ON CONFLICT DO UPDATE SET count = count + ?3",
            )?;
            for (gate, state, count) in &self.tallies.0 {
                tally.execute(params![gate, state.word(), count])?;
            }
            let mut space =
                self.connection.prepare_cached("INSERT OR IGNORE INTO space (name) VALUES (?)")?;
            for name in &self.spaces {
                space.execute([name])?;
            }
            let mut span = self.connection.prepare_cached(
                "INSERT INTO span (slot, first, last) VALUES (?1, ?2, ?3)
                 ON CONFLICT DO UPDATE SET first = MIN(first, ?2), last = MAX(last, ?3)",
            )?;
            for (slot, (first, last)) in &self.spans {
                span.execute(params![slot, first, last])?;
            }
            let mut slot = self.connection.prepare_cached(
                "INSERT INTO activity (slot, gate, kind, count) VALUES (?1, ?2, ?3, ?4)
                 ON CONFLICT DO UPDATE SET count = count + ?4",
            )?;
            for (gate, kind, count) in &self.activity.0 {
                slot.execute(params![self.now.div_euclid(SLOT_MS), gate, kind, count])?;
            }
            Ok(())
        };
        write().map_err(writing)
    }
}
