//! Opening the database: pragmas, numbered migrations, refusal of newer files.

use std::path::Path;
use std::sync::{Arc, Once};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, ffi};

use crate::ledger::error::LedgerError;

/// Migrations in order; the first brings an empty file to schema 1. A released
/// one is never edited.
const MIGRATIONS: [&str; 11] = [
    include_str!("migrations/0001.sql"),
    include_str!("migrations/0002.sql"),
    include_str!("migrations/0003.sql"),
    include_str!("migrations/0004.sql"),
    include_str!("migrations/0005.sql"),
    include_str!("migrations/0006.sql"),
    include_str!("migrations/0007.sql"),
    include_str!("migrations/0008.sql"),
    include_str!("migrations/0009.sql"),
    include_str!("migrations/0010.sql"),
    include_str!("migrations/0011.sql"),
];

/// The schema that this program writes.
pub const VERSION: i64 = MIGRATIONS.len() as i64;

/// A ledger up to this size is read whole at each start, to see whether it is
/// damaged.
const READ_WHOLE: u64 = 512 << 20;

pub(crate) fn opening(source: rusqlite::Error) -> LedgerError {
    LedgerError::Sqlite { doing: "opened", source: Arc::new(source) }
}

fn version(connection: &Connection) -> rusqlite::Result<i64> {
    connection.query_row("PRAGMA user_version", [], |row| row.get(0))
}

/// Refuses a database whose schema is newer than this program.
pub(crate) fn refuse_newer(connection: &Connection, file: &Path) -> Result<(), LedgerError> {
    let found = version(connection).map_err(opening)?;
    if found > VERSION {
        return Err(LedgerError::Newer { file: file.to_owned(), found, known: VERSION });
    }
    Ok(())
}

/// Refuses a database that is no ledger.
pub(crate) fn refuse_foreign(connection: &Connection, file: &Path) -> Result<(), LedgerError> {
    let tables: i64 = connection
        .query_row(
            "SELECT COUNT(*) FROM sqlite_master WHERE name IN ('entry', 'history', 'ledger')",
            [],
            |row| row.get(0),
        )
        .map_err(opening)?;
    if tables == 3 {
        return Ok(());
    }
    Err(LedgerError::Damaged { file: file.to_owned(), why: "it is no ledger of vadegate".into() })
}

/// An empty database in memory.
pub(crate) fn in_memory() -> Result<Connection, LedgerError> {
    let connection = Connection::open_in_memory().map_err(opening)?;
    keep_plans(&connection).map_err(opening)?;
    MIGRATIONS.iter().try_for_each(|sql| connection.execute_batch(sql)).map_err(opening)?;
    super::query::prepare(&connection).map_err(opening)?;
    Ok(connection)
}

/// Opens the writing connection.
pub(crate) fn open(file: &Path) -> Result<Connection, LedgerError> {
    // One thread alone uses it, so SQLite need not lock each call.
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
        | OpenFlags::SQLITE_OPEN_CREATE
        | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    keep_savepoints_in_memory();
    if file.try_exists().unwrap_or(false) {
        // One that only reads leaves even the log as it is when it is closed.
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let reader = Connection::open_with_flags(file, flags).map_err(opening)?;
        refuse_damaged(&reader, file)?;
    }
    let mut connection = Connection::open_with_flags(file, flags).map_err(opening)?;
    refuse_newer(&connection, file)?;
    prepare_writer(&connection).map_err(opening)?;
    let found = version(&connection).map_err(opening)?;
    if found > 0 && found < VERSION {
        let backup = file.with_extension(format!("schema-{found}.db"));
        connection
            .backup("main", &backup, None::<fn(rusqlite::backup::Progress)>)
            .map_err(opening)?;
    }
    for (number, migration) in (1..).zip(MIGRATIONS).filter(|(number, _)| *number > found) {
        let transaction = connection.transaction().map_err(opening)?;
        transaction.execute_batch(migration).map_err(opening)?;
        transaction.pragma_update(None, "user_version", number).map_err(opening)?;
        transaction.commit().map_err(opening)?;
    }
    Ok(connection)
}

/// What a savepoint may have to put back is kept in memory, always. Beyond a bound it would go
/// into a temporary file, for which there may be no room, or no folder that may be written; and
/// SQLite writes at most 128 KiB of it at once, and takes what is left of a larger piece for a
/// full disk. The pieces are small, and each statement goes through all of them: so what changes
/// many rows begins its transaction, and needs no savepoint.
fn keep_savepoints_in_memory() {
    const NEVER: std::ffi::c_int = -1;
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        // SAFETY: the option takes one int. Where SQLite has been begun it changes nothing
        // and says so, and savepoints go into a temporary file as is its default.
        unsafe { ffi::sqlite3_config(ffi::SQLITE_CONFIG_STMTJRNL_SPILL, NEVER) };
    });
}

/// Plans do not depend on the values that are bound: else each binding of a value that a
/// partial index might be about has its statement prepared anew, which costs more than most
/// of our questions.
fn keep_plans(connection: &Connection) -> rusqlite::Result<()> {
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map(drop)
}

fn prepare_writer(connection: &Connection) -> rusqlite::Result<()> {
    connection.busy_timeout(Duration::from_secs(10))?;
    keep_plans(connection)?;
    // Write-ahead log: readers see a steady state while the writer commits.
    connection.pragma_update(None, "journal_mode", "WAL")?;
    // FULL: a commit is on the disk before the caller is answered.
    connection.pragma_update(None, "synchronous", "FULL")?;
    connection.pragma_update(None, "cache_size", -16_000)?;
    connection.set_prepared_statement_cache_capacity(128);
    Ok(())
}

/// A connection beside the writing one, which copies the log.
pub(crate) fn open_beside(file: &Path) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(file, flags)?;
    connection.pragma_update(None, "synchronous", "FULL")?;
    connection.pragma_update(None, "wal_autocheckpoint", 0)?;
    Ok(connection)
}

/// Settings of a reading connection.
pub(crate) fn prepare_reader(connection: &Connection) -> rusqlite::Result<()> {
    connection.busy_timeout(Duration::from_secs(10))?;
    keep_plans(connection)?;
    connection.pragma_update(None, "cache_size", -4_000)?;
    connection.set_prepared_statement_cache_capacity(64);
    super::query::prepare(connection)
}

/// Refuses a file that is no sound ledger.
pub(crate) fn refuse_damaged(connection: &Connection, file: &Path) -> Result<(), LedgerError> {
    let damaged = |why: String| LedgerError::Damaged { file: file.to_owned(), why };
    let size = std::fs::metadata(file).map_or(0, |meta| meta.len());
    let asked = if size <= READ_WHOLE { "PRAGMA quick_check(1)" } else { "PRAGMA schema_version" };
    let answer: Result<rusqlite::types::Value, _> =
        connection.query_row(asked, [], |row| row.get(0));
    match answer {
        Ok(rusqlite::types::Value::Text(said)) if said != "ok" => Err(damaged(said)),
        Ok(_) => Ok(()),
        Err(error) => match error.sqlite_error_code() {
            Some(rusqlite::ErrorCode::DatabaseCorrupt | rusqlite::ErrorCode::NotADatabase) => {
                Err(damaged(error.to_string()))
            }
            _ => Err(opening(error)),
        },
    }
}
