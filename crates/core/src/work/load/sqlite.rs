//! Loading into a SQLite file: inserts in one transaction.

mod given;
mod insert;
mod markers;
mod place;
#[cfg(test)]
mod tests;
mod words;

use std::collections::HashMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use rusqlite::{Connection, OpenFlags, OptionalExtension, params};

use crate::fault::at;
use crate::files::at::Folder;
use crate::files::roots::Reach;
use crate::ledger::ids::EntryId;
use crate::work::load::block::Block;
use crate::work::load::destination::{
    DbError, Destination, End, Job, MARKERS, Marker, Refusal, SomeRows, Standing, Unloaded, listed,
    lost, markers_beside, parts, quoted, quoted_table,
};
use crate::work::load::table::TableColumn;
use given::GivenTables;
use insert::write_rows;
use markers::{make_markers, write_markers};
use place::in_open_folder;
use words::{away, is_refusal, kind_of, text};

/// How long another program may keep the file locked before it counts as busy.
const BUSY: Duration = Duration::from_secs(10);
/// Pages that are kept in memory, in KiB.
const CACHE_KIB: u32 = 16 * 1024;

/// Statements that are kept for the next load.
const STATEMENTS: usize = 32;

/// Which file is at a path.
fn file_at(path: &Path) -> Option<(u64, u64)> {
    path.metadata().ok().map(|meta| (meta.dev(), meta.ino()))
}

/// A SQLite file.
pub(crate) struct Sqlite {
    path: PathBuf,
    /// By what it is reached; none where only the path is known.
    reach: Option<Reach>,
    connection: Option<Connection>,
    /// By what the connection is given rows.
    given: GivenTables,
    /// The folder through which the connection goes.
    folder: Option<Arc<Folder>>,
    /// Device and inode of the file that is open.
    file: Option<(u64, u64)>,
}

impl Sqlite {
    pub fn new(path: PathBuf) -> Self {
        let given = GivenTables::default();
        Sqlite { path, reach: None, connection: None, given, folder: None, file: None }
    }

    /// Whether there is such a file; an error is no "no".
    fn is_there(&self) -> Result<bool, DbError> {
        self.path.try_exists().map_err(|error| {
            DbError::Away(format!("`{}` cannot be looked at: {error}", self.path.display()))
        })
    }

    fn connection(&mut self) -> Result<&mut Connection, DbError> {
        // A file that was replaced or removed meanwhile is not the one that is open.
        if self.connection.is_some() && file_at(&self.path) != self.file {
            self.connection = None;
        }
        if self.connection.is_none() {
            at("load.connect").map_err(|error| DbError::Away(error.to_string()))?;
            let connection = self.open()?;
            connection.busy_timeout(BUSY).map_err(away)?;
            connection.pragma_update(None, "synchronous", "FULL").map_err(away)?;
            let cache = -i64::from(CACHE_KIB);
            connection.pragma_update(None, "cache_size", cache).map_err(away)?;
            connection.set_prepared_statement_cache_capacity(STATEMENTS);
            self.file = file_at(&self.path);
            self.given = GivenTables::default();
            self.connection = Some(connection);
        }
        self.connection.as_mut().ok_or_else(|| DbError::Away("it is not open".into()))
    }

    /// Opens the file, or makes it.
    fn open(&mut self) -> Result<Connection, DbError> {
        let shown = self.path.display();
        if self.path.symlink_metadata().is_ok_and(|meta| meta.is_symlink()) {
            return Err(DbError::Away(format!(
                "`{shown}` is a link, and links are not followed; name the file to which it leads"
            )));
        }
        let refused = |why: String| DbError::Away(format!("`{shown}` cannot be opened: {why}"));
        let at = self.reach.as_ref().map(|reach| reach.at(&self.path)).transpose();
        let at = at.map_err(|error| refused(error.to_string()))?;
        let name = Path::new(self.path.file_name().unwrap_or_default());
        let place = at.as_ref().and_then(|at| in_open_folder(at.folder(), name));
        let opened = match &place {
            Some((path, layer)) => {
                Connection::open_with_flags_and_vfs(path, OpenFlags::default(), *layer)
            }
            None => Connection::open(&self.path),
        };
        self.folder = at.map(|at| Arc::clone(at.folder()));
        opened.map_err(|error| refused(error.to_string()))
    }

    /// Runs `work` in a transaction that is ended by it, or rolled back.
    fn within<T>(
        &mut self,
        work: impl FnOnce(&Connection) -> Result<T, DbError>,
    ) -> Result<T, DbError> {
        let connection = self.connection()?;
        connection.execute_batch("BEGIN IMMEDIATE").map_err(away)?;
        let done = work(connection);
        if !connection.is_autocommit() && connection.execute_batch("ROLLBACK").is_err() {
            // Closed without a commit it is rolled back as well.
            self.connection = None;
        }
        done
    }
}

fn injected(point: &'static str) -> Result<(), DbError> {
    at(point).map_err(|error| DbError::Away(error.to_string()))
}

impl Destination for Sqlite {
    fn reach_by(&mut self, reach: &Reach) {
        self.reach = Some(reach.clone());
    }

    fn columns(&mut self, table: &str) -> Result<Option<Vec<TableColumn>>, DbError> {
        if !self.is_there()? {
            return Ok(None);
        }
        let schema = parts(table).0.unwrap_or_else(|| "main".to_owned());
        let name = parts(table).1;
        let connection = self.connection()?;
        // The number of a row fills itself; its type is INTEGER to the letter.
        let own_number = |declared: &str, key: i64| key == 1 && declared == "INTEGER";
        let read = || -> rusqlite::Result<Vec<TableColumn>> {
            let mut select = connection.prepare_cached(
                "SELECT name, type, \"notnull\", dflt_value IS NOT NULL, pk, hidden FROM pragma_table_xinfo(?, ?)",
            )?;
            select
                .query_map([&name, &schema], |row| {
                    let declared: String = row.get(1)?;
                    let (not_null, default, key): (bool, bool, i64) =
                        (row.get(2)?, row.get(3)?, row.get(4)?);
                    Ok(TableColumn {
                        name: row.get(0)?,
                        kind: kind_of(&declared),
                        required: not_null && !default && !own_number(&declared, key),
                        generated: row.get::<_, i64>(5)? > 1,
                        declared,
                    })
                })?
                .collect()
        };
        let columns = read().map_err(away)?;
        Ok((!columns.is_empty()).then_some(columns))
    }

    fn is_unique(&mut self, table: &str, key: &[String]) -> Result<bool, DbError> {
        let connection = self.connection()?;
        let sql = format!(
            "EXPLAIN INSERT INTO {} ({}) VALUES ({}) ON CONFLICT ({}) DO NOTHING",
            quoted_table(table),
            listed(key.iter()),
            vec!["NULL"; key.len()].join(", "),
            listed(key.iter())
        );
        // SQLite itself says whether the key is one.
        Ok(connection.prepare(&sql).is_ok())
    }

    fn try_markers(&mut self, table: &str) -> Result<(), DbError> {
        if !self.is_there()? {
            // It is made with the first load; whether its folder can be written is
            // looked at elsewhere.
            return Ok(());
        }
        let has = "SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?";
        let found = self.connection()?.query_row(has, [MARKERS], |_| Ok(())).optional();
        if found.map_err(away)?.is_some() {
            // Where somebody is loading just now, that need not be waited for.
            return Ok(());
        }
        self.within(|connection| make_markers(connection, table))
    }

    fn load(
        &mut self,
        job: &Job,
        blocks: &mut dyn Iterator<Item = Block>,
        end: End<'_>,
    ) -> Result<(), DbError> {
        let path = self.path.clone();
        self.connection()?;
        let file = self.file;
        let width = job.columns.len();
        let connection = self.connection.as_ref();
        let given = connection.map(|connection| self.given.of_width(connection, width));
        let given = given.transpose().map_err(away)?.unwrap_or_default();
        self.within(|connection| {
            let written = write_rows(connection, &given, job, blocks)?;
            injected("load.rows")?;
            let Some(markers) = end(&written) else { return Ok(()) };
            write_markers(connection, &job.table, &markers)?;
            injected("load.marked")?;
            if file_at(&path) != file {
                let shown = path.display();
                return Err(DbError::Away(format!("`{shown}` was replaced meanwhile")));
            }
            connection.execute_batch("COMMIT").map_err(|error| match is_refusal(&error) {
                // A constraint that is only looked at now.
                true => DbError::Refused(Refusal { why: error.to_string(), ..Refusal::default() }),
                false => DbError::Doubt(error.to_string()),
            })?;
            injected("load.committed").map_err(|_| DbError::Doubt("the answer was lost".into()))
        })
    }

    fn make_markers(&mut self, table: &str) -> Result<(), DbError> {
        make_markers(self.connection()?, table)
    }

    fn markers(&mut self, table: &str, _: &str, load: &str) -> Result<Vec<Marker>, DbError> {
        if !self.is_there()? {
            return Err(lost(table));
        }
        // Whoever writes has the only lock: what was under way has ended.
        self.within(|connection| {
            let there: Option<i64> = connection
                .query_row(
                    "SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?",
                    [MARKERS],
                    |row| row.get(0),
                )
                .optional()
                .map_err(away)?;
            if there.is_none() {
                return Err(lost(table));
            }
            let sql = format!(
                "SELECT load, entry, gate, path, sha256, table_name, rows, account FROM {} WHERE load = ? ORDER BY entry",
                markers_beside(table)
            );
            let read = || -> rusqlite::Result<Vec<Marker>> {
                let mut select = connection.prepare(&sql)?;
                let marker = |row: &rusqlite::Row<'_>| {
                    Ok(Marker {
                        load: row.get(0)?,
                        entry: row.get(1)?,
                        gate: row.get(2)?,
                        path: row.get(3)?,
                        sha256: row.get(4)?,
                        table: row.get(5)?,
                        rows: row.get::<_, i64>(6)?.cast_unsigned(),
                        account: row.get(7)?,
                    })
                };
                select.query_map([load], marker)?.collect()
            };
            read().map_err(away)
        })
    }

    fn unload(
        &mut self,
        table: &str,
        column: &str,
        ledger: &str,
        (entry, sha256): (EntryId, &str),
    ) -> Result<Unloaded, DbError> {
        self.within(|connection| {
            make_markers(connection, table)?;
            let of = "entry = ?1 AND table_name = ?2 AND load LIKE ?3 || '-%'";
            let markers = markers_beside(table);
            let (standing, before): (i64, Option<i64>) = connection
                .query_row(
                    &format!("SELECT COUNT(*) FILTER (WHERE unloaded_at IS NULL), SUM(unloaded_rows) FROM {markers} WHERE {of}"),
                    params![entry, table, ledger],
                    |row| Ok((row.get(0)?, row.get(1)?)),
                )
                .map_err(away)?;
            if standing == 0 {
                return Ok(before.map_or(Unloaded::Unknown, |rows| {
                    Unloaded::Before(rows.cast_unsigned())
                }));
            }
            let others = format!(
                "SELECT COUNT(*) FROM {markers} WHERE entry = ?1 AND table_name = ?2 AND unloaded_at IS NULL
                   AND NOT (load LIKE ?3 || '-%' AND sha256 = ?4)"
            );
            let others: i64 = connection
                .query_row(&others, params![entry, table, ledger, sha256], |row| row.get(0))
                .map_err(away)?;
            if others > 0 {
                return Ok(Unloaded::Shared);
            }
            let delete = format!("DELETE FROM {} WHERE {} = ?", quoted_table(table), quoted(column));
            let rows = connection.execute(&delete, [entry]).map_err(away)? as u64;
            let note = format!(
                "UPDATE {markers} SET unloaded_at = CURRENT_TIMESTAMP, unloaded_rows = ?4
                 WHERE {of} AND unloaded_at IS NULL"
            );
            connection
                .execute(&note, params![entry, table, ledger, rows.cast_signed()])
                .map_err(away)?;
            injected("unload.marked")?;
            connection.execute_batch("COMMIT").map_err(away)?;
            Ok(Unloaded::Rows(rows))
        })
    }

    fn standing(&mut self, table: &str, ledger: &str) -> Result<Vec<Standing>, DbError> {
        if !self.is_there()? {
            return Ok(Vec::new());
        }
        let sql = format!(
            "SELECT load, entry, rows, unloaded_at IS NOT NULL FROM {}
             WHERE table_name = ?1 AND load LIKE ?2 || '-%'",
            markers_beside(table)
        );
        let connection = self.connection()?;
        let read = || -> rusqlite::Result<Vec<Standing>> {
            let standing = |row: &rusqlite::Row<'_>| {
                Ok(Standing {
                    load: row.get(0)?,
                    entry: row.get(1)?,
                    rows: row.get::<_, i64>(2)?.cast_unsigned(),
                    unloaded: row.get(3)?,
                })
            };
            connection.prepare(&sql)?.query_map([table, ledger], standing)?.collect()
        };
        read().map_err(away)
    }

    fn counts(&mut self, table: &str, column: &str) -> Result<HashMap<EntryId, u64>, DbError> {
        let (table, column) = (quoted_table(table), quoted(column));
        let sql = format!(
            "SELECT CAST({column} AS INTEGER), COUNT(*) FROM {table} WHERE {column} IS NOT NULL GROUP BY 1"
        );
        let connection = self.connection()?;
        let read = || -> rusqlite::Result<HashMap<EntryId, u64>> {
            let count =
                |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get::<_, i64>(1)?.cast_unsigned()));
            connection.prepare(&sql)?.query_map([], count)?.collect()
        };
        read().map_err(away)
    }

    fn rows(
        &mut self,
        table: &str,
        entry: Option<(&str, EntryId)>,
        limit: u32,
    ) -> Result<SomeRows, DbError> {
        let Some(columns) = self.columns(table)? else { return Ok(SomeRows::default()) };
        let filter = match entry {
            Some((column, entry)) => format!("WHERE {} = {entry}", quoted(column)),
            None => String::new(),
        };
        let names = listed(columns.iter().map(|column| &column.name));
        let sql = format!("SELECT {names} FROM {} {filter} LIMIT {limit}", quoted_table(table));
        let width = columns.len();
        let connection = self.connection()?;
        let read = || -> rusqlite::Result<Vec<Vec<Option<String>>>> {
            let mut select = connection.prepare(&sql)?;
            let row =
                |row: &rusqlite::Row<'_>| (0..width).map(|at| Ok(text(row.get_ref(at)?))).collect();
            select.query_map([], row)?.collect()
        };
        Ok(SomeRows { rows: read().map_err(away)?, columns })
    }
}
