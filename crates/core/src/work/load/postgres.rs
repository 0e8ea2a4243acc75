//! Loading into a PostgreSQL server: COPY in one transaction, by way of a temporary
//! table where rows take the place of others.

use std::collections::HashMap;
use std::time::Duration;

use postgres::error::SqlState;
use postgres::{Client, Config, NoTls};

use crate::fault::at;
use crate::ledger::ids::EntryId;
use crate::work::load::block::Block;
use crate::work::load::config::{Mode, Server};
use crate::work::load::destination::{
    DbError, Destination, End, Job, Marker, SomeRows, Standing, Unloaded, Written, listed, lost,
    markers_beside, quoted, quoted_table,
};
use crate::work::load::table::TableColumn;

mod binary;
mod copy;
mod markers;
mod numeric;
mod secure;
mod words;

use markers::{guard, is_there, make_markers, write_markers};
use words::{away, error_text, kind_of, not_connected, told, word};

/// How long a connection may take, unless the address says.
const CONNECT: Duration = Duration::from_secs(10);
/// How long data may lie unacknowledged before the server counts as gone.
const SILENCE: Duration = Duration::from_secs(60);
/// What every session is set to, whatever the server's own settings: other programs may
/// hold a lock for a while, and a commit is only told when it is durable.
const SESSION: &str = "SET statement_timeout = 0; SET lock_timeout = '30s';
    SET idle_in_transaction_session_timeout = 0; SET timezone = 'UTC'; SET datestyle = 'ISO';
    SELECT set_config('synchronous_commit', 'on', false)
    WHERE current_setting('synchronous_commit') IN ('off', 'local')";

/// A PostgreSQL server.
pub(crate) struct Postgres {
    server: Server,
    client: Option<Client>,
}

impl Postgres {
    pub fn new(server: Server) -> Self {
        Postgres { server, client: None }
    }

    fn config(&self) -> Result<Config, DbError> {
        let mut config = self.server.config.clone();
        if let Some(password) = &self.server.password {
            let password = password.read();
            config.password(password.map_err(|why| DbError::Away(format!("the password {why}")))?);
        }
        if config.get_connect_timeout().is_none() {
            config.connect_timeout(CONNECT);
        }
        if config.get_tcp_user_timeout().is_none() {
            config.tcp_user_timeout(SILENCE);
        }
        if config.get_application_name().is_none() {
            config.application_name("vadegate");
        }
        Ok(config)
    }

    fn client(&mut self) -> Result<&mut Client, DbError> {
        if self.client.as_ref().is_some_and(Client::is_closed) {
            self.client = None;
        }
        if self.client.is_none() {
            at("load.connect").map_err(|error| DbError::Away(error.to_string()))?;
            let config = self.config()?;
            let connected = match secure::connector(&config, &self.server)? {
                Some(tls) => config.connect(tls),
                None => config.connect(NoTls),
            };
            let mut client = connected.map_err(not_connected)?;
            client.batch_execute(SESSION).map_err(away)?;
            self.client = Some(client);
        }
        self.client.as_mut().ok_or_else(|| DbError::Away("it is not connected".into()))
    }

    /// Runs `work` in a transaction that is ended by it, or rolled back.
    fn within<T>(
        &mut self,
        work: impl FnOnce(&mut Client) -> Result<T, DbError>,
    ) -> Result<T, DbError> {
        // A connection from before may have been lost unnoticed.
        let alive = self.client()?.batch_execute("BEGIN").is_ok();
        if !alive {
            self.client = None;
            self.client()?.batch_execute("BEGIN").map_err(away)?;
        }
        let client = self.client()?;
        let done = work(client);
        // After a commit there is none to roll back, which is only a warning.
        if done.is_err() && client.batch_execute("ROLLBACK").is_err() {
            self.client = None;
        }
        done
    }
}

/// The temporary table through which rows go that take the place of others.
const STAGING: &str = "pg_temp.vadegate_rows";

fn write_rows(
    client: &mut Client,
    job: &Job,
    blocks: &mut dyn Iterator<Item = Block>,
) -> Result<Written, DbError> {
    let table = quoted_table(&job.table);
    if job.create {
        client.batch_execute(&job.create(word)).map_err(away)?;
    }
    if job.mode == Mode::Replace {
        client.batch_execute(&format!("DELETE FROM {table}")).map_err(told)?;
    }
    let names = job.names();
    if job.mode != Mode::Upsert {
        return copy::copy(client, &table, job, blocks);
    }
    let make = format!(
        "CREATE TEMP TABLE vadegate_rows ON COMMIT DROP AS SELECT {names} FROM {table} WITH NO DATA;
         ALTER TABLE {STAGING} ADD COLUMN vadegate_line bigint GENERATED ALWAYS AS IDENTITY"
    );
    client.batch_execute(&make).map_err(away)?;
    let written = copy::copy(client, STAGING, job, blocks)?;
    let key = listed(job.key.iter());
    // Of rows with the same key the last stands, as if they had come one by one.
    let upsert = format!(
        "INSERT INTO {table} ({names}) SELECT {names} FROM (
           SELECT DISTINCT ON ({key}) * FROM {STAGING} ORDER BY {key}, vadegate_line DESC) AS last
         {}",
        job.on_conflict()
    );
    client.batch_execute(&upsert).map_err(told)?;
    Ok(written)
}

fn injected(point: &'static str) -> Result<(), DbError> {
    at(point).map_err(|error| DbError::Away(error.to_string()))
}

impl Destination for Postgres {
    fn columns(&mut self, table: &str) -> Result<Option<Vec<TableColumn>>, DbError> {
        let name = quoted_table(table);
        self.within(|client| {
            if !is_there(client, &name)? {
                client.batch_execute("COMMIT").map_err(away)?;
                return Ok(None);
            }
            let sql =
                "SELECT a.attname::text, format_type(a.atttypid, a.atttypmod), t.typname::text,
                         a.attnotnull AND NOT a.atthasdef AND a.attidentity = '',
                         a.attgenerated <> '' OR a.attidentity = 'a'
                       FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
                       WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped
                       ORDER BY a.attnum";
            let rows = client.query(sql, &[&name]).map_err(away)?;
            client.batch_execute("COMMIT").map_err(away)?;
            let column = |row: &postgres::Row| TableColumn {
                name: row.get(0),
                declared: row.get(1),
                kind: kind_of(row.get(2)),
                required: row.get(3),
                generated: row.get(4),
            };
            Ok(Some(rows.iter().map(column).collect()))
        })
    }

    fn is_unique(&mut self, table: &str, key: &[String]) -> Result<bool, DbError> {
        let sql = format!(
            "EXPLAIN INSERT INTO {0} ({1}) SELECT {1} FROM {0} ON CONFLICT ({1}) DO NOTHING",
            quoted_table(table),
            listed(key.iter())
        );
        let client = self.client()?;
        match client.batch_execute(&sql) {
            Ok(()) => Ok(true),
            // The server itself says whether the key is one.
            Err(error) if error.code() == Some(&SqlState::INVALID_COLUMN_REFERENCE) => Ok(false),
            Err(error) => Err(away(error)),
        }
    }

    fn try_markers(&mut self, table: &str) -> Result<(), DbError> {
        self.within(|client| {
            make_markers(client, table)?;
            let sql = format!("SELECT count(*) FROM {} WHERE false", markers_beside(table));
            client.batch_execute(&sql).map_err(away)?;
            client.batch_execute("ROLLBACK").map_err(away)
        })
    }

    fn load(
        &mut self,
        job: &Job,
        blocks: &mut dyn Iterator<Item = Block>,
        end: End<'_>,
    ) -> Result<(), DbError> {
        self.within(|client| {
            guard(client, &job.guard)?;
            let written = write_rows(client, job, blocks)?;
            injected("load.rows")?;
            let Some(markers) = end(&written) else {
                return client.batch_execute("ROLLBACK").map_err(away);
            };
            write_markers(client, &job.table, &markers)?;
            injected("load.marked")?;
            client.batch_execute("COMMIT").map_err(|error| match error.as_db_error() {
                // A constraint that is only looked at now; the server has rolled back.
                Some(_) => told(error),
                None => DbError::Doubt(error_text(&error)),
            })?;
            injected("load.committed").map_err(|_| DbError::Doubt("the answer was lost".into()))
        })
    }

    fn make_markers(&mut self, table: &str) -> Result<(), DbError> {
        self.within(|client| {
            make_markers(client, table)?;
            client.batch_execute("COMMIT").map_err(away)
        })
    }

    fn markers(&mut self, table: &str, name: &str, load: &str) -> Result<Vec<Marker>, DbError> {
        self.within(|client| {
            // An earlier transaction of ours may still be ending.
            guard(client, name)?;
            let markers = markers_beside(table);
            if !is_there(client, &markers)? {
                return Err(lost(table));
            }
            let sql = format!(
                "SELECT load, entry, gate, path, sha256, table_name, rows, account FROM {markers} WHERE load = $1 ORDER BY entry"
            );
            let rows = client.query(&sql, &[&load]).map_err(away)?;
            client.batch_execute("COMMIT").map_err(away)?;
            let marker = |row: &postgres::Row| Marker {
                load: row.get(0),
                entry: EntryId::of(row.get(1)),
                gate: row.get(2),
                path: row.get(3),
                sha256: row.get(4),
                table: row.get(5),
                rows: row.get::<_, i64>(6).cast_unsigned(),
                account: row.get(7),
            };
            Ok(rows.iter().map(marker).collect())
        })
    }

    fn unload(
        &mut self,
        table: &str,
        column: &str,
        ledger: &str,
        (entry, sha256): (EntryId, &str),
    ) -> Result<Unloaded, DbError> {
        self.within(|client| {
            make_markers(client, table)?;
            let markers = markers_beside(table);
            let of = "entry = $1 AND table_name = $2 AND load LIKE $3 || '-%'";
            // Locked first, so that two who take out the same entry come one by one.
            let sql = format!("SELECT unloaded_at IS NULL, unloaded_rows FROM {markers} WHERE {of} FOR UPDATE");
            let found = client.query(&sql, &[&entry.number(), &table, &ledger]).map_err(away)?;
            if !found.iter().any(|row| row.get::<_, bool>(0)) {
                client.batch_execute("COMMIT").map_err(away)?;
                let before: i64 = found.iter().filter_map(|row| row.get::<_, Option<i64>>(1)).sum();
                return Ok(if found.is_empty() {
                    Unloaded::Unknown
                } else {
                    Unloaded::Before(before.cast_unsigned())
                });
            }
            let others = format!(
                "SELECT count(*) FROM {markers} WHERE entry = $1 AND table_name = $2 AND unloaded_at IS NULL
                   AND NOT (load LIKE $3 || '-%' AND sha256 = $4)"
            );
            let others: i64 = client
                .query_one(&others, &[&entry.number(), &table, &ledger, &sha256])
                .map_err(away)?
                .get(0);
            if others > 0 {
                client.batch_execute("COMMIT").map_err(away)?;
                return Ok(Unloaded::Shared);
            }
            let delete = format!(
                "DELETE FROM {} WHERE {}::text = $1",
                quoted_table(table),
                quoted(column)
            );
            let rows = client.execute(&delete, &[&entry.to_string()]).map_err(told)?;
            let note = format!("UPDATE {markers} SET unloaded_at = now(), unloaded_rows = $4 WHERE {of} AND unloaded_at IS NULL");
            client.execute(&note, &[&entry.number(), &table, &ledger, &rows.cast_signed()]).map_err(away)?;
            injected("unload.marked")?;
            client.batch_execute("COMMIT").map_err(away)?;
            Ok(Unloaded::Rows(rows))
        })
    }

    fn standing(&mut self, table: &str, ledger: &str) -> Result<Vec<Standing>, DbError> {
        let sql = format!(
            "SELECT load, entry, rows, unloaded_at IS NOT NULL FROM {}
             WHERE table_name = $1 AND load LIKE $2 || '-%'",
            markers_beside(table)
        );
        let rows = self.client()?.query(&sql, &[&table, &ledger]).map_err(away)?;
        let standing = |row: &postgres::Row| Standing {
            load: row.get(0),
            entry: EntryId::of(row.get(1)),
            rows: row.get::<_, i64>(2).cast_unsigned(),
            unloaded: row.get(3),
        };
        Ok(rows.iter().map(standing).collect())
    }

    fn counts(&mut self, table: &str, column: &str) -> Result<HashMap<EntryId, u64>, DbError> {
        let (table, column) = (quoted_table(table), quoted(column));
        let sql = format!("SELECT {column}::text, count(*) FROM {table} GROUP BY 1");
        let rows = self.client()?.query(&sql, &[]).map_err(away)?;
        let count = |row: &postgres::Row| {
            let entry: Option<String> = row.get(0);
            Some((entry?.parse().ok()?, row.get::<_, i64>(1).cast_unsigned()))
        };
        Ok(rows.iter().filter_map(count).collect())
    }

    fn rows(
        &mut self,
        table: &str,
        entry: Option<(&str, EntryId)>,
        limit: u32,
    ) -> Result<SomeRows, DbError> {
        let Some(columns) = self.columns(table)? else { return Ok(SomeRows::default()) };
        let filter = match entry {
            Some((column, entry)) => format!("WHERE {} = '{entry}'", quoted(column)),
            None => String::new(),
        };
        let names = listed(columns.iter().map(|column| &column.name));
        let sql = format!("SELECT {names} FROM {} {filter} LIMIT {limit}", quoted_table(table));
        let mut rows = Vec::new();
        // The simple protocol gives every type as text.
        for message in self.client()?.simple_query(&sql).map_err(away)? {
            if let postgres::SimpleQueryMessage::Row(row) = message {
                rows.push((0..row.len()).map(|at| row.get(at).map(str::to_owned)).collect());
            }
        }
        Ok(SomeRows { columns, rows })
    }
}
