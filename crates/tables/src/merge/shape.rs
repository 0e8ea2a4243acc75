//! Shaping: the rows of a source as rows of the output.

use std::borrow::Cow;
use std::collections::HashSet;
use std::hash::{BuildHasher, Hash, Hasher, RandomState};

use super::{Added, Misfit, Misfits, Options, Part, Planned, Repeated};
use crate::cell::{Cell, Row};
use crate::kind::{Kind, Spelling, read_text};
use crate::layout::{Column, Rules};

/// Where a column of the output comes from, for one source.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum From {
    Field(usize),
    /// A value for the whole source.
    Value(String),
    /// A value with the number of the row in it.
    WithRow(usize),
    Nothing,
}

/// How the rows of one table become rows of the output.
pub(super) struct Shape<'a> {
    pub options: &'a Options,
    pub columns: &'a [Planned],
    /// What each column wants of its values.
    pub wants: Vec<Wants>,
    pub from: Vec<From>,
    pub added: &'a [Added],
    pub source: &'a str,
    pub sheet: Option<&'a str>,
}

/// What a column wants of its values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Wants {
    /// They are copied as they stand.
    Nothing,
    /// They are of this type, spelled as usual; nothing else is asked of them.
    Kind(Kind),
    /// They keep to rules.
    Rules,
}

/// What each column wants of its values.
pub(super) fn wants(columns: &[Planned]) -> Vec<Wants> {
    let of = |planned: &Planned| match &planned.column {
        column if column.is_plain() => Wants::Nothing,
        Column { kind: Some(kind), default: None, rules, spelling, .. }
            if *rules == Rules::default() && *spelling == Spelling::default() =>
        {
            Wants::Kind(*kind)
        }
        _ => Wants::Rules,
    };
    columns.iter().map(of).collect()
}

/// What became of a row.
pub(super) enum Shaped<'r> {
    /// It is written, after so many values were emptied.
    Row(Vec<Cell<'r>>, u64),
    /// Nothing stands in it.
    Blank,
    /// It does not fit.
    Misfits(Vec<Misfit>),
}

/// The text of an added value.
pub(super) fn text_of(parts: &[Part], sheet: Option<&str>, row: u64) -> String {
    let text = |part: &Part| match part {
        Part::Text(text) => text.clone(),
        Part::Sheet => sheet.unwrap_or_default().to_owned(),
        Part::Row => row.to_string(),
    };
    parts.iter().map(text).collect()
}

impl Shape<'_> {
    /// Where a column comes from, cell by cell.
    fn cell<'r>(&'r self, from: &'r From, row: &'r Row) -> Cell<'r> {
        match from {
            From::Field(at) => row.cell(*at),
            From::Value(text) => Cell::Text(Cow::Borrowed(text)),
            From::WithRow(at) => {
                let parts = &self.added[*at].parts;
                if *parts == [Part::Row] {
                    return Cell::Integer(i64::try_from(row.number).unwrap_or(i64::MAX));
                }
                Cell::Text(text_of(parts, self.sheet, row.number).into())
            }
            From::Nothing => Cell::Nothing,
        }
    }

    /// Shapes one row.
    pub fn row<'r>(&'r self, row: &'r Row) -> Shaped<'r> {
        if !self.options.keep_blank && row.is_blank() {
            return Shaped::Blank;
        }
        let mut cells = Vec::with_capacity(self.columns.len());
        let (mut misfits, mut required) = (Vec::new(), false);
        for ((planned, from), wants) in self.columns.iter().zip(&self.from).zip(&self.wants) {
            let cell = self.cell(from, row);
            let nothing = self.options.layout.is_nothing(&cell);
            match (wants, &cell) {
                (Wants::Rules, _) => {}
                (_, _) if nothing => {
                    cells.push(Cell::Nothing);
                    continue;
                }
                (Wants::Nothing, _) => {
                    cells.push(cell);
                    continue;
                }
                (Wants::Kind(kind), Cell::Text(Cow::Borrowed(text))) => {
                    if let Some(value) = read_text(text, *kind, &planned.column.spelling) {
                        cells.push(value);
                        continue;
                    }
                }
                (Wants::Kind(_), _) => {}
            }
            match planned.column.take(&cell, nothing) {
                Ok(value) => cells.push(value),
                Err(rule) => {
                    required |= planned.column.rules.required;
                    misfits.push(Misfit {
                        source: self.source.to_owned(),
                        sheet: self.sheet.map(str::to_owned),
                        row: row.number,
                        column: planned.column.name.clone(),
                        value: cell.to_text(),
                        rule,
                    });
                    cells.push(Cell::Nothing);
                }
            }
        }
        if misfits.is_empty() {
            return Shaped::Row(cells, 0);
        }
        // Where nothing stands, nothing can be emptied.
        let curable = self.options.misfits == Misfits::Empty && !required;
        if curable { Shaped::Row(cells, misfits.len() as u64) } else { Shaped::Misfits(misfits) }
    }
}

/// Knows rows that were written already.
pub(super) struct Seen {
    rows: HashSet<u128>,
    /// Two, so that two rows are as good as never taken for one.
    states: [RandomState; 2],
}

impl Seen {
    pub fn new() -> Self {
        Seen { rows: HashSet::new(), states: [RandomState::new(), RandomState::new()] }
    }

    /// Whether a row was there before, by the columns that make it the same.
    pub fn again(&mut self, cells: &[Cell<'_>], repeated: &Repeated, columns: &[Planned]) -> bool {
        let counts = |at: usize| match repeated {
            Repeated::Keep => false,
            Repeated::Drop => true,
            Repeated::ByKey(keys) => keys.contains(&columns[at].column.name),
        };
        let mut hashers = self.states.each_ref().map(BuildHasher::build_hasher);
        for (at, cell) in cells.iter().enumerate().filter(|(at, _)| counts(*at)) {
            let text = cell.to_text();
            for hasher in &mut hashers {
                (at, cell.is_nothing(), &text).hash(hasher);
            }
        }
        let [high, low] = hashers.map(|hasher| u128::from(hasher.finish()));
        !self.rows.insert(high << 64 | low)
    }
}
