//! Seeing that the rows of a source fit before anything is written.

use std::io;

use super::blocks::{self, Broken, Records};
use super::shape::{Shape, Shaped, wants};
use super::{Input, MergeError, Misfit, Misfits, Plan, TOLD, UpTo};
use crate::cell::Row;
use crate::fault::Fault;
use crate::kind::Guess;
use crate::records::Lines;
use crate::scan::{self, Cutter, Stopped};
use crate::source::{self, Found, Table, TextTable};

/// Whether a text can be read as RFC 4180 has it, in one go.
pub(super) fn is_regular(table: &TextTable<'_>, found: &Found) -> bool {
    let dialect = &found.dialect;
    table.is_regular()
        && dialect.quote == Some(b'"')
        && dialect.line_end == b'\n'
        && dialect.comment.is_none()
        // A carriage return as delimiter would not be told from a line end.
        && dialect.delimiter != b'\r'
}

/// Checks quotes and the number of fields of each record of a text; false when
/// something is amiss, or when it cannot be checked so.
pub(super) fn check_regular(table: TextTable<'_>, found: &Found) -> Result<bool, Fault> {
    if !is_regular(&table, found) {
        return Ok(false);
    }
    let columns = table.columns().len();
    let Some(reader) = table.into_reader() else { return Ok(false) };
    let shape = scan::Shape { delimiter: found.dialect.delimiter, columns };
    match scan::copy(reader, shape, None, &mut io::sink()) {
        Ok(_) => Ok(true),
        Err(Stopped::Source(fault)) => Err(fault),
        Err(_) => Ok(false),
    }
}

impl Plan {
    /// How the rows of a table are shaped.
    pub(super) fn shape<'p>(
        &'p self,
        names: &[String],
        input: &Input<'p>,
        sheet: Option<&'p str>,
    ) -> Shape<'p> {
        Shape {
            options: &self.options,
            columns: &self.columns,
            wants: wants(&self.columns),
            from: self.sources(names, input.added, sheet),
            added: input.added,
            source: input.name,
            sheet,
        }
    }

    /// Sees that the records of a text fit, found by vectors; false when something is
    /// amiss, which the strict reader tells.
    pub(super) fn check_regular(
        &mut self,
        table: TextTable<'_>,
        found: &Found,
        input: &Input<'_>,
        pieces: usize,
    ) -> Result<bool, MergeError> {
        if self.is_plain() && !self.guesses() {
            return Ok(check_regular(table, found)?);
        }
        let records =
            scan::Shape { delimiter: found.dialect.delimiter, columns: table.columns().len() };
        let mut guesses: Vec<Guess> = self.columns.iter().map(|one| one.guess).collect();
        let guessing = self.guesses().then_some(&mut guesses);
        let shape = self.shape(table.columns(), input, None);
        let Some(reader) = table.into_reader() else { return Ok(false) };
        let checked = blocks::check(
            Cutter::new(reader, records.columns).first(pieces),
            Records::Delimited(records),
            &shape,
            input,
            guessing,
        );
        self.checked(checked, guesses)
    }

    /// The same of JSON Lines, whose names were found by reading all of it.
    pub(super) fn check_lines(
        &mut self,
        lines: &Lines,
        found: &Found,
        input: &Input<'_>,
        pieces: usize,
    ) -> Result<bool, MergeError> {
        if self.is_plain() && !self.guesses() {
            return Ok(true);
        }
        let mut guesses: Vec<Guess> = self.columns.iter().map(|one| one.guess).collect();
        let guessing = self.guesses().then_some(&mut guesses);
        let shape = self.shape(lines.names(), input, None);
        let cutter = Cutter::lines(source::text_of(input.bytes(), found)?).first(pieces);
        let checked = blocks::check(cutter, Records::Json(lines), &shape, input, guessing);
        self.checked(checked, guesses)
    }

    pub(super) fn checked(
        &mut self,
        checked: Result<blocks::Found, Broken>,
        guesses: Vec<Guess>,
    ) -> Result<bool, MergeError> {
        match checked {
            Ok((rows, bad, first)) => {
                self.columns.iter_mut().zip(guesses).for_each(|(one, guess)| one.guess = guess);
                self.bear(bad, rows, first).map(|()| true)
            }
            Err(Broken::Irregular) => Ok(false),
            Err(Broken::Failed(error)) => Err(error),
        }
    }

    /// Reads a table to its end, and sees that its rows fit.
    pub(super) fn check(
        &mut self,
        table: &mut dyn Table,
        input: &Input<'_>,
    ) -> Result<(), MergeError> {
        let sheet = table.sheet().map(str::to_owned);
        let mut guesses: Vec<Guess> = self.columns.iter().map(|one| one.guess).collect();
        let guessing = self.guesses();
        let shape = self.shape(table.columns(), input, sheet.as_deref());
        let (mut rows, mut bad, mut first) = (0, 0, Vec::new());
        let mut row = Row::default();
        while table.next(&mut row)? {
            rows += 1;
            input.go_on(rows)?;
            let mut cells = Vec::with_capacity(shape.columns.len());
            match shape.row(&row, &mut cells) {
                Shaped::Row(emptied) => {
                    bad += u64::from(emptied > 0);
                    if guessing {
                        guesses.iter_mut().zip(&cells).for_each(|(guess, cell)| guess.note(cell));
                    }
                }
                Shaped::Blank => {}
                Shaped::Misfits(misfits) => {
                    bad += 1;
                    first.extend(misfits.into_iter().take(TOLD.saturating_sub(first.len())));
                }
            }
        }
        self.columns.iter_mut().zip(guesses).for_each(|(one, guess)| one.guess = guess);
        self.bear(bad, rows, first)
    }

    /// Whether so many rows may not fit.
    fn bear(&self, bad: u64, rows: u64, first: Vec<Misfit>) -> Result<(), MergeError> {
        let most = match (self.options.misfits, self.options.misfits_up_to) {
            (Misfits::Hold, None) => Some((0, None)),
            (_, None) => None,
            (_, Some(UpTo::Rows(most))) => Some((most, Some(format!(", {most} may")))),
            (_, Some(UpTo::Share(share))) => {
                let most = (rows as f64 * share).floor() as u64;
                let percent = share * 100.0;
                Some((most, Some(format!(" of {rows}, {most} may ({percent} %)"))))
            }
        };
        match most {
            Some((most, allowed)) if bad > most => {
                Err(MergeError::Misfits { rows: bad, allowed, first })
            }
            _ => Ok(()),
        }
    }
}
