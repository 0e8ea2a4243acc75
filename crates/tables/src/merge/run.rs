//! The second round of a merge: rows from the sources to the output.

use std::io::{self, Write};

use rust_decimal::Decimal;

use super::account::Total;
use super::shape::{From, Seen, Shape, Shaped, wants};
use super::{Account, AccountColumn, Input, MergeError, Misfit, Misfits, Plan, Repeated, Tally};
use crate::cell::{Cell, Row};
use crate::delimited::write_field;
use crate::fault::Fault;
use crate::scan::{self, Piece, Stopped};
use crate::source::{Format, Found, Table, TextTable, each_table, look};
use crate::write::{Out, Sink, begin};

/// Streams sources into one output.
pub struct Merger<'a> {
    plan: Plan,
    sink: Box<dyn Sink + 'a>,
    rejects: Option<Out<'a>>,
    account: Account,
    totals: Vec<Option<Total>>,
    seen: Seen,
}

/// Whether a text can be read as RFC 4180 has it, in one go.
fn is_regular(table: &TextTable<'_>, found: &Found) -> bool {
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

impl<'a> Merger<'a> {
    /// Begins an output; the header is written when `header` is true (rows that are
    /// appended to an existing output have none).
    ///
    /// # Errors
    /// [`MergeError::Output`].
    pub fn begin(out: Out<'a>, mut plan: Plan, header: bool) -> Result<Self, MergeError> {
        plan.settle_types();
        let sink = begin(out, &plan.options.writing, &plan.heads(), header);
        Ok(Merger::over(sink.map_err(MergeError::Output)?, plan))
    }

    /// Begins to give rows to a sink of the caller's.
    pub fn into_sink(sink: Box<dyn Sink + 'a>, mut plan: Plan) -> Self {
        plan.settle_types();
        Merger::over(sink, plan)
    }

    fn over(sink: Box<dyn Sink + 'a>, plan: Plan) -> Self {
        let names = &plan.options.layout.names;
        let is_total = |name: &str| {
            plan.options.totals.iter().any(|total| names.key(total) == names.key(name))
        };
        let totals = plan.columns().map(|column| is_total(&column.name).then(Total::default));
        let totals = totals.collect();
        let account = Account::default();
        Merger { sink, plan, rejects: None, account, totals, seen: Seen::new() }
    }

    /// Where rows that are set aside are written, as delimited text, with a header line
    /// or behind those that are there.
    ///
    /// # Errors
    /// [`MergeError::Output`].
    pub fn set_aside_to(&mut self, mut out: Out<'a>, header: bool) -> Result<(), MergeError> {
        if header {
            out.write_all(REJECTS_HEADER).map_err(MergeError::Output)?;
        }
        self.rejects = Some(out);
        Ok(())
    }

    /// Copies the rows of one source.
    ///
    /// # Errors
    /// [`MergeError`]; some rows of the source may then have been written already, so
    /// the whole output must be thrown away.
    pub fn copy(&mut self, input: &Input<'_>) -> Result<(), MergeError> {
        let reading = self.plan.options.reading.clone();
        let found = look(input.bytes(), &reading)?;
        if found.format == Format::Delimited {
            let table = TextTable::open(input.bytes(), &found, &reading)?;
            return self.copy_text(table, &found, input);
        }
        each_table(input.bytes(), &reading, &mut |table: &mut dyn Table| {
            self.copy_table(table, input)?;
            Ok::<bool, MergeError>(true)
        })?;
        Ok(())
    }

    fn copy_text(
        &mut self,
        mut table: TextTable<'_>,
        found: &Found,
        input: &Input<'_>,
    ) -> Result<(), MergeError> {
        let names = table.columns().to_vec();
        let from = self.plan.sources(&names, input.added, None);
        let dialect = &found.dialect;
        let as_it_stands = self.plan.is_plain()
            && self.totals.iter().all(Option::is_none)
            && self.plan.options.writing.takes_verbatim(dialect.delimiter, dialect.quote)
            && is_regular(&table, found)
            && self.sink.verbatim().is_some()
            && !from.iter().any(|from| matches!(from, From::WithRow(_)));
        if !as_it_stands {
            return self.copy_table(&mut table, input);
        }
        self.account.united.extend(self.plan.united(&names, input.name));
        let tally = self.copy_records(table, found, &from, input)?;
        self.account.add(tally);
        Ok(())
    }

    /// Copies records as they stand, or fields of them in another order.
    fn copy_records(
        &mut self,
        table: TextTable<'_>,
        found: &Found,
        from: &[From],
        input: &Input<'_>,
    ) -> Result<Tally, MergeError> {
        let columns = table.columns().len();
        let straight = from.len() == columns
            && from.iter().enumerate().all(|(at, from)| *from == From::Field(at));
        let delimiter = found.dialect.delimiter;
        let value = |from: &From| {
            let mut bytes = Vec::new();
            match from {
                From::Value(text) => write_field(&mut bytes, text, delimiter).map(|()| bytes),
                _ => Ok(bytes),
            }
        };
        let values = from.iter().map(value).collect::<io::Result<Vec<_>>>();
        let values = values.map_err(MergeError::Output)?;
        let pieces: Vec<Piece<'_>> = from
            .iter()
            .zip(&values)
            .map(|(from, value)| match from {
                From::Field(at) => Piece::Field(*at),
                _ => Piece::Bytes(value),
            })
            .collect();
        let mut tally = Tally { source: input.name.to_owned(), ..Tally::default() };
        let (Some(reader), Some(out)) = (table.into_reader(), self.sink.verbatim()) else {
            return Ok(tally);
        };
        let shape = scan::Shape { delimiter, columns };
        match scan::copy(reader, shape, (!straight).then_some(&pieces), out) {
            Ok(copied) => {
                tally.rows = copied.rows + copied.blank;
                tally.taken = copied.rows;
                tally.left_out = copied.blank;
                Ok(tally)
            }
            Err(Stopped::Output(error)) => Err(MergeError::Output(error)),
            Err(Stopped::Source(fault)) => Err(fault.into()),
            Err(Stopped::Irregular) => {
                // The strict reader knows what it is.
                let mut table = TextTable::open(input.bytes(), found, &self.plan.options.reading)?;
                let mut row = Row::default();
                while table.next(&mut row)? {}
                let what = "it changed while it was read".to_owned();
                Err(MergeError::Source(Fault::Unknown(what)))
            }
        }
    }

    fn copy_table(&mut self, table: &mut dyn Table, input: &Input<'_>) -> Result<(), MergeError> {
        let Merger { plan, sink, rejects, account, totals, seen } = self;
        let sheet = table.sheet().map(str::to_owned);
        account.united.extend(plan.united(table.columns(), input.name));
        sink.source(&plan.sheet_for(input, sheet.as_deref())).map_err(MergeError::Output)?;
        let shape = Shape {
            options: &plan.options,
            columns: &plan.columns,
            wants: wants(&plan.columns),
            from: plan.sources(table.columns(), input.added, sheet.as_deref()),
            added: input.added,
            source: input.name,
            sheet: sheet.as_deref(),
        };
        let mut tally =
            Tally { source: input.name.to_owned(), sheet: sheet.clone(), ..Tally::default() };
        let mut row = Row::default();
        while table.next(&mut row)? {
            tally.rows += 1;
            input.go_on(tally.rows)?;
            let cells = match shape.row(&row) {
                Shaped::Blank => {
                    tally.left_out += 1;
                    continue;
                }
                Shaped::Misfits(misfits) => {
                    if plan.options.misfits == Misfits::Hold && plan.options.misfits_up_to.is_none()
                    {
                        return Err(MergeError::Misfits { rows: 1, allowed: None, first: misfits });
                    }
                    tally.set_aside += 1;
                    if let Some(out) = rejects {
                        write_rejects(out, &misfits, row.cells()).map_err(MergeError::Output)?;
                    }
                    continue;
                }
                Shaped::Row(cells, emptied) => {
                    tally.emptied += emptied;
                    cells
                }
            };
            if plan.options.repeated != Repeated::Keep
                && seen.again(&cells, &plan.options.repeated, &plan.columns)
            {
                tally.left_out += 1;
                continue;
            }
            for (total, cell) in totals.iter_mut().zip(&cells) {
                let Some(total) = total else { continue };
                if let Some(value) = number(cell) {
                    total.add(value);
                }
            }
            sink.row(&cells, row.number).map_err(MergeError::Output)?;
            tally.taken += 1;
        }
        account.add(tally);
        Ok(())
    }

    /// Ends the merge, and gives its account.
    ///
    /// # Errors
    /// [`MergeError::Output`], when what is buffered cannot be written;
    /// [`MergeError::Unbalanced`], when the rows do not add up.
    pub fn finish(self) -> Result<Account, MergeError> {
        let Merger { plan, sink, rejects, mut account, totals, .. } = self;
        sink.finish().map_err(MergeError::Output)?;
        if let Some(mut rejects) = rejects {
            rejects.flush().map_err(MergeError::Output)?;
        }
        let columns = plan.columns().zip(totals).map(|(column, total)| AccountColumn {
            name: column.name.clone(),
            kind: column.kind.map(crate::kind::Kind::word),
            total: total.map(|total| total.text()),
        });
        account.columns = columns.collect();
        if account.adds_up() {
            return Ok(account);
        }
        let Account { rows_in, rows_out, set_aside, left_out, .. } = account;
        Err(MergeError::Unbalanced(format!(
            "{rows_in} in, {rows_out} out, {set_aside} set aside, {left_out} left out"
        )))
    }
}

fn number(cell: &Cell<'_>) -> Option<Decimal> {
    match cell {
        Cell::Integer(whole) => Some((*whole).into()),
        Cell::Decimal(text) => text.parse().ok(),
        Cell::Real(real) => Decimal::try_from(*real).ok(),
        _ => None,
    }
}

/// The header line of rows that are set aside.
const REJECTS_HEADER: &[u8] = b"source,sheet,row,column,value,rule,record\n";

/// Writes a row that is set aside, once for each value that does not fit.
///
/// # Errors
/// The output's.
pub fn write_rejects<'c>(
    out: &mut dyn Write,
    misfits: &[Misfit],
    cells: impl Iterator<Item = Cell<'c>>,
) -> io::Result<()> {
    let mut record = Vec::new();
    for (at, cell) in cells.enumerate() {
        if at > 0 {
            record.push(b',');
        }
        write_field(&mut record, &cell.to_text(), b',')?;
    }
    let record = String::from_utf8_lossy(&record);
    for misfit in misfits {
        let number = misfit.row.to_string();
        let sheet = misfit.sheet.as_deref().unwrap_or_default();
        let fields =
            [&misfit.source, sheet, &number, &misfit.column, &misfit.value, &misfit.rule, &record];
        let mut line = Vec::new();
        for (at, field) in fields.into_iter().enumerate() {
            if at > 0 {
                line.push(b',');
            }
            write_field(&mut line, field, b',')?;
        }
        line.push(b'\n');
        out.write_all(&line)?;
    }
    Ok(())
}
