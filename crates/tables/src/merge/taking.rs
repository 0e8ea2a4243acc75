//! Giving what was made of a piece to the output.

use std::io;

use rust_decimal::Decimal;

use super::account::Total;
use super::blocks::Made;
use super::seen::Seen;
use super::{MergeError, Tally};
use crate::cell::Cell;
use crate::kind::Scaled;
use crate::write::Sink;

/// Adds the values of a row to the totals.
pub(super) fn add_to(totals: &mut [Option<Total>], cells: &[Cell<'_>]) {
    for (total, cell) in totals.iter_mut().zip(cells) {
        if let Some(total) = total
            && let Some(value) = number_of(cell)
        {
            total.add(value);
        }
    }
}

/// Gives what was made of a piece to the output.
pub(super) fn take_all(made: &mut Made, sink: &mut dyn Sink, width: usize) -> io::Result<()> {
    if let Some(columns) = made.columns.take() {
        return sink.columns(columns);
    }
    if !made.numbers.is_empty() {
        let (rows, numbers) = (std::mem::take(&mut made.rows), std::mem::take(&mut made.numbers));
        return sink.rows(rows, numbers, width);
    }
    match sink.verbatim() {
        Some(out) => out.write_all(&made.lines),
        None => Ok(()),
    }
}

/// Gives the rows of a piece to the output that were not there already.
pub(super) fn take_new(
    made: &Made,
    sink: &mut dyn Sink,
    seen: &mut Seen,
    totals: &mut [Option<Total>],
    tally: &mut Tally,
) -> Result<(), MergeError> {
    let width = totals.len();
    let mut cells = Vec::with_capacity(width);
    for (at, (number, sum)) in made.numbers.iter().zip(&made.sums).enumerate() {
        if seen.again(*sum) {
            tally.taken -= 1;
            tally.left_out += 1;
            continue;
        }
        cells.clear();
        cells.extend((at * width..(at + 1) * width).map(|cell| made.rows.cell(cell)));
        add_to(totals, &cells);
        sink.row(&cells, *number).map_err(MergeError::Output)?;
    }
    Ok(())
}

/// The same of rows that are lines already.
pub(super) fn take_new_lines(
    made: &Made,
    sink: &mut dyn Sink,
    seen: &mut Seen,
    tally: &mut Tally,
) -> Result<(), MergeError> {
    let Some(out) = sink.verbatim() else { return Ok(()) };
    // Lines that stand behind each other are written in one.
    let (mut from, mut begun) = (0, 0);
    for (sum, end) in made.sums.iter().zip(&made.ends) {
        if seen.again(*sum) {
            tally.taken -= 1;
            tally.left_out += 1;
            out.write_all(&made.lines[from..begun]).map_err(MergeError::Output)?;
            from = *end;
        }
        begun = *end;
    }
    out.write_all(&made.lines[from..begun]).map_err(MergeError::Output)
}

/// The number of a cell, if it is one; the inner is none when it has too many digits.
fn number_of(cell: &Cell<'_>) -> Option<Option<Scaled>> {
    match cell {
        Cell::Integer(whole) => Some(Some(Scaled { digits: (*whole).into(), scale: 0 })),
        Cell::Decimal(text) => Some(Scaled::of(text)),
        Cell::Real(real) => Some(
            Decimal::try_from(*real)
                .ok()
                .map(|number| Scaled { digits: number.mantissa(), scale: number.scale() }),
        ),
        _ => None,
    }
}
