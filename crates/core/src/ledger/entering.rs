//! Entering settled versions: a new entry, a repeat, or the same one touched.

use rusqlite::{OptionalExtension, params};

use super::doings::{as_i64, gone_one, set, step_and};
use super::writer::{Ticket, Tx};
use super::{Cause, Ledger, LedgerError, State, writing};
use crate::arrivals::Version;
use crate::pattern::Fields;

/// A settled version that is to be entered.
#[derive(Debug, Clone)]
pub(crate) struct NewEntry {
    pub gate: String,
    pub drop_folder: String,
    pub path: String,
    pub version: Version,
    pub sha256: [u8; 32],
    pub fields: Fields,
    /// When it was first noticed, in milliseconds.
    pub seen_at: i64,
    /// The identity space, and the identity in it.
    pub space: String,
    pub identity: Vec<u8>,
    /// The entry of an earlier version that still lay at this path.
    pub replaces: Option<i64>,
    /// The gate has no work: the entry is worked as it is entered.
    pub nothing_to_work: bool,
    /// It is held from the start, for this reason.
    pub held: Option<String>,
}

/// Decides where an entry is to be moved, given its number; an error holds it.
pub(crate) type Target =
    std::sync::Arc<dyn Fn(&NewEntry, i64) -> Result<Option<String>, String> + Send + Sync>;

/// What became of a version that was to be entered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Entered {
    /// A new entry in this state, to be moved to the target when it is worked
    /// or a repeat.
    New {
        id: i64,
        state: State,
        target: Option<String>,
        /// It can be filed at once.
        fileable: bool,
    },
    /// The file was touched, but its content is that of its entry.
    Touched { id: i64 },
}

impl Ledger {
    /// Enters settled versions.
    pub(crate) fn enter(
        &self,
        entries: Vec<NewEntry>,
        target: Target,
    ) -> Result<Ticket<Vec<(NewEntry, Entered)>>, LedgerError> {
        self.submit(move |tx| {
            let mut id: i64 = tx
                .connection
                .query_row("SELECT COALESCE(MAX(id), 0) FROM entry", [], |row| row.get(0))
                .map_err(writing)?;
            let mut entered = Vec::with_capacity(entries.len());
            for new in entries {
                let outcome = enter_one(tx, id + 1, &new, &target)?;
                if matches!(outcome, Entered::New { .. }) {
                    id += 1;
                }
                entered.push((new, outcome));
            }
            Ok(entered)
        })
    }
}

fn enter_one(
    tx: &mut Tx<'_>,
    id: i64,
    new: &NewEntry,
    target: &Target,
) -> Result<Entered, LedgerError> {
    if let Some(old) = new.replaces
        && let Some(outcome) = replace(tx, old, new)?
    {
        return Ok(outcome);
    }
    let place = if new.nothing_to_work { target(new, id) } else { Ok(None) };
    // What needs no work and has a place to go is worked by being entered.
    let row = match &place {
        Ok(place) if new.nothing_to_work && new.held.is_none() => Row {
            state: State::Worked,
            identity: Some(&new.identity),
            repeat_of: None,
            target: place.clone(),
        },
        _ => Row {
            state: State::Ready,
            identity: Some(&new.identity),
            repeat_of: None,
            target: None,
        },
    };
    if !insert(tx, id, new, &row)? {
        return enter_repeat(tx, id, new, target);
    }
    entered(tx, id, new, row.state, "settled")?;
    match (&new.held, place) {
        (Some(reason), _) => hold_new(tx, id, reason),
        (None, Err(reason)) => hold_new(tx, id, &reason),
        (None, Ok(target)) => {
            let fileable = row.state == State::Worked;
            Ok(Entered::New { id, state: row.state, target, fileable })
        }
    }
}

/// Enters a version whose identity another entry holds.
fn enter_repeat(
    tx: &mut Tx<'_>,
    id: i64,
    new: &NewEntry,
    target: &Target,
) -> Result<Entered, LedgerError> {
    let (first, state): (i64, String) = tx
        .connection
        .prepare_cached("SELECT id, state FROM entry WHERE space = ? AND identity = ?")
        .and_then(|mut select| {
            select.query_row(params![new.space, new.identity], |row| Ok((row.get(0)?, row.get(1)?)))
        })
        .map_err(writing)?;
    // A repeat cannot be held; without a target it stays where it is.
    let target = target(new, id).unwrap_or(None);
    let row = Row {
        state: State::Repeat,
        identity: None,
        repeat_of: Some(first),
        target: target.clone(),
    };
    insert(tx, id, new, &row)?;
    let words = format!("settled: the same as entry {first}, not worked again");
    entered(tx, id, new, State::Repeat, &words)?;
    let first_waits = matches!(State::of(&state), Some(State::Ready | State::Working));
    Ok(Entered::New { id, state: State::Repeat, target, fileable: !first_waits })
}

/// Counts and tells of a row that was just inserted. Between ready and worked
/// nothing happens where there is no work: the history has one line for both.
fn entered(
    tx: &mut Tx<'_>,
    id: i64,
    new: &NewEntry,
    state: State,
    words: &str,
) -> Result<(), LedgerError> {
    tx.happened(&new.gate, "entered");
    tx.count(&new.gate, None, state);
    let told = if state == State::Worked { State::Ready } else { state };
    tx.tell(id, &new.gate, told, Cause::Pass, words)
}

/// What is inserted of a new entry beside what is known of its file.
struct Row<'a> {
    state: State,
    identity: Option<&'a [u8]>,
    repeat_of: Option<i64>,
    target: Option<String>,
}

/// Ends the entry of an earlier version at the same path, unless the content
/// is the same: then that entry goes on with the new version.
fn replace(tx: &mut Tx<'_>, old: i64, new: &NewEntry) -> Result<Option<Entered>, LedgerError> {
    let found: Option<(String, Vec<u8>)> = tx
        .connection
        .query_row("SELECT state, sha256 FROM entry WHERE id = ? AND in_drop = 1", [old], |row| {
            Ok((row.get(0)?, row.get(1)?))
        })
        .optional()
        .map_err(writing)?;
    let Some((state, sha256)) = found else { return Ok(None) };
    if sha256 == new.sha256 {
        tx.connection
            .execute(
                "UPDATE entry SET modified_ns = ?, inode = ? WHERE id = ?",
                params![new.version.modified_ns, as_i64(new.version.inode), old],
            )
            .map_err(writing)?;
        return Ok(Some(Entered::Touched { id: old }));
    }
    if State::of(&state).is_some_and(|state| state.may_become(State::Gone)) {
        gone_one(tx, old, Cause::Pass, "replaced in the drop folder by another version")?;
    } else {
        set(tx.connection, "UPDATE entry SET in_drop = ?2 WHERE id = ?1", old, 0)?;
    }
    Ok(None)
}

/// Inserts the row; false when its identity is taken.
fn insert(tx: &mut Tx<'_>, id: i64, new: &NewEntry, row: &Row<'_>) -> Result<bool, LedgerError> {
    let fields = serde_json::to_string(&new.fields).unwrap_or_else(|_| "{}".into());
    let worked_at = (row.state == State::Worked).then_some(tx.now);
    let write = || -> rusqlite::Result<usize> {
        tx.connection
            .prepare_cached(
                "INSERT INTO entry (id, gate, drop_folder, path, bytes, modified_ns, inode, sha256, state,
                   fields, seen_at, ready_at, worked_at, target, in_drop, repeat_of, space, identity)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 1, ?, ?, ?)
                 ON CONFLICT (space, identity) WHERE identity IS NOT NULL DO NOTHING",
            )?
            .execute(params![
                id,
                new.gate,
                new.drop_folder,
                new.path,
                as_i64(new.version.bytes),
                new.version.modified_ns,
                as_i64(new.version.inode),
                new.sha256,
                row.state.word(),
                fields,
                new.seen_at,
                tx.now,
                worked_at,
                row.target,
                row.repeat_of,
                new.space,
                row.identity
            ])
    };
    Ok(write().map_err(writing)? == 1)
}

fn hold_new(tx: &mut Tx<'_>, id: i64, reason: &str) -> Result<Entered, LedgerError> {
    let update = "UPDATE entry SET state = ?2, reason = ?3 WHERE id = ?1";
    step_and(tx, id, State::Held, Cause::Pass, reason, update, &[&reason])?;
    Ok(Entered::New { id, state: State::Held, target: None, fileable: false })
}
