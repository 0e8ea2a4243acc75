//! What stands in databases: the rows of an entry, shown or taken out again.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_tables::Names;

use super::live::Live;
use super::loading::table_in;
use super::{Engine, EngineError};
use crate::config::{LoadConfig, Work};
use crate::ledger::{By, Entry, LedgerError, Output};
use crate::words;
use crate::work::load::{DbError, Destination, TableColumn, Unloaded, destination};

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
    pub entry: i64,
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

/// Why rows are not shown or taken out.
pub(super) enum NotLoaded {
    /// It cannot be done to this entry.
    Refused(String),
    /// The database is away.
    Away(String),
    Ledger(LedgerError),
}

impl From<LedgerError> for NotLoaded {
    fn from(error: LedgerError) -> Self {
        NotLoaded::Ledger(error)
    }
}

impl From<DbError> for NotLoaded {
    fn from(error: DbError) -> Self {
        match error {
            DbError::Away(why) | DbError::Doubt(why) => NotLoaded::Away(why),
            DbError::Refused(refusal) => NotLoaded::Refused(refusal.to_string()),
        }
    }
}

/// Where the rows of an entry are.
struct Place<'a> {
    config: &'a LoadConfig,
    output: String,
    table: String,
}

fn place<'a>(live: &'a Live, entry: &Entry) -> Result<Place<'a>, NotLoaded> {
    let detail = live.context.ledger.detail(entry.id)?;
    let batch = detail.and_then(|detail| detail.worked_in);
    let is_load = |output: &&Output| output.role == "load" && output.published_at.is_some();
    let output = batch.as_ref().and_then(|batch| batch.outputs.iter().find(is_load));
    let Some(output) = output else {
        return Err(NotLoaded::Refused("it was not loaded into a database".into()));
    };
    let (database, table) = table_in(&output.path);
    match &live.gate.work {
        Work::Load(config) if config.to.shown() == database => {
            Ok(Place { config, output: output.path.clone(), table: table.to_owned() })
        }
        _ => Err(NotLoaded::Refused(format!(
            "its gate does not load into `{database}` any more; look there yourself"
        ))),
    }
}

/// The table's own name for the column of the entry.
pub(super) fn entry_column(
    config: &LoadConfig,
    columns: &[TableColumn],
    names: Names,
) -> Option<String> {
    let wanted = config.entry_column()?;
    let exact = columns.iter().find(|column| column.name == wanted);
    let same = |column: &&TableColumn| names.key(&column.name) == names.key(wanted);
    exact.or_else(|| columns.iter().find(same)).map(|column| column.name.clone())
}

fn column_of(
    place: &Place<'_>,
    destination: &mut dyn Destination,
) -> Result<Option<String>, NotLoaded> {
    let columns = destination.columns(&place.table)?.unwrap_or_default();
    Ok(entry_column(place.config, &columns, place.config.shaping.layout.names))
}

/// Takes the rows of an entry out of its table, or only sees that it can be done; gives
/// what was done, in words.
pub(super) fn unload(live: &Live, entry: &Entry, by: &By, rehearse: bool) -> Result<(), NotLoaded> {
    let place = place(live, entry)?;
    let mut destination = destination(&place.config.to);
    let Some(column) = column_of(&place, &mut *destination)? else {
        return Err(NotLoaded::Refused(format!(
            "no column of `{}` tells whose rows are whose; say add = {{ entry = \"<entry>\" }} for what \
             comes from now on",
            place.table
        )));
    };
    if rehearse {
        return Ok(());
    }
    let ledger = &live.context.ledger;
    let (tag, of) = (ledger.tag()?, (entry.id, entry.sha256.as_str()));
    let unloaded = destination.unload(&place.table, &column, tag, of)?;
    let (output, why) = (&place.output, &by.why);
    let words = match unloaded {
        Unloaded::Rows(count) => {
            format!("unloaded: {} taken out of `{output}`: {why}", words::rows(count))
        }
        Unloaded::Before(count) => {
            format!(
                "unloaded: {} had been taken out of `{output}` before: {why}",
                words::rows(count)
            )
        }
        Unloaded::Shared => {
            return Err(NotLoaded::Refused(format!(
                "`{output}` has rows of another file with this number (from another ledger, or from this \
                 one before a restore): nothing was taken out; look at its markers there"
            )));
        }
        Unloaded::Unknown => {
            return Err(NotLoaded::Refused(format!(
                "`{output}` has no marker of it: nothing was taken out"
            )));
        }
    };
    ledger.noted(entry.id, words, by.clone())?;
    Ok(())
}

impl Engine {
    /// The first rows of an entry in the table into which it was loaded.
    ///
    /// # Errors
    /// [`EngineError::NotThere`] when it was not loaded, [`EngineError::Away`] when the
    /// database does not answer.
    pub fn loaded_rows(&self, entry: i64, limit: u32) -> Result<LoadedRows, EngineError> {
        let context = self.context();
        let Some(entry) = context.ledger.entry(entry)? else {
            return Err(EngineError::NotThere(format!("there is no entry {entry}")));
        };
        let handle = self.handle(&entry.gate)?;
        rows(&handle.live, &entry, limit).map_err(|not| match not {
            NotLoaded::Refused(why) => EngineError::NotThere(format!("entry {}: {why}", entry.id)),
            NotLoaded::Away(why) => EngineError::Away(why),
            NotLoaded::Ledger(error) => error.into(),
        })
    }
}

fn rows(live: &Live, entry: &Entry, limit: u32) -> Result<LoadedRows, NotLoaded> {
    let place = place(live, entry)?;
    let mut destination = destination(&place.config.to);
    let column = column_of(&place, &mut *destination)?;
    let of_entry = column.as_deref().map(|column| (column, entry.id));
    let mut some = destination.rows(&place.table, of_entry, limit.saturating_add(1))?;
    let more = some.rows.len() > limit as usize;
    some.rows.truncate(limit as usize);
    let columns = some
        .columns
        .into_iter()
        .map(|column| LoadedColumn { name: column.name, kind: column.declared })
        .collect();
    Ok(LoadedRows {
        entry: entry.id,
        output: place.output,
        by: column,
        columns,
        rows: some.rows,
        more,
    })
}
