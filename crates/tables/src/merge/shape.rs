//! Shaping: the rows of a source as rows of the output.

use super::{Added, Misfit, Misfits, Options, Part, Planned};
use crate::cell::{Cell, Row};
use crate::kind::{Kind, Spelling, read_text};
use crate::layout::{Column, Rules};
use std::borrow::Cow;

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
pub(super) enum Shaped {
    /// It is written, after so many values were emptied.
    Row(u64),
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
    #[inline]
    fn cell<'r>(
        &'r self,
        from: &'r From,
        field: &impl Fn(usize) -> Cell<'r>,
        number: u64,
    ) -> Cell<'r> {
        match from {
            From::Field(at) => field(*at),
            From::Value(text) => Cell::Text(Cow::Borrowed(text)),
            From::WithRow(at) => {
                let parts = &self.added[*at].parts;
                if *parts == [Part::Row] {
                    return Cell::Integer(i64::try_from(number).unwrap_or(i64::MAX));
                }
                Cell::Text(text_of(parts, self.sheet, number).into())
            }
            From::Nothing => Cell::Nothing,
        }
    }

    /// Shapes one row into cells.
    pub fn row<'r>(&'r self, row: &'r Row, cells: &mut Vec<Cell<'r>>) -> Shaped {
        if !self.options.keep_blank && row.is_blank() {
            return Shaped::Blank;
        }
        self.fields(&|at| row.cell(at), row.number, cells)
    }

    /// Shapes the fields of a row that is not blank into cells.
    #[inline]
    pub fn fields<'r>(
        &'r self,
        field: &impl Fn(usize) -> Cell<'r>,
        number: u64,
        cells: &mut Vec<Cell<'r>>,
    ) -> Shaped {
        cells.clear();
        let (mut misfits, mut required) = (Vec::new(), false);
        for ((planned, from), wants) in self.columns.iter().zip(&self.from).zip(&self.wants) {
            let cell = self.cell(from, field, number);
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
                        row: number,
                        column: planned.column.name.clone(),
                        value: cell.to_text(),
                        rule: rule.to_string(),
                    });
                    cells.push(Cell::Nothing);
                }
            }
        }
        if misfits.is_empty() {
            return Shaped::Row(0);
        }
        // Where nothing stands, nothing can be emptied.
        let curable = self.options.misfits == Misfits::Empty && !required;
        if curable { Shaped::Row(misfits.len() as u64) } else { Shaped::Misfits(misfits) }
    }
}
