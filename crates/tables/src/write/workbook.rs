//! Workbooks (xlsx), written row by row in little memory.

use std::fs::File;
use std::io::{self, Seek, Write};
use std::path::PathBuf;

use jiff::civil::{Date, Time};
use rust_xlsxwriter::{
    DocProperties, ExcelDateTime, Format, Workbook as Book, Worksheet, XlsxError,
};

use super::{Head, Out, Sink, Stacking, Writing, invalid};
use crate::cell::Cell;

/// Rows and columns of a sheet, by the format.
const ROWS: u32 = 1_048_576;
const COLUMNS: usize = 16_384;
/// Characters of one text, by the format.
const TEXT: usize = 32_767;
/// Rows by which the widths of columns are told.
const MEASURED: u32 = 500;
/// Whole numbers beyond this are not exact in a workbook.
const EXACT: u64 = 1 << 53;

pub(super) struct Workbook<'a> {
    out: Out<'a>,
    book: Book,
    columns: Vec<Head>,
    stacking: Stacking,
    scratch: Option<PathBuf>,
    /// Names of the sheets so far, in lower case.
    names: Vec<String>,
    row: u32,
    widths: Vec<usize>,
    date: Format,
    time: Format,
    moment: Format,
}

/// A name for a sheet, by the format's rules: at most 31 characters, none of
/// `[]:*?/\`, no apostrophe at its ends, and not one of `taken` in any letter case.
pub fn sheet_name(wanted: &str, taken: &[String]) -> String {
    let cleaned: String = wanted
        .chars()
        .map(|c| {
            if matches!(c, '[' | ']' | ':' | '*' | '?' | '/' | '\\') || c.is_control() {
                ' '
            } else {
                c
            }
        })
        .collect();
    let cleaned = cleaned.split_whitespace().collect::<Vec<_>>().join(" ");
    let trimmed = |text: &str| text.trim().trim_matches('\'').trim().to_owned();
    let mut base = trimmed(&cleaned);
    // The format keeps this name for itself.
    if base.is_empty() || base.eq_ignore_ascii_case("history") {
        base = format!("Sheet {base}").trim().to_owned();
    }
    let units = |text: &str| text.encode_utf16().count();
    let shortened = |text: &str, most: usize| {
        let mut text = text.to_owned();
        while units(&text) > most {
            text.pop();
        }
        trimmed(&text)
    };
    let mut name = shortened(&base, 31);
    let mut number = 2;
    while taken.contains(&name.to_lowercase()) {
        let ending = format!(" ({number})");
        name = format!("{}{ending}", shortened(&base, 31 - units(&ending)));
        number += 1;
    }
    name
}

fn failed(error: XlsxError) -> io::Error {
    match error {
        XlsxError::IoError(error) => error,
        other => io::Error::other(other.to_string()),
    }
}

impl<'a> Workbook<'a> {
    pub fn begin(out: Out<'a>, writing: &Writing, columns: &[Head]) -> io::Result<Self> {
        if columns.len() > COLUMNS {
            let found = columns.len();
            return Err(invalid(format!("a sheet has {COLUMNS} columns at most, not {found}")));
        }
        let mut book = Book::new();
        // The same rows give the same bytes, whenever they are written.
        if let Ok(always) = ExcelDateTime::from_ymd(1980, 1, 1) {
            book.set_properties(&DocProperties::new().set_creation_datetime(&always));
        }
        if let Some(folder) = &writing.scratch {
            book.set_tempdir(folder).map_err(failed)?;
        }
        let format = |text: &str| Format::new().set_num_format(text);
        let mut workbook = Workbook {
            out,
            book,
            columns: columns.to_vec(),
            stacking: writing.stacking,
            scratch: writing.scratch.clone(),
            names: Vec::new(),
            row: 0,
            widths: Vec::new(),
            date: format("yyyy-mm-dd"),
            time: format("hh:mm:ss"),
            moment: format("yyyy-mm-dd hh:mm:ss"),
        };
        if workbook.stacking == Stacking::One {
            workbook.sheet("Rows")?;
        }
        Ok(workbook)
    }

    fn sheet(&mut self, wanted: &str) -> io::Result<()> {
        self.end_sheet()?;
        let name = sheet_name(wanted, &self.names);
        let sheet = self.book.add_worksheet_with_constant_memory().map_err(failed)?;
        sheet.set_name(&name).map_err(failed)?;
        sheet.set_freeze_panes(1, 0).map_err(failed)?;
        let bold = Format::new().set_bold();
        for (at, column) in self.columns.iter().enumerate() {
            sheet.write_string_with_format(0, at as u16, &column.name, &bold).map_err(failed)?;
        }
        self.names.push(name.to_lowercase());
        self.row = 1;
        self.widths = self.columns.iter().map(|column| column.name.chars().count() + 1).collect();
        Ok(())
    }

    fn end_sheet(&mut self) -> io::Result<()> {
        if self.names.is_empty() {
            return Ok(());
        }
        let sheet = self.book.worksheet_from_index(self.names.len() - 1).map_err(failed)?;
        for (at, width) in self.widths.iter().enumerate() {
            let width = (*width).clamp(6, 60) as f64 + 1.0;
            sheet.set_column_width(at as u16, width).map_err(failed)?;
        }
        Ok(())
    }
}

fn date_of(date: Date) -> Option<ExcelDateTime> {
    // Earlier dates are not known to workbooks.
    let year = u16::try_from(date.year()).ok().filter(|year| *year >= 1900)?;
    ExcelDateTime::from_ymd(year, date.month().unsigned_abs(), date.day().unsigned_abs()).ok()
}

fn time_of(time: Time) -> (u16, u8, f64) {
    let seconds = f64::from(time.second()) + f64::from(time.subsec_nanosecond()) / 1e9;
    (time.hour().unsigned_abs().into(), time.minute().unsigned_abs(), seconds)
}

struct Formats<'f> {
    date: &'f Format,
    time: &'f Format,
    moment: &'f Format,
}

fn write(
    sheet: &mut Worksheet,
    row: u32,
    column: u16,
    cell: &Cell<'_>,
    formats: &Formats<'_>,
) -> io::Result<()> {
    let text = |sheet: &mut Worksheet, text: &str| {
        if text.len() > TEXT && text.encode_utf16().count() > TEXT {
            let what = format!(
                "a text in row {} has more than {TEXT} characters, the most that a workbook holds",
                row + 1
            );
            return Err(invalid(what));
        }
        sheet.write_string(row, column, text).map(|_| ()).map_err(failed)
    };
    let done = match cell {
        Cell::Nothing => return Ok(()),
        Cell::Text(found) | Cell::Error(found) => return text(sheet, found),
        Cell::Integer(whole) if whole.unsigned_abs() <= EXACT => {
            sheet.write_number(row, column, *whole as f64)
        }
        Cell::Real(real) => sheet.write_number(row, column, *real),
        Cell::Decimal(digits) if digits.bytes().filter(u8::is_ascii_digit).count() <= 15 => {
            match digits.parse::<f64>() {
                Ok(real) => sheet.write_number(row, column, real),
                Err(_) => return text(sheet, digits),
            }
        }
        Cell::Boolean(value) => sheet.write_boolean(row, column, *value),
        Cell::Date(date) => match date_of(*date) {
            Some(value) => sheet.write_datetime_with_format(row, column, value, formats.date),
            None => return text(sheet, &date.to_string()),
        },
        Cell::Time(time) => {
            let (hour, minute, second) = time_of(*time);
            match ExcelDateTime::from_hms(hour, minute, second) {
                Ok(value) => sheet.write_datetime_with_format(row, column, value, formats.time),
                Err(_) => return text(sheet, &time.to_string()),
            }
        }
        Cell::Timestamp(moment) => {
            let (hour, minute, second) = time_of(moment.time());
            match date_of(moment.date()).and_then(|date| date.and_hms(hour, minute, second).ok()) {
                Some(value) => sheet.write_datetime_with_format(row, column, value, formats.moment),
                None => return text(sheet, &moment.to_string()),
            }
        }
        // As a number it would lose digits.
        Cell::Integer(_) | Cell::Decimal(_) => return text(sheet, &cell.to_text()),
    };
    done.map(|_| ()).map_err(failed)
}

impl Sink for Workbook<'_> {
    fn source(&mut self, sheet: &str) -> io::Result<()> {
        match self.stacking {
            Stacking::One => Ok(()),
            Stacking::Each => self.sheet(sheet),
        }
    }

    fn row(&mut self, cells: &[Cell<'_>], _: u64) -> io::Result<()> {
        if self.row >= ROWS {
            return Err(invalid(format!(
                "a sheet has {ROWS} rows at most; write .csv or .parquet, or a sheet for each source"
            )));
        }
        let Workbook { book, date, time, moment, .. } = self;
        let sheet = book.worksheet_from_index(self.names.len() - 1).map_err(failed)?;
        let formats = Formats { date, time, moment };
        for (at, cell) in cells.iter().enumerate() {
            write(sheet, self.row, at as u16, cell, &formats)?;
            if self.row <= MEASURED {
                let width = match cell {
                    Cell::Nothing => 0,
                    Cell::Text(text) => text.chars().count(),
                    other => other.to_text().chars().count(),
                };
                self.widths[at] = self.widths[at].max(width);
            }
        }
        self.row += 1;
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        if self.names.is_empty() {
            self.sheet("Rows")?;
        }
        self.end_sheet()?;
        // A workbook is written to and fro; the output only takes bytes in order.
        let mut whole: File = match &self.scratch {
            Some(folder) => tempfile::tempfile_in(folder)?,
            None => tempfile::tempfile()?,
        };
        self.book.save_to_writer(&mut whole).map_err(failed)?;
        whole.rewind()?;
        io::copy(&mut whole, &mut self.out)?;
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::sheet_name;

    #[test]
    fn sheet_names_keep_to_the_format() {
        let taken = ["garrow light".to_owned()];
        for (wanted, expected) in [
            ("Ullin Bay", "Ullin Bay"),
            ("2026/01: [all]*?", "2026 01 all"),
            ("'quoted'", "quoted"),
            ("", "Sheet"),
            ("History", "Sheet History"),
            ("Garrow Light", "Garrow Light (2)"),
            ("a name that is much longer than a sheet may have", "a name that is much longer than"),
        ] {
            assert_eq!(sheet_name(wanted, &taken), expected);
        }
        let long = "x".repeat(31);
        assert_eq!(
            sheet_name(&long, std::slice::from_ref(&long)),
            format!("{} (2)", "x".repeat(27))
        );
    }
}
