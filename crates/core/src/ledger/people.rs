//! What people do to entries. Each doing names the person and the reason, and both
//! stand in the history.

use rusqlite::{OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::files::version::Version;
use crate::ledger::Ledger;
use crate::ledger::adopting::insert_adopted;
use crate::ledger::error::{LedgerError, writing};
use crate::ledger::identity::First;
use crate::ledger::ids::EntryId;
use crate::ledger::inserting::replace;
use crate::ledger::new_entry::NewEntry;
use crate::ledger::requests::FileTarget;
use crate::ledger::state::{Cause, State};
use crate::ledger::transitions::{as_i64, gone_one, step_and};
use crate::ledger::writer::Tx;
use crate::ledger::writes::HOWEVER_MANY;

/// A person, and why they do what they do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct By {
    /// Who.
    pub who: String,
    /// Why.
    pub why: String,
}

/// What became of a file that was to be adopted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Adopted {
    /// It is an entry now.
    New(EntryId),
    /// It lay there with an entry already.
    Known(EntryId),
    /// It is the same as this entry, which was worked.
    Repeat(EntryId),
}

impl Ledger {
    /// Has an entry worked again. Its file was seen as `version`, at the place `unpacked`
    /// where it was compressed before; `identity` is taken again by an entry that was
    /// passed over.
    pub(crate) fn work_again(
        &self,
        entry: EntryId,
        version: Version,
        unpacked: Option<String>,
        identity: Option<Vec<u8>>,
        by: By,
    ) -> Result<(), LedgerError> {
        self.by(by, move |tx, why| {
            if let Some(place) = &unpacked {
                tx.run(
                        "UPDATE entry SET source = ?2, packing = NULL, filed_bytes = content_bytes,
                           filed_sha256 = content_sha256, content_bytes = NULL, content_sha256 = NULL
                         WHERE id = ?1",
                        params![entry, place],
                    )
                    .map_err(writing)?;
            }
            let held = state_of(tx, entry)? == Some(State::Held);
            let words = if held { "released, to be worked again" } else { "reopened" };
            let update = "UPDATE entry SET state = ?2, modified_ns = ?3, inode = ?4, changed_ns = ?5, tries = 0,
                 not_before = NULL, reason = NULL, forgotten = 0,
                 source = CASE WHEN in_drop THEN NULL ELSE COALESCE(source, target) END,
                 target = NULL WHERE id = ?1";
            let (modified, inode) = (version.modified_ns, as_i64(version.inode));
            let words = format!("{words}: {why}");
            let values: [&dyn rusqlite::ToSql; 3] = [&modified, &inode, &version.changed_ns];
            step_and(tx, entry, State::Ready, Cause::Person, &words, update, &values)?;
            match identity {
                Some(identity) => take_identity(tx, entry, &identity),
                None => Ok(()),
            }
        })
    }

    /// Has a held entry filed as it is, without work.
    pub(crate) fn file_as_it_is(
        &self,
        entry: EntryId,
        version: Version,
        target: Option<FileTarget>,
        by: By,
    ) -> Result<(), LedgerError> {
        self.by(by, move |tx, why| {
            let update = "UPDATE entry SET state = ?2, modified_ns = ?3, inode = ?4, changed_ns = ?6, reason = NULL,
                 source = CASE WHEN in_drop THEN NULL ELSE COALESCE(source, target) END,
                 target = ?5, packing = ?7 WHERE id = ?1";
            let (modified, inode) = (version.modified_ns, as_i64(version.inode));
            let words = format!("released, to be filed as it is: {why}");
            let path = target.as_ref().map(|target| &target.path);
            let packing = target.as_ref().and_then(|target| target.packing);
            let values: [&dyn rusqlite::ToSql; 5] =
                [&modified, &inode, &path, &version.changed_ns, &packing];
            step_and(tx, entry, State::Worked, Cause::Person, &words, update, &values)?;
            Ok(())
        })
    }

    /// Records that a person had the file of a held entry deleted.
    pub(crate) fn deleted(&self, entry: EntryId, by: By) -> Result<(), LedgerError> {
        self.by(by, move |tx, why| {
            let words = format!("deleted: {why}");
            if state_of(tx, entry)? != Some(State::Gone) {
                return gone_one(tx, entry, Cause::Person, &words);
            }
            // The gate was quicker to see that the file is gone; now it is told why.
            let gate: String = tx
                .one(
                    "UPDATE entry SET reason = ?2 WHERE id = ?1 RETURNING gate",
                    params![entry, words],
                    |row| row.get(0),
                )
                .map_err(writing)?;
            tx.tell(entry, &gate, State::Gone, Cause::Person, &words)
        })
    }

    /// Writes what a person had done into the history of an entry, whose state stays.
    pub(crate) fn noted(&self, entry: EntryId, words: String, by: By) -> Result<(), LedgerError> {
        self.by(by, move |tx, _| {
            let select = "SELECT gate FROM entry WHERE id = ?";
            let gate: String = tx.one(select, [entry], |row| row.get(0)).map_err(writing)?;
            let state = state_of(tx, entry)?.unwrap_or(State::Filed);
            tx.tell(entry, &gate, state, Cause::Person, &words)
        })
    }

    /// Marks an entry as forgotten: it stays, and its identity counts no more.
    pub(crate) fn forget(&self, entry: EntryId, by: By) -> Result<(), LedgerError> {
        self.by(by, move |tx, why| {
            let state = state_of(tx, entry)?;
            let ended = state.filter(|state| {
                matches!(state, State::Filed | State::Adopted | State::PassedOver | State::Gone)
            });
            let Some(state) = ended else {
                let from = state.map_or("not there", State::word);
                return Err(LedgerError::Refused { entry, from, to: "forgotten" });
            };
            let gate: String = tx
                .one(
                    "UPDATE entry SET forgotten = 1, identity = NULL, in_drop = 0 WHERE id = ?
                     RETURNING gate",
                    [entry],
                    |row| row.get(0),
                )
                .map_err(writing)?;
            tx.tell(entry, &gate, state, Cause::Person, &format!("forgotten: {why}"))
        })
    }

    /// Enters files as already worked.
    pub(crate) fn adopt(
        &self,
        entries: Vec<NewEntry>,
        by: By,
    ) -> Result<Vec<(NewEntry, Adopted)>, LedgerError> {
        self.by(by, move |tx, why| {
            let words = format!("adopted: {why}");
            let adopt = |new: NewEntry| adopt_one(tx, &new, &words).map(|adopted| (new, adopted));
            entries.into_iter().map(adopt).collect()
        })
    }

    /// Does something for a person, all of it or nothing.
    fn by<T: Send + 'static>(
        &self,
        by: By,
        work: impl FnOnce(&mut Tx<'_>, &str) -> Result<T, LedgerError> + Send + 'static,
    ) -> Result<T, LedgerError> {
        self.submit_many(HOWEVER_MANY, move |tx| {
            tx.who = Some(by.who);
            work(tx, &by.why)
        })?
        .wait()
    }
}

fn adopt_one(tx: &mut Tx<'_>, new: &NewEntry, words: &str) -> Result<Adopted, LedgerError> {
    if let Some(old) = new.replaces
        && let Some(id) = replace(tx, old, new)?
    {
        return Ok(Adopted::Known(id));
    }
    if let Some(first) = First::of(tx, new)? {
        return Ok(Adopted::Repeat(first.entry));
    }
    insert_adopted(tx, new, words).map(Adopted::New)
}

fn state_of(tx: &Tx<'_>, entry: EntryId) -> Result<Option<State>, LedgerError> {
    tx.one("SELECT state FROM entry WHERE id = ?", [entry], |row| row.get::<_, String>(0))
        .optional()
        .map(|word| word.and_then(|word| State::of(&word)))
        .map_err(writing)
}

/// Gives an entry an identity, unless another has it.
fn take_identity(tx: &Tx<'_>, entry: EntryId, identity: &[u8]) -> Result<(), LedgerError> {
    let update = "UPDATE OR IGNORE entry SET identity = ? WHERE id = ? AND identity IS NULL
                    AND repeat_of IS NULL";
    tx.run(update, params![identity, entry]).map_err(writing)?;
    Ok(())
}
