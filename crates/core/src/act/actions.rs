//! What a person has done to entries: work again, release, forget, adopt.

use std::io;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::arrivals::fingerprint::FingerprintError;
use crate::arrivals::fingerprint::fingerprint;
use crate::ask::places::undo;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::engine::pass::enter::identity_of;
use crate::files::version::Version;
use crate::filing::packing::unpack_beside;
use crate::ledger::error::LedgerError;
use crate::ledger::ids::EntryId;
use crate::ledger::people::By;
use crate::ledger::state::State;
use crate::ledger::types::{Entry, Output};
use crate::ledger::words::OutputRole;
use crate::work::outcome::NotDone;

/// What is done to entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum EntryAction {
    /// What was worked, adopted or passed over is worked again.
    Reopen,
    /// What is held is worked again.
    Again,
    /// What is held is filed as it is, without work.
    File,
    /// The file of what is held is deleted.
    Delete,
    /// The identity counts no more; the entry stays.
    Forget,
    /// The rows are taken out of the database into which they were loaded.
    Unload,
}

/// What was done to entries, or would be.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Done {
    /// Entries to which it was done.
    pub done: Vec<EntryId>,
    /// Entries to which it was not, and why.
    pub refused: Vec<Refused>,
    /// What entries made when they were last worked: it is there still.
    pub made: Vec<PriorWork>,
}

/// How something is done to entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct How {
    /// Only tell what would be done.
    pub rehearse: bool,
    /// A repeat is worked again, although the entry that it repeats was worked.
    pub twice: bool,
}

/// An entry to which something was not done.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Refused {
    /// The entry.
    pub entry: EntryId,
    /// Why.
    pub because: String,
}

/// What the content of an entry made when it was last worked: it is there still.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PriorWork {
    /// The entry.
    pub entry: EntryId,
    /// The entry by which it was made: itself, or the one whose repeat it is.
    pub by: EntryId,
    /// The outputs, and what the batch wrote into them.
    pub outputs: Vec<Output>,
    /// Rows that would stand twice, when it is worked again.
    pub rows_twice: u64,
}

impl Engine {
    /// Does something to entries for a person; with `rehearse` only tells what would
    /// be done.
    ///
    /// # Errors
    /// The ledger's. What is refused for one entry is told, and the others go on.
    pub fn apply_action(
        &self,
        action: EntryAction,
        entries: &[EntryId],
        by: &By,
        how: How,
    ) -> Result<Done, EngineError> {
        let rehearse = how.rehearse;
        let mut told = Done::default();
        for id in entries {
            match self.do_one(action, *id, by, how) {
                Ok(made) => {
                    told.done.push(*id);
                    told.made.extend(made);
                }
                Err(ActionError::Refused(because)) => {
                    told.refused.push(Refused { entry: *id, because });
                }
                Err(ActionError::Failed(error)) => return Err(error),
            }
        }
        if !rehearse && !told.done.is_empty() {
            self.look_everywhere();
        }
        Ok(told)
    }

    fn do_one(
        &self,
        action: EntryAction,
        id: EntryId,
        by: &By,
        how: How,
    ) -> Result<Vec<PriorWork>, ActionError> {
        let rehearse = how.rehearse;
        let context = self.context();
        let ledger = &context.ledger;
        let entry = ledger
            .entry(id)?
            .ok_or_else(|| ActionError::Refused("there is no such entry".into()))?;
        allowed(action, &entry)?;
        let live = self.inner().gates.get(&entry.gate).map(|handle| Arc::clone(&handle.live));
        if action == EntryAction::Forget {
            if !rehearse {
                ledger.forget(id, by.clone())?;
                if let Some(live) = live {
                    live.forget(&entry);
                }
            }
            return Ok(Vec::new());
        }
        let live = live.ok_or_else(|| {
            let gate = &entry.gate;
            ActionError::Refused(format!("its gate `{gate}` is not in the configuration any more"))
        })?;
        if action == EntryAction::Unload {
            let words = undo(&live, &entry, rehearse)?;
            if !rehearse {
                ledger.noted(id, format!("{words}: {}", by.why), by.clone())?;
            }
            return Ok(Vec::new());
        }
        let version = verified(&live, &entry)?;
        let again = matches!(action, EntryAction::Reopen | EntryAction::Again);
        let made = if again { made_before(&live, &entry)? } else { Vec::new() };
        if again && !rehearse && !how.twice {
            refuse_twice(&entry, &made)?;
        }
        if rehearse {
            return Ok(made);
        }
        carry_out(action, &live, &entry, version, by)?;
        Ok(made)
    }
}

/// Does what is done to the file of an entry, which lies there as `version`.
fn carry_out(
    action: EntryAction,
    live: &Live,
    entry: &Entry,
    version: Version,
    by: &By,
) -> Result<(), ActionError> {
    let ledger = &live.context.ledger;
    match action {
        EntryAction::Reopen | EntryAction::Again => {
            if live.gate.work.is_none() && action == EntryAction::Reopen {
                let why = "its gate has no work to be done again";
                return Err(ActionError::Refused(why.into()));
            }
            let again = entry.state == State::PassedOver || entry.forgotten;
            let identity = again.then(|| identity_of(live, entry));
            again_from(live, entry, version, identity, by)?;
        }
        EntryAction::File => {
            let target = live.archive_path(entry);
            let target = target.map_err(|error| ActionError::Refused(error.to_string()))?;
            ledger.file_as_it_is(entry.id, version, target, by.clone())?;
        }
        EntryAction::Delete => {
            delete(live, entry)?;
            ledger.deleted(entry.id, by.clone())?;
            live.forget(entry);
        }
        EntryAction::Forget | EntryAction::Unload => {}
    }
    Ok(())
}

/// Has an entry worked again, from where its file lies; what is compressed there is
/// unpacked beside it first.
fn again_from(
    live: &Live,
    entry: &Entry,
    version: Version,
    identity: Option<Vec<u8>>,
    by: &By,
) -> Result<(), ActionError> {
    let ledger = &live.context.ledger;
    let Some(packing) = entry.packing else {
        return Ok(ledger.work_again(entry.id, version, None, identity, by.clone())?);
    };
    let packed = entry.lies_at();
    let refused = |error: io::Error| {
        ActionError::Refused(format!("`{}` cannot be unpacked: {error}", packed.display()))
    };
    let at = live.at(&packed).map_err(refused)?;
    let staged = format!(".vadegate-{}-{}.copy", ledger.tag()?, entry.id);
    let plain = unpack_beside(&at, &entry.name, packing, entry.content_sum(), &staged);
    let plain = plain.map_err(refused)?;
    let version = plain.version().map_err(refused)?.unwrap_or(version);
    let place = plain.path().display().to_string();
    ledger.work_again(entry.id, version, Some(place), identity, by.clone())?;
    // One that is left is found again when the file is compressed anew.
    if let Err(error) = at.remove() {
        tracing::warn!(
            entry = entry.id.number(),
            "`{}` cannot be removed: {error}",
            packed.display()
        );
    }
    Ok(())
}

/// Why something was not done to an entry.
enum ActionError {
    Refused(String),
    Failed(EngineError),
}

impl From<NotDone> for ActionError {
    fn from(not: NotDone) -> Self {
        match not {
            NotDone::Refused(why) => ActionError::Refused(why),
            NotDone::Away(why) => ActionError::Failed(EngineError::Away(why)),
            NotDone::Ledger(error) => error.into(),
        }
    }
}

impl From<LedgerError> for ActionError {
    fn from(error: LedgerError) -> Self {
        match error {
            // It came to another state meanwhile.
            LedgerError::Refused { .. } => ActionError::Refused(error.to_string()),
            other => ActionError::Failed(other.into()),
        }
    }
}

fn allowed(action: EntryAction, entry: &Entry) -> Result<(), ActionError> {
    let state = entry.state;
    let (may, what) = match action {
        EntryAction::Reopen => (
            state.person_may_make(State::Ready) && state != State::Held,
            "what is filed, adopted or passed over can be reopened",
        ),
        EntryAction::Again | EntryAction::File | EntryAction::Delete => {
            (state == State::Held, "what is held can be released")
        }
        EntryAction::Unload => (
            matches!(state, State::Worked | State::Filed | State::Held | State::Gone),
            "what was loaded and is not being worked can be unloaded",
        ),
        EntryAction::Forget => (
            matches!(state, State::Filed | State::Adopted | State::PassedOver | State::Gone),
            "what is filed, adopted, passed over or gone can be forgotten",
        ),
    };
    if may {
        return Ok(());
    }
    let hint = match (action, state) {
        (EntryAction::Reopen | EntryAction::Forget, State::Held) => "; release it",
        (EntryAction::Again | EntryAction::File | EntryAction::Delete, State::Filed) => {
            "; reopen it"
        }
        _ => "",
    };
    Err(ActionError::Refused(format!("it is {}, and only {what}{hint}", state.word())))
}

/// Sees that the file of an entry is where it should be and has its content; gives
/// its version as it is now.
fn verified(live: &Live, entry: &Entry) -> Result<Version, ActionError> {
    let place = entry.lies_at();
    let shown = place.display();
    let refused = |why: String| ActionError::Refused(why);
    let mut file = live.at(&place).and_then(|at| at.open()).map_err(|error| {
        refused(match error.kind() {
            io::ErrorKind::NotFound => {
                format!("its file is not at `{shown}` any more; put it back, or drop it again")
            }
            _ => format!("its file `{shown}` cannot be read: {error}"),
        })
    })?;
    let meta = file.metadata().map_err(|error| refused(format!("`{shown}`: {error}")))?;
    let version = Version::of(&meta);
    let changed = || {
        refused(format!(
            "the file at `{shown}` is another than was entered; put the right one back"
        ))
    };
    if version.bytes != entry.bytes_there() {
        return Err(changed());
    }
    match fingerprint(&mut file, &version, &mut vec![0; 256 * 1024]) {
        Ok(sum) if sum == entry.sha256_there() => Ok(version),
        Ok(_) | Err(FingerprintError::Changed) => Err(changed()),
        Err(FingerprintError::Io(error)) => {
            Err(refused(format!("its file `{shown}` cannot be read: {error}")))
        }
    }
}

/// What the content of an entry made: when it was last worked itself, and what the entry
/// made whose repeat it is.
fn made_before(live: &Live, entry: &Entry) -> Result<Vec<PriorWork>, ActionError> {
    let adds = live.gate.work.as_ref().is_some_and(|work| work.view().adds);
    let mut all = Vec::new();
    for by in [Some(entry.id), entry.repeat_of].into_iter().flatten() {
        let Some(detail) = live.context.ledger.detail(by)? else { continue };
        let outputs = detail.worked_in.map(|batch| batch.outputs).unwrap_or_default();
        let outputs: Vec<Output> = outputs
            .into_iter()
            .filter(|output| {
                // The account is no place for rows: nothing of a file stands in it.
                output.published_at.is_some() && output.role != OutputRole::Account
            })
            .collect();
        if !outputs.is_empty() {
            let rows_twice = if adds { detail.entry.rows.unwrap_or(0) } else { 0 };
            all.push(PriorWork { entry: entry.id, by, outputs, rows_twice });
        }
    }
    Ok(all)
}

/// A repeat is not worked again unless a person has said that they know what stands
/// there already.
fn refuse_twice(entry: &Entry, made: &[PriorWork]) -> Result<(), ActionError> {
    let Some(first) = entry.repeat_of.filter(|_| entry.worked_at.is_none()) else {
        return Ok(());
    };
    let of_first = made.iter().find(|made| made.by == first);
    let stands = of_first.map_or(String::new(), |made| {
        let paths: Vec<&str> = made.outputs.iter().map(|output| output.path.as_str()).collect();
        let twice = match made.rows_twice {
            0 => String::new(),
            rows => format!(", and {} would stand twice", crate::words::rows(rows)),
        };
        format!(", which was worked into {}{twice}", paths.join(", "))
    });
    Err(ActionError::Refused(format!(
        "it is a repeat of entry {first}{stands}; to have it worked all the same say --twice (in the API \"twice\": true)"
    )))
}

fn delete(live: &Live, entry: &Entry) -> Result<(), ActionError> {
    let place = entry.lies_at();
    let failed = |error: io::Error| {
        ActionError::Refused(format!("its file `{}` cannot be deleted: {error}", place.display()))
    };
    // Of a link that is followed the link goes, and not what it leads to.
    let at = live.context.config.reach.at(&place).map_err(failed)?;
    at.remove().and_then(|()| at.folder().sync()).map_err(failed)
}
