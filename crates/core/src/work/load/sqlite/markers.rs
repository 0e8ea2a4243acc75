//! The table of the markers in a SQLite file.

use rusqlite::{Connection, params};

use crate::work::load::destination::{DbError, MARKERS, Marker, markers_beside};
use crate::work::load::sqlite::words::away;

pub(crate) fn make_markers(connection: &Connection, table: &str) -> Result<(), DbError> {
    let sql = format!(
        "CREATE TABLE IF NOT EXISTS {0} (load TEXT NOT NULL, entry INTEGER NOT NULL, gate TEXT NOT NULL,
           path TEXT NOT NULL, sha256 TEXT NOT NULL, table_name TEXT NOT NULL, rows INTEGER NOT NULL,
           account TEXT NOT NULL, loaded_at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP,
           unloaded_at TIMESTAMP, unloaded_rows INTEGER, PRIMARY KEY (load, entry));
         CREATE INDEX IF NOT EXISTS {1}_entry ON {0} (entry)",
        markers_beside(table),
        MARKERS
    );
    connection.execute_batch(&sql).map_err(away)
}

pub(crate) fn write_markers(
    connection: &Connection,
    table: &str,
    markers: &[Marker],
) -> Result<(), DbError> {
    let sql = format!(
        "INSERT INTO {} (load, entry, gate, path, sha256, table_name, rows, account)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        markers_beside(table)
    );
    let mut statement = connection.prepare_cached(&sql).map_err(away)?;
    for marker in markers {
        let Marker { load, entry, gate, path, sha256, table, rows, account } = marker;
        let rows = rows.cast_signed();
        statement
            .execute(params![load, entry, gate, path, sha256, table, rows, account])
            .map_err(away)?;
    }
    Ok(())
}
