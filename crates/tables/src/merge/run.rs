//! The second round of a merge: rows from the sources to the output.

use std::io::{self, Write};

use super::account::Total;
use super::blocks::{self, Broken, Making, Records, Straight};
use super::checking::is_regular;
use super::rejects::{REJECTS_HEADER, write_rejects};
use super::seen::{Seen, Sums};
use super::shape::{From, Shape, Shaped};
use super::taking::{add_to, take_all, take_new, take_new_lines};
use super::{Account, AccountColumn, Input, MergeError, Plan, Repeated, Tally};
use crate::cell::Row;
use crate::delimited::write_field;
use crate::records;
use crate::scan::{self, Cutter, Piece, Stopped};
use crate::source::{Format, Found, Table, Text, TextTable, each_table, look, text_of};
use crate::write::{Out, Sink, Way, begin};

/// Streams sources into one output.
pub struct Merger<'a> {
    plan: Plan,
    sink: Box<dyn Sink + 'a>,
    rejects: Option<Out<'a>>,
    account: Account,
    totals: Vec<Option<Total>>,
    /// Tells rows apart, where those that were there already are left out.
    sums: Option<Sums>,
    seen: Seen,
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
        let repeated = &plan.options.repeated;
        let sums = (*repeated != Repeated::Keep).then(|| Sums::new(repeated, &plan.columns));
        Merger { sink, plan, rejects: None, account, totals, sums, seen: Seen::default() }
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
        if found.format == Format::JsonLines
            && let Some(lines) = self.plan.known.of(input, &found)?
        {
            let cutter = Cutter::lines(text_of(input.bytes(), &found)?);
            let again = |shape: &Shape<'_>| {
                let names = lines.names().to_vec();
                let mut table = records::Records::new(text_of(input.bytes(), &found)?, names);
                Ok(blocks::why(&mut table, shape))
            };
            return self.copy_pieces(cutter, lines.names(), Records::Json(&lines), input, again);
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
            if !is_regular(&table, found) {
                return self.copy_table(&mut table, input);
            }
            let shape = scan::Shape { delimiter: dialect.delimiter, columns: names.len() };
            let reading = self.plan.options.reading.clone();
            let again = |shape: &Shape<'_>| {
                let mut table = TextTable::open(input.bytes(), found, &reading)?;
                Ok(blocks::why(&mut table, shape))
            };
            let Some(reader) = table.into_reader() else { return Ok(()) };
            let records = Records::Delimited(shape);
            return self.copy_pieces(
                Cutter::new(reader, names.len()),
                &names,
                records,
                input,
                again,
            );
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
                let names = table.columns().to_vec();
                Err(blocks::why(&mut table, &self.plan.shape(&names, input, None)))
            }
        }
    }

    /// Copies a text in pieces; `again` tells why it cannot be, when something is amiss.
    fn copy_pieces(
        &mut self,
        cutter: Cutter<Text<'_>>,
        names: &[String],
        records: Records<'_>,
        input: &Input<'_>,
        again: impl Fn(&Shape<'_>) -> Result<MergeError, MergeError>,
    ) -> Result<(), MergeError> {
        let Merger { plan, sink, rejects, account, totals, sums, seen } = self;
        account.united.extend(plan.united(names, input.name));
        sink.source(&plan.sheet_for(input, None)).map_err(MergeError::Output)?;
        let making = making(plan, records, names, input, sink.way(), sums.as_ref(), totals);
        let mut tally = Tally { source: input.name.to_owned(), ..Tally::default() };
        let ended = making.all(cutter, records, input, |made| {
            tally.rows += made.tally.rows;
            tally.taken += made.tally.taken;
            tally.set_aside += made.tally.set_aside;
            tally.left_out += made.tally.left_out;
            tally.emptied += made.tally.emptied;
            if let Some(out) = rejects {
                out.write_all(&made.rejects).map_err(MergeError::Output)?;
            }
            if sums.is_some() && made.numbers.is_empty() {
                return take_new_lines(made, sink.as_mut(), seen, &mut tally);
            }
            if sums.is_some() {
                return take_new(made, sink.as_mut(), seen, totals, &mut tally);
            }
            for (total, more) in totals.iter_mut().zip(&made.totals) {
                if let (Some(total), Some(more)) = (total, more) {
                    total.and(*more);
                }
            }
            take_all(made, sink.as_mut(), making.shape.columns.len()).map_err(MergeError::Output)
        });
        match ended {
            Ok(()) => {}
            Err(Broken::Failed(error)) => return Err(error),
            Err(Broken::Irregular) => return Err(again(&making.shape)?),
        }
        account.add(tally);
        Ok(())
    }

    fn copy_table(&mut self, table: &mut dyn Table, input: &Input<'_>) -> Result<(), MergeError> {
        let Merger { plan, sink, rejects, account, totals, sums, seen } = self;
        let sheet = table.sheet().map(str::to_owned);
        account.united.extend(plan.united(table.columns(), input.name));
        sink.source(&plan.sheet_for(input, sheet.as_deref())).map_err(MergeError::Output)?;
        let shape = plan.shape(table.columns(), input, sheet.as_deref());
        let mut tally =
            Tally { source: input.name.to_owned(), sheet: sheet.clone(), ..Tally::default() };
        let mut row = Row::default();
        while table.next(&mut row)? {
            tally.rows += 1;
            input.go_on(tally.rows)?;
            let mut cells = Vec::with_capacity(shape.columns.len());
            match shape.row(&row, &mut cells) {
                Shaped::Blank => {
                    tally.left_out += 1;
                    continue;
                }
                Shaped::Misfits(first) if plan.options.holds() => {
                    return Err(MergeError::Misfits { rows: 1, allowed: None, first });
                }
                Shaped::Misfits(misfits) => {
                    tally.set_aside += 1;
                    if let Some(out) = rejects {
                        write_rejects(out, &misfits, row.cells()).map_err(MergeError::Output)?;
                    }
                    continue;
                }
                Shaped::Row(emptied) => tally.emptied += emptied,
            }
            if sums.as_ref().is_some_and(|sums| seen.again(sums.of(&cells))) {
                tally.left_out += 1;
                continue;
            }
            add_to(totals, &cells);
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

/// How the records of a text are made into rows.
fn making<'m>(
    plan: &'m Plan,
    records: Records<'_>,
    names: &[String],
    input: &Input<'m>,
    way: Way,
    sums: Option<&'m Sums>,
    totals: &[Option<Total>],
) -> Making<'m> {
    // Totals of rows that may be left out need their cells.
    let by_cells = sums.is_some() && totals.iter().any(Option::is_some);
    let way = match way {
        Way::Lines(lines) if !by_cells => Way::Lines(lines),
        Way::Columns(heads) if sums.is_none() => Way::Columns(heads),
        _ => Way::Rows,
    };
    let shape = plan.shape(names, input, None);
    let delimiter = plan.options.writing.delimiter;
    let straight = match (records, &way) {
        (Records::Delimited(records), Way::Lines(_))
            if plan.options.writing.takes_verbatim(records.delimiter, Some(b'"')) =>
        {
            Straight::of(&shape, totals, records.delimiter, false)
        }
        (Records::Json(_), Way::Lines(_))
            if plan.options.writing.takes_verbatim(delimiter, Some(b'"')) =>
        {
            Straight::of_json(&shape, totals, delimiter, false)
        }
        (Records::Json(_), Way::Columns(_)) if totals.iter().all(Option::is_none) => {
            Straight::of_json(&shape, totals, b',', true)
        }
        (Records::Delimited(records), Way::Columns(_)) if totals.iter().all(Option::is_none) => {
            Straight::of(&shape, totals, records.delimiter, true)
        }
        _ => None,
    };
    Making {
        shape,
        way,
        sums,
        totals: totals.iter().map(|total| total.map(|_| Total::default())).collect(),
        straight,
        holds: plan.options.holds(),
    }
}
