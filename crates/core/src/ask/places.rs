//! What was made in places that can be asked: verified, and shown.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ask::verify::{Difference, Differs};
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::ledger::ids::EntryId;
use crate::ledger::made::ProvenOutput;
use crate::ledger::types::Entry;
use crate::work::outcome::{NotDone, PlaceDiffers};
use crate::work::seam::Work;

/// A column of a table of a database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LoadedColumn {
    /// Its name.
    pub name: String,
    /// Its type in the database's own words.
    #[serde(rename = "type")]
    pub kind: String,
}

/// Rows of a table into which an entry was loaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LoadedRows {
    /// The entry.
    pub entry: EntryId,
    /// The database and the table.
    pub output: String,
    /// The column in which the number of the entry stands; without one the rows are
    /// those of any entry.
    pub by: Option<String>,
    /// The table's columns.
    pub columns: Vec<LoadedColumn>,
    /// The rows, their values as text; none where nothing stands.
    pub rows: Vec<Vec<Option<String>>>,
    /// Whether there are more.
    pub more: bool,
}

/// The place into which an entry was worked, by its name in the ledger, and the work that
/// knows it.
pub(crate) fn place_of<'l>(
    live: &'l Live,
    entry: &Entry,
) -> Result<(String, &'l dyn Work), NotDone> {
    let detail = live.context.ledger.detail(entry.id)?;
    let outputs = detail.and_then(|detail| detail.worked_in).map(|batch| batch.outputs);
    let mut outputs = outputs.unwrap_or_default().into_iter();
    let proven = outputs.find(|output| output.proof.is_some() && output.published_at.is_some());
    let Some(place) = proven.map(|output| output.path) else {
        return Err(NotDone::Refused("it was not loaded into a database".into()));
    };
    match live.gate.work.as_deref().filter(|work| work.knows(&place)) {
        Some(work) => Ok((place, work)),
        None => Err(NotDone::Refused(format!(
            "its gate does not work into `{place}` any more; look there yourself"
        ))),
    }
}

impl Engine {
    /// The first rows of an entry in the table into which it was loaded.
    ///
    /// # Errors
    /// [`EngineError::NotThere`] when it was not loaded, [`EngineError::Away`] when the
    /// database does not answer.
    pub fn loaded_rows(&self, entry: EntryId, limit: u32) -> Result<LoadedRows, EngineError> {
        let context = self.context();
        let Some(entry) = context.ledger.entry(entry)? else {
            return Err(EngineError::NoEntry(entry));
        };
        let handle = self.handle(&entry.gate)?;
        rows(&handle.live, &entry, limit).map_err(|not| match not {
            NotDone::Refused(why) => EngineError::NotThere(format!("entry {}: {why}", entry.id)),
            NotDone::Away(why) => EngineError::Away(why),
            NotDone::Ledger(error) => error.into(),
        })
    }

    /// Holds what was made in places against what is there, of one gate or all; gives how
    /// many places were looked at.
    pub(crate) fn verify_places(
        &self,
        gate: Option<&str>,
        deep: bool,
        tell: &mut dyn FnMut(Difference),
    ) -> Result<u64, EngineError> {
        let outputs = self.ask(|ledger| ledger.proven_outputs(gate))?;
        let mut places: BTreeMap<(String, String), Vec<ProvenOutput>> = BTreeMap::new();
        for output in outputs {
            places.entry((output.gate.clone(), output.path.clone())).or_default().push(output);
        }
        let mut looked_at = 0;
        for ((gate, path), made) in places {
            // Into what a gate does not name any more nobody can look.
            let Ok(handle) = self.handle(&gate) else { continue };
            let live = &handle.live;
            let work = live.gate.work.as_deref().filter(|work| work.knows(&path));
            let Some(mut worker) = work.and_then(Work::open) else { continue };
            looked_at += 1;
            let mut differs = |differs, entry, because: String| {
                let (gate, path) = (gate.clone(), path.clone());
                tell(Difference { differs, gate, path, entry, because });
            };
            let verified = live.lend(true, |env| {
                worker.verify(&path, &made, deep, env, &mut |found| match found {
                    PlaceDiffers::Missing(because) => differs(Differs::Missing, None, because),
                    PlaceDiffers::Changed(entry, because) => {
                        differs(Differs::Changed, entry, because);
                    }
                })
            });
            if let Err(why) = verified {
                differs(Differs::Unreadable, None, format!("the database does not answer: {why}"));
            }
        }
        Ok(looked_at)
    }
}

fn rows(live: &Live, entry: &Entry, limit: u32) -> Result<LoadedRows, NotDone> {
    let (place, work) = place_of(live, entry)?;
    let Some(mut worker) = work.open() else {
        return Err(NotDone::Refused("its work has no place".into()));
    };
    let mut some =
        live.lend(true, |env| worker.rows(&place, entry, limit.saturating_add(1), env))?;
    let more = some.rows.len() > limit as usize;
    some.rows.truncate(limit as usize);
    let columns = some.columns.into_iter().map(|(name, kind)| LoadedColumn { name, kind });
    Ok(LoadedRows {
        entry: entry.id,
        output: place,
        by: some.by,
        columns: columns.collect(),
        rows: some.rows,
        more,
    })
}

/// Takes what an entry made out of its place, or only sees that it can be done; gives what
/// was done, in words.
pub(crate) fn undo(live: &Live, entry: &Entry, rehearse: bool) -> Result<String, NotDone> {
    let (place, work) = place_of(live, entry)?;
    let Some(mut worker) = work.open() else {
        return Err(NotDone::Refused("its work has no place".into()));
    };
    live.lend(rehearse, |env| worker.undo(&place, entry, env))
}
