//! Sheets of workbooks as tables. Of xlsx cells are read one after the other; the
//! older kinds are held in memory by the library that reads them.

mod cells;
mod sheet;
mod unknown;

use std::io::{self, Read, Seek};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};

use calamine::{
    Data, Ods, OdsError, Range, Reader as _, SheetType, SheetVisible, Xls, XlsError, Xlsx,
    XlsxError,
};

use cells::{Held, Streamed, xlsx_fault};
use sheet::SheetTable;
pub(crate) use unknown::is_known;

use crate::budget;
use crate::container;
use crate::fault::Fault;
use crate::source::{Format, Merged, Reading, Sheets, Table, Visit};

/// Letters of a column, from 0: `A`, `B`, … `AA`.
pub(crate) fn letters(column: u32) -> String {
    let mut rest = column + 1;
    let mut letters = Vec::new();
    while rest > 0 {
        rest -= 1;
        letters.push(char::from(b'A' + (rest % 26) as u8));
        rest /= 26;
    }
    letters.iter().rev().collect()
}

/// A cell such as `B3`: its row and column, from 0.
pub(crate) fn parse_cell(text: &str) -> Option<(u32, u32)> {
    let digits = text.find(|c: char| c.is_ascii_digit())?;
    let (column, row) = text.split_at(digits);
    let mut number = 0u32;
    for letter in column.chars() {
        let value = u32::from(letter.to_ascii_uppercase()).checked_sub(u32::from('A'))?;
        number = (value < 26).then(|| number.checked_mul(26)?.checked_add(value + 1))??;
    }
    Some((row.parse::<u32>().ok()?.checked_sub(1)?, number.checked_sub(1)?))
}

/// A range of a sheet, such as `B3:F200` or `B3:` for all that follows: first row and
/// column, last row and column, from 0.
pub fn parse_range(text: &str) -> Option<[u32; 4]> {
    let (first, last) = text.split_once(':')?;
    let (row, column) = parse_cell(first)?;
    let (last_row, last_column) =
        if last.is_empty() { (u32::MAX, u32::MAX) } else { parse_cell(last)? };
    (row <= last_row && column <= last_column).then_some([row, column, last_row, last_column])
}

/// Names of the sheets that are to be read.
fn wanted(sheets: &[calamine::Sheet], reading: &Reading) -> Result<Vec<String>, Fault> {
    let tables = || sheets.iter().filter(|sheet| sheet.typ == SheetType::WorkSheet);
    let shown = |sheet: &&calamine::Sheet| reading.hidden || sheet.visible == SheetVisible::Visible;
    let found: Vec<String> = match &reading.sheets {
        Sheets::First => tables().find(shown).map(|sheet| sheet.name.clone()).into_iter().collect(),
        Sheets::All => tables().filter(shown).map(|sheet| sheet.name.clone()).collect(),
        // A sheet that is called by a number is meant by it.
        Sheets::Number(number) if tables().any(|sheet| sheet.name == number.to_string()) => {
            vec![number.to_string()]
        }
        Sheets::Number(number) => {
            let nth = number.checked_sub(1).and_then(|at| tables().nth(at));
            nth.map(|sheet| sheet.name.clone()).into_iter().collect()
        }
        Sheets::Named(names) => tables()
            .filter(|sheet| names.iter().any(|name| fits(name, &sheet.name)))
            .filter(|sheet| shown(sheet) || names.contains(&sheet.name))
            .map(|sheet| sheet.name.clone())
            .collect(),
    };
    if found.is_empty() {
        let there: Vec<String> = tables().map(|sheet| format!("`{}`", sheet.name)).collect();
        let wanted = match &reading.sheets {
            Sheets::First | Sheets::All => "that is not hidden".to_owned(),
            Sheets::Number(number) => format!("number {number}"),
            Sheets::Named(names) => format!("named `{}`", names.join("` or `")),
        };
        return Err(Fault::NoSheet { wanted, there: there.join(", ") });
    }
    Ok(found)
}

/// Whether a name fits one in which `*` stands for any letters.
fn fits(pattern: &str, name: &str) -> bool {
    let (pattern, name) = (pattern.to_lowercase(), name.to_lowercase());
    let mut parts = pattern.split('*');
    let first = parts.next().unwrap_or_default();
    let Some(mut rest) = name.strip_prefix(first) else { return false };
    let mut parts = parts.peekable();
    if parts.peek().is_none() {
        return rest.is_empty();
    }
    while let Some(part) = parts.next() {
        if parts.peek().is_none() {
            return rest.ends_with(part);
        }
        let Some(at) = rest.find(part) else { return false };
        rest = &rest[at + part.len()..];
    }
    true
}

/// Gives each wanted sheet that is not empty to `visit`.
///
/// The library that reads workbooks panics over some that are damaged; for who sent one
/// it is a fault of the file like others.
pub(crate) fn each_sheet<R: Read + Seek + Again, E: From<Fault>>(
    bytes: R,
    format: Format,
    reading: &Reading,
    visit: Visit<'_, E>,
) -> Result<(), E> {
    // What fails behind `visit` is no fault of the file that is read.
    let mut of_visit = false;
    let mut visit = |table: &mut dyn Table| {
        let visited = catch_unwind(AssertUnwindSafe(|| visit(table)));
        visited.unwrap_or_else(|panic| {
            of_visit = true;
            resume_unwind(panic)
        })
    };
    let read = catch_unwind(AssertUnwindSafe(|| read_sheets(bytes, format, reading, &mut visit)));
    match read {
        Ok(read) => read,
        Err(panic) if of_visit => resume_unwind(panic),
        Err(_) => Err(Fault::Workbook("it is damaged, and its reader gave up".into()).into()),
    }
}

fn read_ods<R: Read + Seek, E: From<Fault>>(
    bytes: R,
    reading: &Reading,
    visit: Visit<'_, E>,
) -> Result<(), E> {
    let mut book = Ods::new(bytes).map_err(|error| match error {
        OdsError::Password => Fault::Protected,
        other => Fault::Workbook(other.to_string()),
    })?;
    let names = wanted(book.sheets_metadata(), reading)?;
    each_held(names, reading, visit, |name| {
        book.worksheet_range(name).map_err(|error| Fault::Workbook(error.to_string()))
    })
}

fn read_sheets<R: Read + Seek + Again, E: From<Fault>>(
    bytes: R,
    format: Format,
    reading: &Reading,
    visit: Visit<'_, E>,
) -> Result<(), E> {
    match format {
        Format::Ods => match budget::check_package(io::BufReader::new(bytes.again()))? {
            true => read_ods(unknown::mend(bytes)?, reading, visit),
            false => read_ods(bytes, reading, visit),
        },
        Format::Xls => {
            container::check(bytes.again())?;
            if let Some(stream) = container::stream(bytes.again(), &["Workbook", "Book"])? {
                budget::check_records(&stream)?;
            }
            let again = bytes.again();
            let mut book = match Xls::new(bytes) {
                Ok(book) => book,
                Err(XlsError::Password) => return Err(Fault::Protected.into()),
                // A protected xlsx stands in the same kind of container.
                Err(error) => {
                    return Err(match Xlsx::new(again) {
                        Err(XlsxError::Password) => Fault::Protected.into(),
                        _ => Fault::Workbook(error.to_string()).into(),
                    });
                }
            };
            let names = wanted(book.sheets_metadata(), reading)?;
            each_held(names, reading, visit, |name| {
                book.worksheet_range(name).map_err(|error| Fault::Workbook(error.to_string()))
            })
        }
        _ => each_streamed(bytes, reading, visit),
    }
}

/// A reader that can be had once more, from the start.
pub(crate) trait Again: Sized {
    fn again(&self) -> Self;
}

fn each_streamed<R: Read + Seek + Again, E: From<Fault>>(
    bytes: R,
    reading: &Reading,
    visit: Visit<'_, E>,
) -> Result<(), E> {
    budget::check_package(io::BufReader::new(bytes.again()))?;
    let mut book = Xlsx::new(bytes).map_err(xlsx_fault)?;
    let names = wanted(book.sheets_metadata(), reading)?;
    for name in names {
        let merged = match reading.merged {
            Merged::First => Vec::new(),
            Merged::Fill => book.merge_cells_by_sheet_name(&name).map_err(xlsx_fault)?,
        };
        let cells = book.worksheet_cells_reader(&name).map_err(xlsx_fault)?;
        let cells = Streamed { cells, last: None, ended: false };
        let Some(mut table) = SheetTable::open(name, cells, merged, reading)? else { continue };
        if !visit(&mut table)? {
            break;
        }
    }
    Ok(())
}

fn each_held<E: From<Fault>>(
    names: Vec<String>,
    reading: &Reading,
    visit: Visit<'_, E>,
    mut sheet: impl FnMut(&str) -> Result<Range<Data>, Fault>,
) -> Result<(), E> {
    for name in names {
        let cells = Held { cells: sheet(&name)?, at: 0 };
        let Some(mut table) = SheetTable::open(name, cells, Vec::new(), reading)? else { continue };
        if !visit(&mut table)? {
            break;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_and_letters_are_those_of_sheets() {
        assert_eq!(parse_range("B3:F200"), Some([2, 1, 199, 5]));
        assert_eq!(parse_range("aa1:"), Some([0, 26, u32::MAX, u32::MAX]));
        for wrong in ["B3", "3B:F2", "F3:B4", "B0:C1", "B:C", "", "é1:A2"] {
            assert_eq!(parse_range(wrong), None, "{wrong}");
        }
        assert_eq!([0, 25, 26, 701, 702].map(letters), ["A", "Z", "AA", "ZZ", "AAA"]);
    }

    #[test]
    fn sheet_names_fit_patterns() {
        for (pattern, name, expected) in [
            ("Jan*", "January", true),
            ("jan*", "January", true),
            ("*ary", "January", true),
            ("J*u*y", "January", true),
            ("J*x*y", "January", false),
            ("January", "January 2", false),
            ("*", "", true),
        ] {
            assert_eq!(fits(pattern, name), expected, "{pattern} {name}");
        }
    }
}
