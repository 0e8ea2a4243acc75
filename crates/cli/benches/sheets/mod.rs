//! A sheet, written and read by us and by a bare loop over the library.

use std::fs::File;
use std::path::Path;

use calamine::{DataRef, Xlsx, open_workbook};
use vadegate_tables::Writing;

use crate::{SHEET_COLUMNS, SHEET_ROWS};

/// A value of the sheet that is written and read.
pub fn level(row: u32, column: u16) -> f64 {
    f64::from(row) * 0.25 + f64::from(column)
}

pub fn bare_write(path: &Path) {
    let mut book = rust_xlsxwriter::Workbook::new();
    let sheet = book.add_worksheet_with_constant_memory().expect("a sheet");
    for column in 0..SHEET_COLUMNS {
        sheet.write_string(0, column, format!("column {column}")).expect("a name");
    }
    for row in 1..=SHEET_ROWS {
        for column in 0..SHEET_COLUMNS {
            if column % 2 == 0 {
                sheet.write_number(row, column, level(row, column)).expect("a number");
            } else {
                sheet.write_string(row, column, format!("gauge {row}")).expect("a text");
            }
        }
    }
    book.save(path).expect("the workbook");
}

pub fn our_write(path: &Path) {
    use vadegate_tables::Cell;
    use vadegate_tables::write::{Head, begin};
    let heads: Vec<Head> = (0..SHEET_COLUMNS)
        .map(|column| Head::of(&format!("column {column}"), vadegate_tables::Kind::Text))
        .collect();
    let writing = Writing::by_name("x.xlsx").expect("a known name");
    let out = Box::new(File::create(path).expect("the output"));
    let mut sink = begin(out, &writing, &heads, true).expect("the output");
    for row in 1..=SHEET_ROWS {
        let cells: Vec<Cell<'_>> = (0..SHEET_COLUMNS)
            .map(|column| match column % 2 {
                0 => Cell::Real(level(row, column)),
                _ => Cell::Text(format!("gauge {row}").into()),
            })
            .collect();
        sink.row(&cells, 0).expect("a row");
    }
    sink.finish().expect("the workbook");
}

pub fn bare_read(path: &Path) {
    let mut book: Xlsx<_> = open_workbook(path).expect("a workbook");
    let mut cells = book.worksheet_cells_reader("Sheet1").expect("the sheet");
    let mut count = 0u64;
    while let Some(cell) = cells.next_cell().expect("a cell") {
        count += u64::from(!matches!(cell.get_value(), DataRef::Empty));
    }
    assert_eq!(count, u64::from(SHEET_COLUMNS) * u64::from(SHEET_ROWS + 1));
}

pub fn our_read(path: &Path) {
    use vadegate_tables::source::{Table, each_table};
    use vadegate_tables::{Bytes, Fault, Reading, Row};
    let file = File::open(path).expect("the workbook");
    let mut rows = 0;
    each_table(Bytes::of(&file), &Reading::default(), &mut |table: &mut dyn Table| {
        let mut row = Row::default();
        while table.next(&mut row)? {
            rows += 1;
        }
        Ok::<bool, Fault>(true)
    })
    .expect("a table");
    assert_eq!(rows, SHEET_ROWS);
}
