//! Rows that are set aside, as they are written.

use std::io::{self, Write};

use super::Misfit;
use crate::cell::Cell;
use crate::delimited::write_field;

/// The header line of rows that are set aside.
pub(super) const REJECTS_HEADER: &[u8] = b"source,sheet,row,column,value,rule,record\n";

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
