//! Uniting tables by column name.
//!
//! A merge goes in two rounds, so that memory does not grow with the inputs:
//! [`Plan::note`] takes the columns of each source and settles those of the output;
//! [`Merger::copy`] then streams the rows. Where a source of delimited text needs no
//! shaping its records are copied as they stand, quotes included.

mod account;
mod blocks;
mod checking;
mod existing;
mod names;
mod options;
mod refusal;
mod rejects;
mod run;
mod seen;
mod shape;
mod taking;
mod types;

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use crate::budget::MOST_COLUMNS;
use crate::delimited::column_name;
use crate::fault::Fault;
use crate::kind::{Guess, Kind};
use crate::layout::Column;
use crate::source::{Format, Table, TextTable, each_table, look};
use crate::write::Stacking;

pub use account::{Account, AccountColumn, Tally, United};
pub use existing::existing;
pub use options::{Added, Input, Misfits, Options, Part, Repeated, UpTo};
pub use refusal::{MergeError, Misfit};
pub use rejects::write_rejects;
pub use run::Merger;

use names::Names;
use refusal::listed;
use shape::{From, text_of};

/// Misfits that are told of one source.
const TOLD: usize = 5;

/// How far a source is read when it is noted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// To its header.
    Header,
    /// Of a long text some rows of the beginning: enough to foresee what the others will be,
    /// and no proof of it.
    Start,
    /// To its end, so that a faulty one is refused before anything is written.
    Whole,
}

impl Depth {
    /// Pieces of a text that are read.
    fn pieces(self) -> usize {
        match self {
            Depth::Header => 0,
            Depth::Start => 4,
            Depth::Whole => usize::MAX,
        }
    }
}

/// A column of the output, as far as it is known.
#[derive(Debug, Clone, PartialEq)]
pub struct Planned {
    /// What it is.
    pub column: Column,
    guess: Guess,
}

/// The columns of an output as those of the sources are noted.
#[derive(Debug, Clone)]
pub struct Plan {
    options: Options,
    columns: Vec<Planned>,
    fixed: bool,
    /// Columns of the layout by the names that they have in sources.
    described: Arc<HashMap<String, usize>>,
    /// Columns of the output by what their names have in common with others: with
    /// thousands of them none may be looked for one by one.
    places: HashMap<String, usize>,
    known: Names,
}

impl Plan {
    /// A plan with the columns of the layout, and no others yet.
    pub fn new(options: Options) -> Self {
        let columns = options.layout.columns.iter().filter(|_| options.layout.in_order);
        let columns = columns
            .map(|column| Planned { column: column.clone(), guess: Guess::default() })
            .collect();
        let described = Arc::new(options.layout.by_name());
        let places = HashMap::new();
        let known = Names::default();
        let mut plan = Plan { options, columns, fixed: false, described, places, known };
        plan.place_all();
        plan.type_totals();
        plan
    }

    fn key(&self, name: &str) -> String {
        self.options.layout.names.key(name)
    }

    /// Notes where each column stands; of two of one name the first counts.
    fn place_all(&mut self) {
        self.places.clear();
        for at in 0..self.columns.len() {
            let key = self.key(&self.columns[at].column.name);
            self.places.entry(key).or_insert(at);
        }
    }

    /// The column of the layout into which one of this name goes.
    fn find(&self, name: &str) -> Option<usize> {
        if self.described.is_empty() {
            return None;
        }
        self.described.get(&self.key(name)).copied()
    }

    /// What is totalled must be numbers.
    fn type_totals(&mut self) {
        let Options { totals, layout, .. } = &self.options;
        if totals.is_empty() {
            return;
        }
        for planned in &mut self.columns {
            let key = layout.names.key(&planned.column.name);
            if planned.column.kind.is_none() && totals.iter().any(|t| layout.names.key(t) == key) {
                planned.column.kind = Some(Kind::Decimal);
            }
        }
    }

    /// Fixes the columns to those of an existing output to which rows are appended: a
    /// source with another column is refused.
    pub fn fix(&mut self, names: Vec<String>) {
        let layout = &self.options.layout;
        let by_name: HashMap<&str, &Planned> =
            self.columns.iter().rev().map(|one| (one.column.name.as_str(), one)).collect();
        let planned = |name: String| {
            let known = by_name.get(name.as_str());
            let column = known.map_or_else(
                || match self.find(&name) {
                    Some(at) => Column { name: name.clone(), ..layout.columns[at].clone() },
                    None => Column::named(&name),
                },
                |planned| planned.column.clone(),
            );
            Planned { column, guess: Guess::default() }
        };
        self.columns = names.into_iter().map(planned).collect();
        self.place_all();
        self.fixed = true;
        self.type_totals();
    }

    /// How the merge is done.
    pub fn options(&self) -> &Options {
        &self.options
    }

    /// Columns of the output, in order.
    pub fn columns(&self) -> impl Iterator<Item = &Column> {
        self.columns.iter().map(|planned| &planned.column)
    }

    fn names(&self) -> String {
        listed(self.columns().map(|column| column.name.as_str()))
    }

    /// Notes the columns of one source and those added to its rows. The plan is
    /// unchanged when the source is refused.
    ///
    /// # Errors
    /// [`MergeError`], when the source cannot take part.
    pub fn note(&mut self, input: &Input<'_>, depth: Depth) -> Result<(), MergeError> {
        let mut plan = self.clone();
        plan.note_all(input, depth)?;
        *self = plan;
        Ok(())
    }

    fn note_all(&mut self, input: &Input<'_>, depth: Depth) -> Result<(), MergeError> {
        let reading = self.options.reading.clone();
        let found = look(input.bytes(), &reading)?;
        if found.format == Format::Delimited {
            let mut table = TextTable::open(input.bytes(), &found, &reading)?;
            self.admit(table.columns(), input.added)?;
            if depth == Depth::Header {
                return Ok(());
            }
            let pieces = depth.pieces();
            if checking::is_regular(&table, &found)
                && self.check_regular(table, &found, input, pieces)?
            {
                return Ok(());
            }
            // Read once more from the start, row by row.
            table = TextTable::open(input.bytes(), &found, &reading)?;
            return self.check(&mut table, input);
        }
        if found.format == Format::JsonLines
            && let Some(lines) = self.known.of(input, &found)?
        {
            self.admit(lines.names(), input.added)?;
            let pieces = depth.pieces();
            if depth == Depth::Header || self.check_lines(&lines, &found, input, pieces)? {
                return Ok(());
            }
        }
        each_table(input.bytes(), &reading, &mut |table: &mut dyn Table| {
            self.admit(table.columns(), input.added)?;
            if depth != Depth::Header {
                self.check(table, input)?;
            }
            Ok::<bool, MergeError>(true)
        })?;
        Ok(())
    }

    /// Whether what the values are is to be noted: types to be guessed, and the digits
    /// of decimals.
    fn guesses(&self) -> bool {
        self.options.writing.is_typed()
    }

    /// Whether no value needs to be looked at.
    fn is_plain(&self) -> bool {
        let options = &self.options;
        self.columns().all(Column::is_plain)
            && options.layout.nothing.iter().all(String::is_empty)
            && options.repeated == Repeated::Keep
            && !options.keep_blank
    }

    /// Takes the columns of a table in, and those added to it.
    fn admit(&mut self, names: &[String], added: &[Added]) -> Result<(), MergeError> {
        let layout = &self.options.layout;
        let key = |name: &str| layout.names.key(name);
        let keys: HashSet<String> = names.iter().map(|name| key(name)).collect();
        let twice = added.iter().find(|add| keys.contains(&key(&add.column)));
        if let Some(add) = twice {
            return Err(MergeError::AddedTwice { column: add.column.clone() });
        }
        if !layout.columns.is_empty()
            && !layout.others
            && !names.iter().any(|name| self.find(name).is_some())
        {
            return Err(MergeError::NoneChosen {
                wanted: listed(layout.columns.iter().map(|column| column.name.as_str())),
                found: listed(names.iter().map(String::as_str)),
            });
        }
        let wanted = names.iter().filter(|name| layout.others || self.find(name).is_some());
        let (mut new, mut new_keys) = (Vec::<Column>::new(), HashSet::new());
        for name in wanted.chain(added.iter().map(|add| &add.column)) {
            let column = match self.find(name) {
                Some(at) => layout.columns[at].clone(),
                None => Column::named(column_name(name)),
            };
            let known = self.place_of(name).is_some();
            if !known && new_keys.insert(key(&column.name)) {
                new.push(column);
            }
        }
        if self.fixed
            && let Some(column) = new.first()
        {
            let (column, fixed) = (column.name.clone(), self.names());
            return Err(MergeError::NotInOutput { column, fixed });
        }
        // What is described stands in the output, whether a source has it or not.
        let described = layout.columns.iter().filter(|column| {
            let key = key(&column.name);
            !self.fixed && !self.places.contains_key(&key) && !new_keys.contains(&key)
        });
        let described: Vec<Column> = described.cloned().collect();
        let planned = |column: Column| Planned { column, guess: Guess::default() };
        self.columns.extend(new.into_iter().chain(described).map(planned));
        self.place_all();
        if self.columns.len() > MOST_COLUMNS {
            return Err(Fault::TooWide { line: 1, columns: self.columns.len() }.into());
        }
        self.type_totals();
        self.one_each(names)
    }

    /// Sees that no two columns of a table go into one of the output.
    fn one_each(&self, names: &[String]) -> Result<(), MergeError> {
        let mut taken: HashMap<usize, &String> = HashMap::with_capacity(names.len());
        for name in names {
            let Some(place) = self.place_of(name) else { continue };
            if let Some(one) = taken.insert(place, name) {
                return Err(MergeError::SameColumn {
                    one: one.clone(),
                    other: name.clone(),
                    to: self.columns[place].column.name.clone(),
                });
            }
        }
        Ok(())
    }

    /// The column of the output into which one of this name goes.
    fn place_of(&self, name: &str) -> Option<usize> {
        let name = match self.find(name) {
            Some(at) => self.options.layout.columns[at].name.as_str(),
            None => name,
        };
        self.places.get(&self.key(name)).copied()
    }

    /// Where the columns of the output come from, for a table with these columns.
    fn sources(&self, names: &[String], added: &[Added], sheet: Option<&str>) -> Vec<From> {
        let mut from = vec![From::Nothing; self.columns.len()];
        for (at, add) in added.iter().enumerate() {
            let Some(place) = self.place_of(&add.column) else { continue };
            from[place] = if add.parts.contains(&Part::Row) {
                From::WithRow(at)
            } else {
                From::Value(text_of(&add.parts, sheet, 0))
            };
        }
        for (at, name) in names.iter().enumerate() {
            let wanted = self.options.layout.others || self.find(name).is_some();
            if let Some(place) = self.place_of(name).filter(|_| wanted) {
                from[place] = From::Field(at);
            }
        }
        from
    }

    /// Columns that are united under another name.
    fn united(&self, names: &[String], source: &str) -> Vec<United> {
        let united = names.iter().filter_map(|name| {
            let to = &self.columns[self.place_of(name)?].column.name;
            (to != name).then(|| United {
                source: source.to_owned(),
                from: name.clone(),
                to: to.clone(),
            })
        });
        united.collect()
    }

    /// Name of the sheet of a source, in a workbook that has one for each.
    fn sheet_for(&self, input: &Input<'_>, sheet: Option<&str>) -> String {
        match (input.sheet, sheet) {
            _ if self.options.writing.stacking == Stacking::One => String::new(),
            (Some(parts), sheet) => text_of(parts, sheet, 0),
            (None, Some(sheet)) => sheet.to_owned(),
            (None, None) => {
                let name = input.name.rsplit('/').next().unwrap_or(input.name);
                name.split_once('.').map_or(name, |(stem, _)| stem).to_owned()
            }
        }
    }
}

#[cfg(test)]
mod tests;
