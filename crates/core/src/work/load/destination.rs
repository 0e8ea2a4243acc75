//! A database to which rows go: what it is asked, and what it answers.

use std::collections::HashMap;

use crate::files::roots::Reach;
use crate::ledger::ids::EntryId;

use crate::work::load::block::Block;
use crate::work::load::table::TableColumn;

/// The table of the markers, in the schema of the table that is loaded.
pub(crate) const MARKERS: &str = "vadegate_loads";

/// Why a database did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum DbError {
    /// It is away, busy, full, or does not let us in: to be asked again.
    Away(String),
    /// It refuses the rows themselves.
    Refused(Refusal),
    /// The connection was lost while the transaction was ended: only the marker tells
    /// whether it was.
    Doubt(String),
}

/// Why a database refuses rows.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Refusal {
    /// Its own words.
    pub why: String,
    /// The table of the sources, in the order in which they are read, and the row there.
    pub at: Option<(usize, u64)>,
    /// The column, where it is told.
    pub column: Option<String>,
    /// The value, where it is told.
    pub value: Option<String>,
}

impl std::fmt::Display for Refusal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if let Some((_, row)) = self.at {
            write!(f, "row {row}: ")?;
        }
        if let Some(column) = &self.column {
            write!(f, "column `{column}`: ")?;
        }
        write!(f, "the database refuses it: {}", self.why)
    }
}

/// A row that the database refused, and that is set aside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RejectedRow {
    /// Why.
    pub refusal: Refusal,
    /// Its values as they were to be loaded.
    pub values: Vec<String>,
}

/// A marker: rows of an entry are in a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Marker {
    /// The load that wrote them, unlike any other.
    pub load: String,
    pub entry: EntryId,
    pub gate: String,
    pub path: String,
    pub sha256: String,
    pub table: String,
    pub rows: u64,
    /// The account of the whole load, as JSON.
    pub account: String,
}

/// What is to be loaded.
#[derive(Debug, Clone)]
pub(crate) struct Job {
    /// The table, perhaps with its schema before a point.
    pub table: String,
    /// Columns of the table that are written, with their types, in the order of the
    /// cells.
    pub columns: Vec<vadegate_tables::Head>,
    pub mode: crate::work::load::config::Mode,
    pub key: Vec<String>,
    /// The table is to be made.
    pub create: bool,
    /// Refused rows are set aside, up to so many.
    pub aside_up_to: Option<u64>,
    /// Loads with the same name wait for each other.
    pub guard: String,
}

/// What was written before the end of the transaction.
#[derive(Debug, Default)]
pub(crate) struct Written {
    /// Rows that stand in the table now, as the database counts them.
    pub rows: u64,
    /// Rows that were refused.
    pub aside: Vec<RejectedRow>,
}

/// What ends a transaction: the markers, once the rows are known to be all.
pub(crate) type End<'a> = &'a mut dyn FnMut(&Written) -> Option<Vec<Marker>>;

/// How many of an entry's rows were taken out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Unloaded {
    /// So many, now.
    Rows(u64),
    /// They were taken out before: so many.
    Before(u64),
    /// There is no marker of the entry.
    Unknown,
    /// Rows of another file, of another ledger or of this one before it was put back from
    /// a backup, have the same number: nothing was taken out.
    Shared,
}

/// What a marker says of the rows of an entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Standing {
    pub load: String,
    pub entry: EntryId,
    pub rows: u64,
    /// They were taken out again.
    pub unloaded: bool,
}

/// Rows of a table, as text.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct SomeRows {
    pub columns: Vec<TableColumn>,
    pub rows: Vec<Vec<Option<String>>>,
}

/// A database to which rows go. Every call makes or renews the connection by itself.
pub(crate) trait Destination: Send {
    /// Says by what files are reached, where it is one.
    fn reach_by(&mut self, reach: &Reach) {
        let _ = reach;
    }

    /// Columns of a table; none when there is no such table.
    fn columns(&mut self, table: &str) -> Result<Option<Vec<TableColumn>>, DbError>;

    /// Whether the values of these columns are unique together, by the table's own
    /// rules.
    fn is_unique(&mut self, table: &str, key: &[String]) -> Result<bool, DbError>;

    /// Tries whether markers can be written, and leaves nothing.
    fn try_markers(&mut self, table: &str) -> Result<(), DbError>;

    /// Makes the table of the markers where it is missing, durably. From then on a
    /// database without it is not the one that was loaded into.
    fn make_markers(&mut self, table: &str) -> Result<(), DbError>;

    /// Loads rows and markers in one transaction. Nothing is kept when `end` gives
    /// nothing or when there is an error, but for [`DbError::Doubt`].
    fn load(
        &mut self,
        job: &Job,
        blocks: &mut dyn Iterator<Item = Block>,
        end: End<'_>,
    ) -> Result<(), DbError>;

    /// The markers of a load; an error where there is no table of them, because then
    /// nobody knows. It waits until no earlier transaction of the same guard is
    /// under way any more.
    fn markers(&mut self, table: &str, guard: &str, load: &str) -> Result<Vec<Marker>, DbError>;

    /// Takes the rows of an entry out of a table, by the column in which its number
    /// stands, and notes that in its markers. `ledger` is what the names of its loads
    /// begin with; with the entry's number comes its SHA-256.
    fn unload(
        &mut self,
        table: &str,
        column: &str,
        ledger: &str,
        entry: (EntryId, &str),
    ) -> Result<Unloaded, DbError>;

    /// What the markers of a table say, of the loads whose names begin so.
    fn standing(&mut self, table: &str, ledger: &str) -> Result<Vec<Standing>, DbError>;

    /// How many rows of a table have each number in a column.
    fn counts(&mut self, table: &str, column: &str) -> Result<HashMap<EntryId, u64>, DbError>;

    /// Some rows of a table: those in whose column this entry's number stands.
    fn rows(
        &mut self,
        table: &str,
        entry: Option<(&str, EntryId)>,
        limit: u32,
    ) -> Result<SomeRows, DbError>;
}

/// A database that has been loaded into, and has no markers now.
pub(crate) fn lost(table: &str) -> DbError {
    DbError::Away(format!(
        "`{MARKERS}`, which was beside `{table}`, is not there any more, and nobody can know whether the \
         last load was committed; put the database back, or name another in `to`: then its files are held"
    ))
}

/// A name in double quotes, as SQL has it; with its schema when it has one.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A value from a file's name as a part of a table's name: it stands in quotes when it
/// would else be parted at its points.
pub(crate) fn table_part(value: String) -> String {
    if value.contains(['.', '"']) { quoted(&value) } else { value }
}

/// The schema and the table, parted at the first point that stands in no quotes.
pub(crate) fn parts(table: &str) -> (Option<String>, String) {
    let (mut schema, mut name) = (None, String::new());
    let mut letters = table.chars().peekable();
    let mut inside = false;
    while let Some(letter) = letters.next() {
        match letter {
            '"' if inside && letters.peek() == Some(&'"') => {
                letters.next();
                name.push('"');
            }
            '"' => inside = !inside,
            '.' if !inside && schema.is_none() => schema = Some(std::mem::take(&mut name)),
            other => name.push(other),
        }
    }
    (schema, name)
}

/// A table's name in quotes, part by part.
pub(crate) fn quoted_table(table: &str) -> String {
    match parts(table) {
        (Some(schema), table) => format!("{}.{}", quoted(&schema), quoted(&table)),
        (None, table) => quoted(&table),
    }
}

/// The table of the markers beside a table.
pub(crate) fn markers_beside(table: &str) -> String {
    match parts(table) {
        (Some(schema), _) => format!("{}.{}", quoted(&schema), quoted(MARKERS)),
        (None, _) => quoted(MARKERS),
    }
}

pub(crate) fn listed(names: impl Iterator<Item = impl AsRef<str>>) -> String {
    names.map(|name| quoted(name.as_ref())).collect::<Vec<_>>().join(", ")
}

impl Job {
    pub(crate) fn names(&self) -> String {
        listed(self.columns.iter().map(|head| &head.name))
    }

    /// `CREATE TABLE`, with a name for the type of each column.
    pub(crate) fn create(&self, word: impl Fn(vadegate_tables::Kind) -> &'static str) -> String {
        let column = |head: &vadegate_tables::Head| {
            let not_null = if self.key.contains(&head.name) { " NOT NULL" } else { "" };
            format!("{} {}{not_null}", quoted(&head.name), word(head.kind))
        };
        let mut inner: Vec<String> = self.columns.iter().map(column).collect();
        if !self.key.is_empty() {
            inner.push(format!("UNIQUE ({})", listed(self.key.iter())));
        }
        format!("CREATE TABLE {} ({})", quoted_table(&self.table), inner.join(", "))
    }

    /// `SET` of every column that is no key, from `excluded`.
    pub(crate) fn on_conflict(&self) -> String {
        let others = self.columns.iter().filter(|head| !self.key.contains(&head.name));
        let set: Vec<String> =
            others.map(|head| format!("{0} = excluded.{0}", quoted(&head.name))).collect();
        let key = listed(self.key.iter());
        if set.is_empty() {
            format!("ON CONFLICT ({key}) DO NOTHING")
        } else {
            format!("ON CONFLICT ({key}) DO UPDATE SET {}", set.join(", "))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_come_from_files_are_never_parted() {
        let table = |template: &str, value: &str| {
            quoted_table(&template.replace("<stem>", &table_part(value.to_owned())))
        };
        assert_eq!(table("<stem>", "tide"), "\"tide\"");
        assert_eq!(table("<stem>", "x.y"), "\"x.y\"");
        assert_eq!(table("coast.<stem>", "x.y"), "\"coast\".\"x.y\"");
        assert_eq!(table("coast.<stem>_raw", "x.y"), "\"coast\".\"x.y_raw\"");
        assert_eq!(table("<stem>", "a\".b"), "\"a\"\".b\"");
        assert_eq!(quoted_table("coast.tide"), "\"coast\".\"tide\"");
        assert_eq!(markers_beside("coast.tide"), format!("\"coast\".\"{MARKERS}\""));
    }
}
