//! What can be asked of the ledger.

use jiff::Timestamp;
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row, params_from_iter};

use super::doings::Unpublished;
use super::types::Filing;
use super::writer::SLOT_MS;
use super::{
    Batch, Cause, Change, Counts, Entry, EntryDetail, Ledger, LedgerError, Output, Page, Query,
    Slot, State, reading,
};
use crate::arrivals::Version;

const COLUMNS: &str =
    "id, gate, drop_folder, path, bytes, modified_ns, inode, sha256, state, fields,
  seen_at, ready_at, worked_at, filed_at, target, in_drop, tries, reason, repeat_of, batch, rows";

/// Which entries are thought to lie in a drop folder: open ones, and those that were
/// filed or adopted in place. Each has an index of its own.
pub(super) const IN_DROP: [&str; 2] = [
    "in_drop = 1 AND state IN ('ready', 'working', 'worked', 'repeat', 'held')",
    "in_drop = 1 AND state IN ('filed', 'adopted')",
];

fn time(millis: i64) -> Timestamp {
    Timestamp::from_millisecond(millis).unwrap_or_default()
}

fn hex(bytes: &[u8]) -> String {
    crate::arrivals::hex(bytes)
}

fn filing(row: &Row<'_>) -> rusqlite::Result<Filing> {
    let path: String = row.get(3)?;
    let modified_ns: i64 = row.get(5)?;
    let version = Version {
        bytes: row.get::<_, i64>(4)?.cast_unsigned(),
        modified_ns,
        inode: row.get::<_, i64>(6)?.cast_unsigned(),
    };
    let state: String = row.get(8)?;
    let fields: String = row.get(9)?;
    let target: Option<String> = row.get(14)?;
    let in_drop: bool = row.get(15)?;
    let moved = target.clone().filter(|_| !in_drop);
    let entry = Entry {
        id: row.get(0)?,
        gate: row.get(1)?,
        drop: row.get(2)?,
        name: path.rsplit('/').next().unwrap_or(&path).to_owned(),
        path,
        bytes: version.bytes,
        modified: Timestamp::from_nanosecond(i128::from(modified_ns)).unwrap_or_default(),
        sha256: hex(&row.get::<_, Vec<u8>>(7)?),
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
    };
    Ok(Filing { entry, version, target })
}

fn select(
    connection: &Connection,
    rest: &str,
    values: impl IntoIterator<Item = Value>,
) -> Result<Vec<Filing>, LedgerError> {
    let query = || -> rusqlite::Result<Vec<Filing>> {
        let mut select =
            connection.prepare_cached(&format!("SELECT {COLUMNS} FROM entry {rest}"))?;
        select.query_map(params_from_iter(values), filing)?.collect()
    };
    query().map_err(reading)
}

fn text(value: &str) -> Value {
    Value::Text(value.to_owned())
}

impl Ledger {
    /// Entries of a gate in one of the open states, oldest first.
    pub(crate) fn open_entries(
        &self,
        gate: &str,
        state: State,
    ) -> Result<Vec<Filing>, LedgerError> {
        // The state is written out so that the partial index serves.
        let rest = format!("WHERE gate = ? AND state = '{}' ORDER BY id", state.word());
        self.read(|reader| select(reader, &rest, [text(gate)]))
    }

    /// Repeats of a gate that can be filed: those whose first entry is worked,
    /// or was set aside. While the first still waits for its work its repeats
    /// stay, so that one of them can take its place if its file disappears.
    pub(crate) fn repeats_to_file(&self, gate: &str) -> Result<Vec<Filing>, LedgerError> {
        let rest = "WHERE gate = ? AND state = 'repeat' AND NOT EXISTS (
              SELECT 1 FROM entry first
              WHERE first.id = entry.repeat_of AND first.state IN ('ready', 'working'))
            ORDER BY id";
        self.read(|reader| select(reader, rest, [text(gate)]))
    }

    /// Ready entries of a gate that wait for nothing, and the time (in
    /// milliseconds) for which the next of the others waits.
    pub(crate) fn ready(
        &self,
        gate: &str,
        now: i64,
    ) -> Result<(Vec<Filing>, Option<i64>), LedgerError> {
        self.read(|reader| {
            let ready = select(
                reader,
                "WHERE gate = ? AND state = 'ready' AND COALESCE(not_before, 0) <= ? ORDER BY id",
                [text(gate), Value::Integer(now)],
            )?;
            let next = reader
                .prepare_cached(
                    "SELECT MIN(not_before) FROM entry WHERE gate = ? AND state = 'ready' AND not_before > ?",
                )
                .and_then(|mut select| select.query_row((gate, now), |row| row.get(0)))
                .map_err(reading)?;
            Ok((ready, next))
        })
    }

    /// Entries whose file is thought to lie in the gate's drop folder.
    pub(crate) fn in_drop(&self, gate: &str) -> Result<Vec<Filing>, LedgerError> {
        self.read(|reader| {
            let mut found = Vec::new();
            for wheres in IN_DROP {
                found.extend(select(
                    reader,
                    &format!("WHERE gate = ? AND {wheres}"),
                    [text(gate)],
                )?);
            }
            Ok(found)
        })
    }

    /// Tells of each version that is thought to lie in the gate's drop folder, one
    /// by one: there may be a million.
    pub(crate) fn each_in_drop(
        &self,
        gate: &str,
        mut each: impl FnMut(String, Version, i64),
    ) -> Result<(), LedgerError> {
        self.read(|reader| {
            let mut query = || -> rusqlite::Result<()> {
                for wheres in IN_DROP {
                    let mut select = reader.prepare_cached(&format!(
                        "SELECT path, bytes, modified_ns, inode, id FROM entry WHERE gate = ? AND {wheres}"
                    ))?;
                    let mut rows = select.query([gate])?;
                    while let Some(row) = rows.next()? {
                        let version = Version {
                            bytes: row.get::<_, i64>(1)?.cast_unsigned(),
                            modified_ns: row.get(2)?,
                            inode: row.get::<_, i64>(3)?.cast_unsigned(),
                        };
                        each(row.get(0)?, version, row.get(4)?);
                    }
                }
                Ok(())
            };
            query().map_err(reading)
        })
    }

    /// The newest entry of a path below a gate's drop folder.
    pub(crate) fn of_path(&self, gate: &str, path: &str) -> Result<Option<Entry>, LedgerError> {
        let rest = "WHERE gate = ? AND path = ? ORDER BY id DESC LIMIT 1";
        let found = self.read(|reader| select(reader, rest, [text(gate), text(path)]))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// The entry that was moved to this place, the newest if there are several.
    pub(crate) fn moved_to(&self, place: &str) -> Result<Option<Entry>, LedgerError> {
        let rest = "WHERE target = ? AND in_drop = 0 ORDER BY id DESC LIMIT 1";
        let found = self.read(|reader| select(reader, rest, [text(place)]))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// The newest entries with this file name, at any gate.
    pub(crate) fn of_name(&self, name: &str) -> Result<Option<Entry>, LedgerError> {
        let rest = "WHERE path = ?1 OR path LIKE '%/' || ?2 ESCAPE '\\' ORDER BY id DESC LIMIT 1";
        let values = [text(name), text(&escape_like(name))];
        let found = self.read(|reader| select(reader, rest, values))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// One entry.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn entry(&self, id: i64) -> Result<Option<Entry>, LedgerError> {
        let found = self.read(|reader| select(reader, "WHERE id = ?", [Value::Integer(id)]))?;
        Ok(found.into_iter().next().map(|filing| filing.entry))
    }

    /// One entry with its history, batch and outputs.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn detail(&self, id: i64) -> Result<Option<EntryDetail>, LedgerError> {
        let Some(entry) = self.entry(id)? else { return Ok(None) };
        let history = self.changes("WHERE h.entry = ? ORDER BY h.id", &[id])?;
        let worked_in = match entry.batch {
            Some(batch) => self.batch(batch)?,
            None => None,
        };
        Ok(Some(EntryDetail { entry, history, worked_in }))
    }

    /// One page of entries, newest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn page(&self, query: &Query) -> Result<Page, LedgerError> {
        let limit = query.limit.unwrap_or(50).clamp(1, 1000);
        let mut wheres = vec!["1"];
        let mut values = Vec::new();
        if let Some(gate) = &query.gate {
            wheres.push("gate = ?");
            values.push(text(gate));
        }
        let state;
        if let Some(wanted) = query.state {
            // Written out, so that the partial index of open states serves.
            state = format!("state = '{}'", wanted.word());
            wheres.push(&state);
        }
        if let Some(wanted) = query.text.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
            wheres.push("(path LIKE '%' || ? || '%' ESCAPE '\\' OR lower(hex(sha256)) LIKE ? || '%' ESCAPE '\\')");
            let escaped = escape_like(wanted);
            values.push(text(&escaped));
            values.push(text(&escaped.to_lowercase()));
        }
        if let Some(since) = query.since {
            wheres.push("ready_at >= ?");
            values.push(Value::Integer(since.as_millisecond()));
        }
        if let Some(until) = query.until {
            wheres.push("ready_at < ?");
            values.push(Value::Integer(until.as_millisecond()));
        }
        match query.repeats {
            Some(true) => wheres.push("repeat_of IS NOT NULL"),
            Some(false) => wheres.push("repeat_of IS NULL"),
            None => {}
        }
        if let Some(cursor) = query.cursor {
            wheres.push("id < ?");
            values.push(Value::Integer(cursor));
        }
        let rest = format!("WHERE {} ORDER BY id DESC LIMIT {}", wheres.join(" AND "), limit + 1);
        let mut found = self.read(|reader| select(reader, &rest, values))?;
        let more = found.len() > limit as usize;
        found.truncate(limit as usize);
        let next = if more { found.last().map(|filing| filing.entry.id) } else { None };
        Ok(Page { entries: found.into_iter().map(|filing| filing.entry).collect(), next })
    }

    /// Changes after the one with this number, at most `limit`.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn changes_after(&self, after: i64, limit: u32) -> Result<Vec<Change>, LedgerError> {
        self.changes("WHERE h.id > ? ORDER BY h.id LIMIT ?", &[after, i64::from(limit)])
    }

    /// The newest `limit` changes, oldest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn newest_changes(&self, limit: u32) -> Result<Vec<Change>, LedgerError> {
        let mut changes = self.changes("ORDER BY h.id DESC LIMIT ?", &[i64::from(limit)])?;
        changes.reverse();
        Ok(changes)
    }

    fn changes(&self, rest: &str, values: &[i64]) -> Result<Vec<Change>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Change>> {
                let mut select = reader.prepare_cached(&format!(
                    "SELECT h.id, h.entry, h.gate, e.path, h.at, h.state, h.cause, h.words
                     FROM history h JOIN entry e ON e.id = h.entry {rest}"
                ))?;
                select.query_map(params_from_iter(values), change)?.collect()
            };
            query().map_err(reading)
        })
    }

    fn batch(&self, id: i64) -> Result<Option<Batch>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Option<Batch>> {
                let batch = reader
                    .prepare_cached(
                        "SELECT id, work, attempt, begun_at, ended_at, outcome, words,
                           (SELECT COUNT(*) FROM entry WHERE batch = batch.id AND gate = batch.gate)
                         FROM batch WHERE id = ?",
                    )?
                    .query_row([id], |row| {
                        Ok(Batch {
                            id: row.get(0)?,
                            work: row.get(1)?,
                            attempt: row.get(2)?,
                            begun_at: time(row.get(3)?),
                            ended_at: row.get::<_, Option<i64>>(4)?.map(time),
                            outcome: row.get(5)?,
                            words: row.get(6)?,
                            entries: row.get::<_, i64>(7)?.cast_unsigned(),
                            outputs: Vec::new(),
                        })
                    })
                    .optional()?;
                let Some(mut batch) = batch else { return Ok(None) };
                let mut select = reader.prepare_cached(
                    "SELECT path, mode, bytes, rows, sha256, published_at FROM output WHERE batch = ?",
                )?;
                batch.outputs = select.query_map([id], output)?.collect::<Result<_, _>>()?;
                Ok(Some(batch))
            };
            query().map_err(reading)
        })
    }

    /// Batches of a gate that were begun and not ended, with the staged file.
    pub(crate) fn unended(&self, gate: &str) -> Result<Vec<(i64, Option<String>)>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<(i64, Option<String>)>> {
                let mut select = reader.prepare_cached(
                    "SELECT DISTINCT e.batch, o.staged FROM entry e LEFT JOIN output o ON o.batch = e.batch
                     WHERE e.gate = ? AND e.state = 'working'",
                )?;
                select.query_map([gate], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
            };
            query().map_err(reading)
        })
    }

    /// Committed outputs of a gate that do not stand in their place yet.
    pub(crate) fn unpublished(&self, gate: &str) -> Result<Vec<Unpublished>, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Unpublished>> {
                let mut select = reader.prepare_cached(
                    "SELECT o.id, o.batch, o.path, o.staged, o.mode, o.base_bytes, o.inode, o.bytes
                     FROM output o JOIN batch b ON b.id = o.batch
                     WHERE o.published_at IS NULL AND o.committed_at IS NOT NULL AND b.gate = ?
                     ORDER BY o.id",
                )?;
                select
                    .query_map([gate], |row| {
                        Ok(Unpublished {
                            id: row.get(0)?,
                            batch: row.get(1)?,
                            path: row.get(2)?,
                            staged: row.get(3)?,
                            mode: row.get(4)?,
                            base_bytes: row.get::<_, i64>(5)?.cast_unsigned(),
                            inode: row.get::<_, i64>(6)?.cast_unsigned(),
                            bytes: row.get::<_, i64>(7)?.cast_unsigned(),
                        })
                    })?
                    .collect()
            };
            query().map_err(reading)
        })
    }

    /// The entry that holds this identity.
    pub(crate) fn with_identity(
        &self,
        space: &str,
        identity: &[u8],
    ) -> Result<Option<i64>, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached("SELECT id FROM entry WHERE space = ? AND identity = ?")
                .and_then(|mut select| {
                    select.query_row((space, identity), |row| row.get(0)).optional()
                })
                .map_err(reading)
        })
    }

    /// The number of the newest entry; 0 when there is none.
    pub(crate) fn newest_entry(&self) -> Result<i64, LedgerError> {
        self.read(|reader| {
            reader
                .query_row("SELECT COALESCE(MAX(id), 0) FROM entry", [], |row| row.get(0))
                .map_err(reading)
        })
    }

    /// Counts by gate and state.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn counts(&self, gate: &str) -> Result<Counts, LedgerError> {
        self.read(|reader| {
            let mut counts: Counts =
                State::ALL.into_iter().map(|state| (state.word().to_owned(), 0)).collect();
            let mut query = || -> rusqlite::Result<()> {
                let mut select =
                    reader.prepare_cached("SELECT state, count FROM tally WHERE gate = ?")?;
                let mut rows = select.query([gate])?;
                while let Some(row) = rows.next()? {
                    counts.insert(row.get(0)?, row.get::<_, i64>(1)?.max(0).cast_unsigned());
                }
                Ok(())
            };
            query().map_err(reading)?;
            Ok(counts)
        })
    }

    /// What happened at all gates since a time, in pieces of five minutes.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn activity(&self, since: Timestamp) -> Result<Vec<Slot>, LedgerError> {
        let first = since.as_millisecond().div_euclid(SLOT_MS);
        self.read(|reader| {
            let query = || -> rusqlite::Result<Vec<Slot>> {
                let mut select = reader.prepare_cached(
                    "SELECT slot, gate, kind, count FROM activity WHERE slot >= ? ORDER BY slot",
                )?;
                let slot = |row: &Row<'_>| {
                    Ok(Slot {
                        begins: time(row.get::<_, i64>(0)? * SLOT_MS),
                        gate: row.get(1)?,
                        kind: row.get(2)?,
                        count: row.get::<_, i64>(3)?.cast_unsigned(),
                    })
                };
                select.query_map([first], slot)?.collect()
            };
            query().map_err(reading)
        })
    }

    /// When the newest entry of a gate was entered.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn last_arrival(&self, gate: &str) -> Result<Option<Timestamp>, LedgerError> {
        self.read(|reader| {
            let slot: Option<i64> = reader
                .prepare_cached("SELECT MAX(slot) FROM activity WHERE gate = ? AND kind = 'entered'")
                .and_then(|mut select| select.query_row([gate], |row| row.get(0)))
                .map_err(reading)?;
            let Some(slot) = slot else { return Ok(None) };
            // The newest entries come first by number; the slot bounds the walk.
            reader
                .prepare_cached(
                    "SELECT ready_at FROM entry WHERE gate = ? AND ready_at >= ? ORDER BY id DESC LIMIT 1",
                )
                .and_then(|mut select| {
                    select.query_row((gate, slot * SLOT_MS), |row| row.get(0)).optional()
                })
                .map(|millis: Option<i64>| millis.map(time))
                .map_err(reading)
        })
    }

    /// Whether a person has paused the gate.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn paused(&self, gate: &str) -> Result<bool, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached("SELECT paused FROM gate_setting WHERE gate = ?")
                .and_then(|mut select| select.query_row([gate], |row| row.get(0)).optional())
                .map(|paused| paused.unwrap_or(false))
                .map_err(reading)
        })
    }

    /// Whether something committed for an output does not stand in it yet.
    pub(crate) fn pending_output(&self, path: &str) -> Result<bool, LedgerError> {
        self.read(|reader| {
            reader
                .prepare_cached(
                    "SELECT COUNT(*) FROM output WHERE path = ? AND published_at IS NULL AND committed_at IS NOT NULL",
                )
                .and_then(|mut select| select.query_row([path], |row| row.get::<_, i64>(0)))
                .map(|count| count > 0)
                .map_err(reading)
        })
    }
}

fn change(row: &Row<'_>) -> rusqlite::Result<Change> {
    let state: String = row.get(5)?;
    let cause: String = row.get(6)?;
    Ok(Change {
        id: row.get(0)?,
        entry: row.get(1)?,
        gate: row.get(2)?,
        path: row.get(3)?,
        at: time(row.get(4)?),
        state: State::of(&state).unwrap_or(State::Held),
        cause: Cause::of(&cause).unwrap_or(Cause::Pass),
        words: row.get(7)?,
    })
}

fn output(row: &Row<'_>) -> rusqlite::Result<Output> {
    Ok(Output {
        path: row.get(0)?,
        mode: row.get(1)?,
        bytes: row.get::<_, Option<i64>>(2)?.map(i64::cast_unsigned),
        rows: row.get::<_, Option<i64>>(3)?.map(i64::cast_unsigned),
        sha256: row.get::<_, Option<Vec<u8>>>(4)?.map(|sum| hex(&sum)),
        published_at: row.get::<_, Option<i64>>(5)?.map(time),
    })
}

fn escape_like(text: &str) -> String {
    text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")
}
