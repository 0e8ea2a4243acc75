//! The rows of an entry in its table: shown, or taken out again.

use vadegate_tables::Names;

use crate::ledger::types::Entry;
use crate::words;
use crate::work::env::Env;
use crate::work::load::config::LoadConfig;
use crate::work::load::destination::{DbError, Destination, Unloaded};
use crate::work::load::place::table_in;
use crate::work::load::table::TableColumn;
use crate::work::outcome::{NotDone, PlaceRows};

impl From<DbError> for NotDone {
    fn from(error: DbError) -> Self {
        match error {
            DbError::Away(why) | DbError::Doubt(why) => NotDone::Away(why),
            DbError::Refused(refusal) => NotDone::Refused(refusal.to_string()),
        }
    }
}

/// The table's own name for the column of the entry.
pub(crate) fn entry_column(
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
    config: &LoadConfig,
    destination: &mut dyn Destination,
    table: &str,
) -> Result<Option<String>, NotDone> {
    let columns = destination.columns(table)?.unwrap_or_default();
    Ok(entry_column(config, &columns, config.shaping.layout.names))
}

/// Takes the rows of an entry out of its table.
pub(crate) fn undo(
    config: &LoadConfig,
    destination: &mut dyn Destination,
    place: &str,
    entry: &Entry,
    env: &Env<'_>,
) -> Result<String, NotDone> {
    let table = table_in(place).1;
    let Some(column) = column_of(config, destination, table)? else {
        return Err(NotDone::Refused(format!(
            "no column of `{table}` tells whose rows are whose; say add = {{ entry = \"<entry>\" }} for what \
             comes from now on"
        )));
    };
    if env.rehearsing {
        return Ok(String::new());
    }
    let (tag, sum) = (env.ledger.tag()?, entry.sha256.to_string());
    match destination.unload(table, &column, tag, (entry.id, &sum))? {
        Unloaded::Rows(count) => {
            Ok(format!("unloaded: {} taken out of `{place}`", words::rows(count)))
        }
        Unloaded::Before(count) => {
            Ok(format!("unloaded: {} had been taken out of `{place}` before", words::rows(count)))
        }
        Unloaded::Shared => Err(NotDone::Refused(format!(
            "`{place}` has rows of another file with this number (from another ledger, or from this \
             one before a restore): nothing was taken out; look at its markers there"
        ))),
        Unloaded::Unknown => {
            Err(NotDone::Refused(format!("`{place}` has no marker of it: nothing was taken out")))
        }
    }
}

/// The first rows of an entry in its table.
pub(crate) fn rows(
    config: &LoadConfig,
    destination: &mut dyn Destination,
    place: &str,
    entry: &Entry,
    limit: u32,
) -> Result<PlaceRows, NotDone> {
    let table = table_in(place).1;
    let by = column_of(config, destination, table)?;
    let of_entry = by.as_deref().map(|column| (column, entry.id));
    let some = destination.rows(table, of_entry, limit)?;
    let columns = some.columns.into_iter().map(|column| (column.name, column.declared)).collect();
    Ok(PlaceRows { by, columns, rows: some.rows })
}
