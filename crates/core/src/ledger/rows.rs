//! Rows of the database as plain data.

use jiff::Timestamp;
use rusqlite::types::Value;
use rusqlite::{Connection, Row, params_from_iter};

use crate::files::compress::Compression;
use crate::files::version::Version;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::requests::FileTarget;
use crate::ledger::state::State;
use crate::ledger::types::Entry;
use crate::ledger::types::OpenEntry;

const COLUMNS: &str =
    "id, gate, drop_folder, path, bytes, modified_ns, inode, sha256, state, fields,
  seen_at, ready_at, worked_at, filed_at, target, in_drop, tries, reason, repeat_of, batch, rows,
  source, revision_of, forgotten, changed_ns, filed_bytes, filed_sha256,
  packing, content_sha256";

/// Which entries are thought to lie in a drop folder: open ones, and those that were
/// filed or adopted in place. Each has an index of its own.
pub(crate) const IN_DROP: [&str; 2] = [
    "in_drop = 1 AND (state = 'ready' OR state = 'working' OR state = 'worked' OR state = 'repeat' OR state = 'held')",
    "in_drop = 1 AND (state = 'filed' OR state = 'adopted' OR state = 'passed over')",
];

pub(crate) fn time(millis: i64) -> Timestamp {
    Timestamp::from_millisecond(millis).unwrap_or_default()
}

pub(crate) fn filing(row: &Row<'_>) -> rusqlite::Result<OpenEntry> {
    let path: String = row.get(3)?;
    let modified_ns: i64 = row.get(5)?;
    let bytes = row.get::<_, i64>(4)?.cast_unsigned();
    let filed_bytes = row.get::<_, Option<i64>>(25)?.map(i64::cast_unsigned);
    let version = Version {
        bytes: filed_bytes.unwrap_or(bytes),
        modified_ns,
        inode: row.get::<_, i64>(6)?.cast_unsigned(),
        changed_ns: row.get(24)?,
    };
    let state: String = row.get(8)?;
    let fields: String = row.get(9)?;
    let target: Option<String> = row.get(14)?;
    let in_drop: bool = row.get(15)?;
    let source: Option<String> = row.get(21)?;
    let packing: Option<Compression> = row.get(27)?;
    // Until it has been moved it lies there as it came.
    let packed = !in_drop && source.is_none();
    let moved = source.or_else(|| target.clone()).filter(|_| !in_drop);
    let entry = Entry {
        id: row.get(0)?,
        gate: row.get(1)?,
        drop: row.get(2)?,
        name: path.rsplit('/').next().unwrap_or(&path).to_owned(),
        path,
        bytes,
        modified: Timestamp::from_nanosecond(i128::from(modified_ns)).unwrap_or_default(),
        sha256: row.get(7)?,
        state: State::of(&state).unwrap_or(State::Held),
        fields: serde_json::from_str(&fields).unwrap_or_default(),
        seen_at: time(row.get(10)?),
        ready_at: time(row.get(11)?),
        worked_at: row.get::<_, Option<i64>>(12)?.map(time),
        filed_at: row.get::<_, Option<i64>>(13)?.map(time),
        filed_to: moved,
        tries: row.get(16)?,
        reason: row.get(17)?,
        repeat_of: row.get(18)?,
        batch: row.get(19)?,
        rows: row.get::<_, Option<i64>>(20)?.map(i64::cast_unsigned),
        revision_of: row.get(22)?,
        forgotten: row.get(23)?,
        filed_bytes,
        filed_sha256: row.get(26)?,
        packing: packing.filter(|_| packed),
        content_sha256: row.get(28)?,
    };
    let target = target.map(|path| FileTarget { path, packing });
    Ok(OpenEntry { entry, version, target })
}

pub(crate) fn select(
    connection: &Connection,
    rest: &str,
    values: impl IntoIterator<Item = Value>,
) -> Result<Vec<OpenEntry>, LedgerError> {
    let query = || -> rusqlite::Result<Vec<OpenEntry>> {
        let mut select =
            connection.prepare_cached(&format!("SELECT {COLUMNS} FROM entry {rest}"))?;
        select.query_map(params_from_iter(values), filing)?.collect()
    };
    query().map_err(reading)
}

pub(crate) fn text(value: &str) -> Value {
    Value::Text(value.to_owned())
}

pub(crate) fn escape_like(text: &str) -> String {
    text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")
}
