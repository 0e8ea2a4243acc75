//! The table of the markers on a server.

use postgres::Client;

use crate::work::load::destination::{DbError, MARKERS, Marker, markers_beside};
use crate::work::load::postgres::words::{away, lock_number};

pub(crate) fn is_there(client: &mut Client, quoted: &str) -> Result<bool, DbError> {
    let found = client.query_one("SELECT to_regclass($1) IS NOT NULL", &[&quoted]).map_err(away)?;
    Ok(found.get(0))
}

pub(crate) fn make_markers(client: &mut Client, table: &str) -> Result<(), DbError> {
    let markers = markers_beside(table);
    if is_there(client, &markers)? {
        return Ok(());
    }
    // Two who make it in one moment would be in each other's way.
    guard(client, MARKERS)?;
    let sql = format!(
        "CREATE TABLE IF NOT EXISTS {markers} (load text NOT NULL, entry bigint NOT NULL, gate text NOT NULL,
           path text NOT NULL, sha256 text NOT NULL, table_name text NOT NULL, rows bigint NOT NULL,
           account text NOT NULL, loaded_at timestamptz NOT NULL DEFAULT now(),
           unloaded_at timestamptz, unloaded_rows bigint, PRIMARY KEY (load, entry))"
    );
    client.batch_execute(&sql).map_err(away)
}

pub(crate) fn write_markers(
    client: &mut Client,
    table: &str,
    markers: &[Marker],
) -> Result<(), DbError> {
    let sql = format!(
        "INSERT INTO {} (load, entry, gate, path, sha256, table_name, rows, account)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
        markers_beside(table)
    );
    let statement = client.prepare(&sql).map_err(away)?;
    for marker in markers {
        let Marker { load, entry, gate, path, sha256, table, rows, account } = marker;
        let rows = rows.cast_signed();
        client
            .execute(
                &statement,
                &[load, &entry.number(), gate, path, sha256, table, &rows, account],
            )
            .map_err(away)?;
    }
    Ok(())
}

/// Waits for who loads under the same name, and bars others.
pub(crate) fn guard(client: &mut Client, name: &str) -> Result<(), DbError> {
    let number = lock_number(name);
    client.execute("SELECT pg_advisory_xact_lock($1)", &[&number]).map(drop).map_err(away)
}
