//! Entering settled versions: a new entry, a repeat, or the same one touched.

use std::borrow::Cow;

use rusqlite::{OptionalExtension, params};

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::happenings::NewHappening;
use crate::ledger::identity::{First, holder, kept};
use crate::ledger::ids::EntryId;
use crate::ledger::inserting::{Row, insert, replace};
use crate::ledger::new_entry::{HandedIn, NewEntry, Target};
use crate::ledger::remotes;
use crate::ledger::requests::FileTarget;
use crate::ledger::state::{Cause, State};
use crate::ledger::transitions::{set, step_and};
use crate::ledger::types::PickMark;
use crate::ledger::writer::{Ticket, Tx};
use crate::pattern::Fields;

/// What became of a version that was to be entered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Entered {
    /// A new entry in this state, to be moved to the target when it is worked
    /// or a repeat.
    New {
        id: EntryId,
        state: State,
        target: Option<FileTarget>,
        /// It can be filed at once.
        fileable: bool,
    },
    /// The file was touched, but its content is that of its entry.
    Touched { id: EntryId },
}

impl Ledger {
    /// Enters settled versions.
    pub(crate) fn enter(
        &self,
        entries: Vec<NewEntry>,
        target: Target,
    ) -> Result<Ticket<Vec<(NewEntry, Entered)>>, LedgerError> {
        self.submit_many(entries.len(), move |tx| {
            let mut id: EntryId = tx
                .one("SELECT COALESCE(MAX(id), 0) FROM entry", [], |row| row.get(0))
                .map_err(writing)?;
            let mut entered = Vec::with_capacity(entries.len());
            for new in entries {
                let outcome = enter_one(tx, id.after(), &new, &target)?;
                if matches!(outcome, Entered::New { .. }) {
                    id = id.after();
                }
                entered.push((new, outcome));
            }
            entered.iter_mut().try_for_each(|(_, outcome)| look_again(tx, outcome))?;
            Ok(entered)
        })
    }

    /// Ends the entries that these versions replace, where their content is another.
    pub(crate) fn end_replaced(&self, entries: Vec<NewEntry>) -> Result<(), LedgerError> {
        self.submit_many(entries.len(), move |tx| {
            for new in &entries {
                if let Some(old) = new.replaces {
                    replace(tx, old, new)?;
                }
            }
            Ok(())
        })?
        .wait()
    }
}

/// A repeat may have taken the place of its first, which a later version of the same
/// piece has ended: then it is not filed but worked.
fn look_again(tx: &Tx<'_>, outcome: &mut Entered) -> Result<(), LedgerError> {
    let Entered::New { id, state: state @ State::Repeat, fileable: fileable @ true, .. } = outcome
    else {
        return Ok(());
    };
    let now: String = tx
        .connection
        .prepare_cached("SELECT state FROM entry WHERE id = ?")
        .and_then(|mut select| select.query_row([*id], |row| row.get(0)))
        .map_err(writing)?;
    *state = State::of(&now).unwrap_or(*state);
    *fileable = *state == State::Repeat;
    Ok(())
}

/// Why a file is held as it is entered, if it is.
fn held_because(new: &NewEntry, revision_of: Option<&(EntryId, bool)>) -> Option<String> {
    match (&new.held, revision_of) {
        (Some(reason), _) => Some(reason.clone()),
        (None, Some((earlier, true))) if new.policy.hold_revisions => Some(format!(
            "a revision: entry {earlier} of the same name had other content and was worked"
        )),
        _ => None,
    }
}

fn enter_one(
    tx: &mut Tx<'_>,
    id: EntryId,
    new: &NewEntry,
    target: &Target,
) -> Result<Entered, LedgerError> {
    if let Some(old) = new.replaces
        && let Some(id) = replace(tx, old, new)?
    {
        return Ok(Entered::Touched { id });
    }
    if let Some(words) = &new.passed_over {
        return enter_passed_over(tx, id, new, target, words);
    }
    if let Some(mark) = &new.mark {
        remember(tx, &new.gate, mark)?;
    }
    let place = if new.nothing_to_work { target(new, id, false) } else { Ok(None) };
    let revision_of = predecessor(tx, new)?;
    let held = held_because(new, revision_of.as_ref());
    // What needs no work and has a place to go is worked by being entered.
    let (state, to) = match &place {
        Ok(place) if new.nothing_to_work && held.is_none() => (State::Worked, place.clone()),
        _ => (State::Ready, None),
    };
    let row = Row {
        state,
        identity: Some(&new.identity),
        repeat_of: None,
        revision_of: revision_of.map(|(earlier, _)| earlier),
        target: to,
    };
    if let Some(kept) = kept(tx, new)? {
        return enter_repeat(tx, id, new, target, &kept);
    }
    let mut words = Cow::Borrowed("settled");
    if !insert(tx, id, new, &row)? {
        let Some(first) = holder(tx, new)? else {
            return Err(writing(rusqlite::Error::QueryReturnedNoRows));
        };
        if !first.is_over(new.policy.once_for_ms, tx.now) {
            return enter_repeat(tx, id, new, target, &first);
        }
        let free = "UPDATE entry SET identity = NULL WHERE id = ?1 AND ?2 = ?2";
        set(tx.connection, free, first.entry, 0)?;
        insert(tx, id, new, &row)?;
        words = format!("settled: the time of entry {}, which was the same, is over", first.entry)
            .into();
    }
    entered(tx, id, new, row.state, &words)?;
    tell_unusual(tx, id, new)?;
    match (&held, place) {
        (Some(reason), _) => hold_new(tx, id, reason),
        (None, Err(reason)) => hold_new(tx, id, &reason.to_string()),
        (None, Ok(target)) => {
            let fileable = row.state == State::Worked;
            Ok(Entered::New { id, state: row.state, target, fileable })
        }
    }
}

/// That a file is far from what its gate is used to.
fn tell_unusual(tx: &mut Tx<'_>, id: EntryId, new: &NewEntry) -> Result<(), LedgerError> {
    let Some(words) = &new.unusual else { return Ok(()) };
    let (about, subject, words) = (new.gate.clone(), new.path.clone(), words.clone());
    let kind = "unusual";
    tx.happens(&NewHappening { kind, about, subject, words, entry: Some(id), lasts: false })?;
    Ok(())
}

/// The entry of the same path before it, which had other content, and whether that
/// was worked.
pub(crate) fn predecessor(
    tx: &Tx<'_>,
    new: &NewEntry,
) -> Result<Option<(EntryId, bool)>, LedgerError> {
    tx.connection
        .prepare_cached(
            "SELECT id, worked_at IS NOT NULL OR state = 'adopted' FROM entry
             WHERE gate = ? AND path = ? AND drop_folder = ? AND sha256 <> ? AND state <> 'gone'
             ORDER BY id DESC LIMIT 1",
        )
        .and_then(|mut select| {
            let values = params![new.gate, new.path, new.drop_folder, new.sha256];
            select.query_row(values, |row| Ok((row.get(0)?, row.get(1)?))).optional()
        })
        .map_err(writing)
}

/// Enters a version that is not worked because others were picked. It takes no
/// identity: when it is the one that is wanted, one day, it can still be worked.
fn enter_passed_over(
    tx: &mut Tx<'_>,
    id: EntryId,
    new: &NewEntry,
    target: &Target,
    words: &str,
) -> Result<Entered, LedgerError> {
    if let Some(first) = First::of(tx, new)? {
        return enter_repeat(tx, id, new, target, &first);
    }
    let target = if new.others_filed { target(new, id, false).unwrap_or(None) } else { None };
    let row = Row {
        state: State::PassedOver,
        identity: None,
        repeat_of: None,
        revision_of: None,
        target: target.clone(),
    };
    insert(tx, id, new, &row)?;
    tx.run("UPDATE entry SET reason = ? WHERE id = ?", params![words, id]).map_err(writing)?;
    entered(tx, id, new, State::PassedOver, words)?;
    let fileable = target.is_some();
    Ok(Entered::New { id, state: State::PassedOver, target, fileable })
}

fn remember(tx: &Tx<'_>, gate: &str, mark: &PickMark) -> Result<(), LedgerError> {
    tx.connection
        .prepare_cached(
            "INSERT INTO pick_mark (gate, part, modified_ns) VALUES (?1, ?2, ?3)
             ON CONFLICT DO UPDATE SET modified_ns = MAX(modified_ns, ?3)",
        )
        .and_then(|mut insert| insert.execute(params![gate, mark.part, mark.modified_ns]))
        .map_err(writing)?;
    Ok(())
}

/// Enters a version whose identity another entry holds.
fn enter_repeat(
    tx: &mut Tx<'_>,
    id: EntryId,
    new: &NewEntry,
    target: &Target,
    first: &First,
) -> Result<Entered, LedgerError> {
    // Without a target it stays where it is.
    let target = target(new, id, true).unwrap_or(None);
    let row = Row {
        state: State::Repeat,
        identity: None,
        repeat_of: Some(first.entry),
        revision_of: None,
        target: target.clone(),
    };
    insert(tx, id, new, &row)?;
    let differs = differs(tx, new, first.entry)?;
    let words = format!("settled: the same as entry {}, not worked again{differs}", first.entry);
    entered(tx, id, new, State::Repeat, &words)?;
    if new.policy.hold_repeats {
        return hold_new(tx, id, &format!("a repeat: it is the same as entry {}", first.entry));
    }
    let open = match first.state {
        Some(State::Ready | State::Working) => true,
        // Deleted for good only when the first is worked and filed for good.
        Some(State::Worked | State::Held) => new.policy.delete_repeats,
        _ => false,
    };
    Ok(Entered::New { id, state: State::Repeat, target, fileable: !open })
}

/// In what of its name a repeat differs from its first, in words: the meaning of its rows
/// may be there.
fn differs(tx: &Tx<'_>, new: &NewEntry, first: EntryId) -> Result<String, LedgerError> {
    if new.fields.is_empty() {
        return Ok(String::new());
    }
    let fields: Option<String> = tx
        .connection
        .prepare_cached("SELECT fields FROM entry WHERE id = ?")
        .and_then(|mut select| select.query_row([first], |row| row.get(0)).optional())
        .map_err(writing)?;
    let of_first: Fields =
        fields.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default();
    let other = new.fields.iter().filter_map(|(name, value)| {
        let before = of_first.get(name)?;
        (before != value).then(|| format!("{name} (`{before}` then, `{value}` now)"))
    });
    let other: Vec<String> = other.collect();
    Ok(if other.is_empty() {
        String::new()
    } else {
        format!("; it differs in {}", other.join(", "))
    })
}

/// Counts and tells of a row that was just inserted. Between ready and worked
/// nothing happens where there is no work: the history has one line for both.
fn entered(
    tx: &mut Tx<'_>,
    id: EntryId,
    new: &NewEntry,
    state: State,
    words: &str,
) -> Result<(), LedgerError> {
    tx.happened(&new.gate, "entered");
    tx.uses_space(&new.space);
    tx.entered(id);
    tx.count(&new.gate, None, state);
    let told = if state == State::Worked { State::Ready } else { state };
    let Some(HandedIn { upload, who, .. }) = &new.handed_in else {
        return tx.tell(id, &new.gate, told, Cause::Pass, words);
    };
    let fetched = remotes::entered(tx.connection, *upload, id, tx.now)?;
    let how = match fetched {
        Some(from) => format!("fetched from {from}"),
        None => format!("handed in by {who}"),
    };
    let words = words.replacen("settled", &how, 1);
    tx.tell(id, &new.gate, told, Cause::Pass, &words)?;
    tx.run("UPDATE upload SET entry = ?2, at = ?3 WHERE id = ?1", params![upload, id, tx.now])
        .map(drop)
        .map_err(writing)
}

fn hold_new(tx: &mut Tx<'_>, id: EntryId, reason: &str) -> Result<Entered, LedgerError> {
    let update = "UPDATE entry SET state = ?2, reason = ?3 WHERE id = ?1";
    step_and(tx, id, State::Held, Cause::Pass, reason, update, &[&reason])?;
    Ok(Entered::New { id, state: State::Held, target: None, fileable: false })
}
