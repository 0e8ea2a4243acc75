//! Filters of the ledger, and the way in which SQLite finds what they ask for.
//!
//! A ledger may have ten million entries, and SQLite knows nothing of how they
//! spread over gates, states and days. The tallies do: by them it is told whether
//! to go by an index or along the entries.

use jiff::Timestamp;
use rusqlite::types::Value;
use rusqlite::{Connection, params_from_iter};

use crate::files::sha256::Sha256;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::rows::{escape_like, text};
use crate::ledger::state::State;
use crate::ledger::types::{Moment, Query, Sort};
use crate::ledger::writer::SLOT_MS;
use crate::pattern::Pattern;

/// Up to so many entries are sorted rather than walked along.
const FEW: i64 = 50_000;

/// Name of the SQL function that tries a pattern on a path.
const FITS: &str = "vadegate_fits";

/// A filter as SQL.
pub(crate) struct Filter {
    /// What follows `FROM entry`, up to and without `ORDER BY`.
    pub wheres: String,
    pub values: Vec<Value>,
}

/// Adds what filters need to a reading connection.
pub(crate) fn prepare(connection: &Connection) -> rusqlite::Result<()> {
    use rusqlite::functions::FunctionFlags;
    type Failed = Box<dyn std::error::Error + Send + Sync>;
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    connection.create_scalar_function(FITS, 2, flags, |context| {
        let pattern = context.get_or_create_aux(0, |value| -> Result<Pattern, Failed> {
            Ok(Pattern::parse(value.as_str()?, false)?)
        })?;
        let path = context
            .get_raw(1)
            .as_str()
            .map_err(|error| rusqlite::Error::UserFunctionError(Box::new(error)))?;
        Ok(pattern.is_match(path))
    })
}

impl Filter {
    /// The filter that a query asks for.
    pub fn of(reader: &Connection, query: &Query) -> Result<Self, LedgerError> {
        let mut parts = Parts::default();
        by_identity(query, &mut parts)?;
        by_name(query, &mut parts)?;
        by_time(reader, query, &mut parts)?;
        if let Some(above) = query.above {
            parts.add("id > ?", [Value::Integer(above.number())]);
        }
        match query.repeats {
            Some(true) => parts.add("repeat_of IS NOT NULL", []),
            Some(false) => parts.add("repeat_of IS NULL", []),
            None => {}
        }
        if query.forgotten == Some(true) {
            parts.add("forgotten = 1", []);
        }
        let way = way(reader, query, &mut parts)?;
        let wheres = if parts.wheres.is_empty() { "1".into() } else { parts.wheres.join(" AND ") };
        Ok(Filter { wheres: format!("{way} WHERE {wheres}"), values: parts.values })
    }

    /// How many entries fit.
    pub fn count(&self, reader: &Connection) -> Result<u64, LedgerError> {
        reader
            .prepare_cached(&format!("SELECT COUNT(*) FROM entry {}", self.wheres))
            .and_then(|mut select| {
                select.query_row(params_from_iter(&self.values), |row| row.get::<_, i64>(0))
            })
            .map(i64::cast_unsigned)
            .map_err(reading)
    }
}

/// `ORDER BY` and what follows, for one page and one more entry.
pub(crate) fn order(query: &Query, limit: u32) -> String {
    let column = match query.sort {
        None | Some(Sort::Entered) => {
            let (below, direction) = if query.oldest_first { (">", "ASC") } else { ("<", "DESC") };
            let cursor = query.cursor.map(|at| format!(" AND id {below} {at}")).unwrap_or_default();
            return format!("{cursor} ORDER BY id {direction} LIMIT {}", limit + 1);
        }
        Some(Sort::Modified) => "modified_ns",
        Some(Sort::Worked) => "worked_at",
        Some(Sort::Filed) => "filed_at",
        Some(Sort::Size) => "bytes",
        Some(Sort::Name) => "path",
    };
    let direction = if query.oldest_first { "ASC" } else { "DESC" };
    let offset = query.cursor.unwrap_or(0).max(0);
    format!(" ORDER BY {column} {direction}, id {direction} LIMIT {} OFFSET {offset}", limit + 1)
}

#[derive(Default)]
struct Parts {
    wheres: Vec<String>,
    values: Vec<Value>,
}

impl Parts {
    fn add(&mut self, wheres: &str, values: impl IntoIterator<Item = Value>) {
        self.wheres.push(wheres.to_owned());
        self.values.extend(values);
    }
}

/// What narrows it to few entries by itself.
fn by_identity(query: &Query, parts: &mut Parts) -> Result<(), LedgerError> {
    if let Some(text) = &query.ids {
        const MOST: usize = 1000;
        let ids: Result<Vec<i64>, _> = text.split(',').map(|id| id.trim().parse()).collect();
        let ids = ids.ok().filter(|ids| ids.len() <= MOST).ok_or_else(|| {
            LedgerError::Question(format!(
                "`ids` is \"{text}\"; expected at most {MOST} numbers of entries, separated by commas"
            ))
        })?;
        let ids: Vec<String> = ids.iter().map(ToString::to_string).collect();
        parts.add(&format!("id IN ({})", ids.join(", ")), []);
    }
    if let Some(sum) = &query.sum {
        let sum = Sha256::from_hex(sum.trim()).ok_or_else(|| {
            LedgerError::Question(format!(
                "`{sum}` is no SHA-256; expected 64 hexadecimal digits, as sha256sum prints them"
            ))
        })?;
        parts.add(
            "id IN (SELECT id FROM entry WHERE space IN (SELECT name FROM space) AND identity = ?
                      AND sha256 = identity
                    UNION SELECT id FROM entry WHERE sha256 = ? AND identity IS NOT sha256)",
            [Value::Blob(sum.bytes().to_vec()), Value::Blob(sum.bytes().to_vec())],
        );
    }
    if let Some(output) = &query.output {
        let rest = "id IN (SELECT p.entry FROM output o JOIN part p ON p.batch = o.batch
                           WHERE o.path = ? AND o.committed_at IS NOT NULL
                             AND COALESCE(o.entry, p.entry) = p.entry)";
        parts.add(rest, [text(output)]);
    }
    if let Some(batch) = query.batch {
        let rest = "id IN (SELECT entry FROM part WHERE batch = ?)";
        parts.add(rest, [Value::Integer(batch.number())]);
    }
    Ok(())
}

fn by_name(query: &Query, parts: &mut Parts) -> Result<(), LedgerError> {
    if let Some(gate) = &query.gate {
        parts.add("gate = ?", [text(gate)]);
    }
    if let Some(state) = query.state {
        // Written out, so that the partial indexes serve.
        parts.add(&format!("state = '{}'", state.word()), []);
    }
    if let Some(wanted) = query.text.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
        let escaped = escape_like(wanted);
        let lower = text(&escaped.to_lowercase());
        parts.add(
            "(path LIKE '%' || ? || '%' ESCAPE '\\' OR lower(hex(sha256)) LIKE ? || '%' ESCAPE '\\')",
            [text(&escaped), lower],
        );
    }
    if let Some(pattern) = &query.path {
        Pattern::parse(pattern, false).map_err(|error| LedgerError::Question(error.to_string()))?;
        parts.add(&format!("{FITS}(?, path)"), [text(pattern)]);
    }
    for pair in query.field.iter().flat_map(|pairs| pairs.split(',')) {
        let Some((name, value)) = pair.split_once('=') else {
            return Err(LedgerError::Question(format!(
                "`{pair}` is no field with its value; expected NAME=VALUE, such as station=ullin"
            )));
        };
        let path = format!("$.\"{}\"", name.trim().replace('"', ""));
        let values = [text(&path), text(value.trim())];
        parts.add("json_extract(fields, ?) = ? COLLATE NOCASE", values);
    }
    Ok(())
}

fn by_time(reader: &Connection, query: &Query, parts: &mut Parts) -> Result<(), LedgerError> {
    let moment = query.time.unwrap_or(Moment::Entered);
    let column = match moment {
        Moment::Seen => "seen_at",
        Moment::Entered => "ready_at",
        Moment::Worked => "worked_at",
        Moment::Filed => "filed_at",
    };
    if let Some(since) = query.since {
        parts.add(&format!("{column} >= ?"), [Value::Integer(since.as_millisecond())]);
    }
    if let Some(until) = query.until {
        parts.add(&format!("{column} < ?"), [Value::Integer(until.as_millisecond())]);
    }
    if moment == Moment::Entered && (query.since.is_some() || query.until.is_some()) {
        let slot = |at: Timestamp| at.as_millisecond().div_euclid(SLOT_MS);
        let from = query.since.map_or(i64::MIN, slot);
        let to = query.until.map_or(i64::MAX, slot);
        // Also with a clock that was set back, no entry of these slots is outside.
        let (first, last): (Option<i64>, Option<i64>) = reader
            .prepare_cached("SELECT MIN(first), MAX(last) FROM span WHERE slot BETWEEN ? AND ?")
            .and_then(|mut select| {
                select.query_row([from, to], |row| Ok((row.get(0)?, row.get(1)?)))
            })
            .map_err(reading)?;
        let (first, last) = (first.unwrap_or(1), last.unwrap_or(0));
        parts.add("id BETWEEN ? AND ?", [Value::Integer(first), Value::Integer(last)]);
    }
    Ok(())
}

/// By which index the entries are found.
fn way(reader: &Connection, query: &Query, parts: &mut Parts) -> Result<&'static str, LedgerError> {
    let found = query.sum.is_some() || query.output.is_some() || query.batch.is_some();
    if found || query.ids.is_some() {
        return Ok("");
    }
    if query.above.is_some() {
        return Ok("NOT INDEXED");
    }
    let gate = query.gate.as_deref();
    let count = tally(reader, gate, query.state)?;
    let open = |state| {
        matches!(state, State::Ready | State::Working | State::Worked | State::Repeat | State::Held)
    };
    let rare = |state| matches!(state, State::Gone | State::Adopted | State::PassedOver);
    let few = count < FEW;
    Ok(match (gate, query.state) {
        (Some(_), Some(state)) if few && open(state) => "INDEXED BY entry_open",
        (Some(_), Some(state)) if few && rare(state) => "INDEXED BY entry_rare",
        (Some(_), _) if tally(reader, gate, None)? < FEW => "INDEXED BY entry_path",
        (None, Some(state)) if few && (open(state) || rare(state)) => {
            parts.add("gate IN (SELECT gate FROM tally)", []);
            if open(state) { "INDEXED BY entry_open" } else { "INDEXED BY entry_rare" }
        }
        _ => "NOT INDEXED",
    })
}

/// How many entries a gate, or all, has in a state, or in all.
pub(crate) fn tally(
    reader: &Connection,
    gate: Option<&str>,
    state: Option<State>,
) -> Result<i64, LedgerError> {
    reader
        .prepare_cached(
            "SELECT COALESCE(SUM(count), 0) FROM tally
             WHERE (?1 IS NULL OR gate = ?1) AND (?2 IS NULL OR state = ?2)",
        )
        .and_then(|mut select| select.query_row((gate, state.map(State::word)), |row| row.get(0)))
        .map_err(reading)
}
