//! Cells of a sheet, in the order of rows and columns.

use std::borrow::Cow;
use std::io::{Read, Seek};

use calamine::{Data, DataRef, ExcelDateTime, Range, XlsxCellReader, XlsxError};
use jiff::civil::{Date, DateTime, Time};

use crate::cell::Cell;
use crate::fault::Fault;

/// Cells in the order of rows and columns, both counted from 0.
pub(super) trait Cells {
    fn next_cell(&mut self) -> Result<Option<(u32, u32, Cell<'_>)>, Fault>;
}

pub(super) struct Streamed<'a, R: Read + Seek> {
    pub cells: XlsxCellReader<'a, R>,
    pub last: Option<calamine::Cell<DataRef<'a>>>,
    /// The reader must not be asked again after its end.
    pub ended: bool,
}

impl<R: Read + Seek> Cells for Streamed<'_, R> {
    fn next_cell(&mut self) -> Result<Option<(u32, u32, Cell<'_>)>, Fault> {
        if self.ended {
            return Ok(None);
        }
        self.last = self.cells.next_cell().map_err(xlsx_fault)?;
        self.ended = self.last.is_none();
        Ok(self.last.as_ref().map(|cell| {
            let (row, column) = cell.get_position();
            (row, column, cell_of_ref(cell.get_value()))
        }))
    }
}

pub(super) struct Held {
    pub cells: Range<Data>,
    pub at: usize,
}

impl Cells for Held {
    fn next_cell(&mut self) -> Result<Option<(u32, u32, Cell<'_>)>, Fault> {
        let width = self.cells.width();
        let Some((first_row, first_column)) = self.cells.start() else { return Ok(None) };
        loop {
            let (row, column) = (self.at / width, self.at % width);
            let Some(value) = self.cells.get((row, column)) else { return Ok(None) };
            self.at += 1;
            if !matches!(value, Data::Empty) {
                let (row, column) = (first_row + row as u32, first_column + column as u32);
                return Ok(Some((row, column, cell_of(value))));
            }
        }
    }
}

pub(super) fn number(value: f64) -> Cell<'static> {
    // Workbooks know no whole numbers; those that are whole up to 2^53 are exact.
    if value.fract() == 0.0 && value.abs() < 9_007_199_254_740_992.0 {
        Cell::Integer(value as i64)
    } else {
        Cell::Real(value)
    }
}

pub(super) fn moment(value: &ExcelDateTime) -> Cell<'static> {
    if value.is_duration() {
        let seconds = (value.as_f64() * 86_400.0).round() as i64;
        let (sign, seconds) = (if seconds < 0 { "-" } else { "" }, seconds.abs());
        let (hours, minutes) = (seconds / 3600, seconds / 60 % 60);
        return Cell::Text(format!("{sign}{hours}:{minutes:02}:{:02}", seconds % 60).into());
    }
    // 0 to 31 December 9999; what lies beyond is no day of any calendar.
    if !(0.0..2_958_466.0).contains(&value.as_f64()) {
        return Cell::Error(format!("a date beyond the calendar: {}", value.as_f64()).into());
    }
    let (year, month, day, hour, minute, second, milli) = value.to_ymd_hms_milli();
    let date = Date::new(year as i16, month as i8, day as i8);
    let nanos = i32::from(milli) * 1_000_000;
    let time = Time::new(hour as i8, minute as i8, second as i8, nanos);
    match (date, time) {
        (_, Ok(time)) if (0.0..1.0).contains(&value.as_f64()) => Cell::Time(time),
        (Ok(date), Ok(time)) if time == Time::midnight() => Cell::Date(date),
        (Ok(date), Ok(time)) => Cell::Timestamp(DateTime::from_parts(date, time)),
        // Workbooks have a 29 February 1900, which never was.
        _ => Cell::Text(format!("{year:04}-{month:02}-{day:02}").into()),
    }
}

/// A date or time that stands as ISO 8601.
pub(super) fn iso(text: &str) -> Cell<'_> {
    if let Ok(date) = text.parse::<Date>()
        && text.len() == 10
    {
        Cell::Date(date)
    } else if let Ok(time) = text.parse::<DateTime>() {
        // A day is a day, as in other workbooks.
        if time.time() == Time::midnight() {
            Cell::Date(time.date())
        } else {
            Cell::Timestamp(time)
        }
    } else if let Ok(time) = text.parse::<Time>() {
        Cell::Time(time)
    } else {
        Cell::Text(Cow::Borrowed(text))
    }
}

pub(super) fn cell_of_ref<'a>(value: &'a DataRef<'_>) -> Cell<'a> {
    match value {
        DataRef::Empty => Cell::Nothing,
        DataRef::Int(whole) => Cell::Integer(*whole),
        DataRef::Float(real) => number(*real),
        DataRef::String(text) => Cell::Text(Cow::Borrowed(text)),
        DataRef::SharedString(text) => Cell::Text(Cow::Borrowed(text)),
        DataRef::Bool(value) => Cell::Boolean(*value),
        DataRef::DateTime(value) => moment(value),
        DataRef::DateTimeIso(text) => iso(text),
        DataRef::DurationIso(text) => Cell::Text(Cow::Borrowed(text)),
        DataRef::Error(error) => Cell::Error(error.to_string().into()),
    }
}

pub(super) fn cell_of(value: &Data) -> Cell<'_> {
    match value {
        Data::Int(whole) => Cell::Integer(*whole),
        Data::Float(real) => number(*real),
        Data::String(text) => Cell::Text(Cow::Borrowed(text)),
        Data::Bool(value) => Cell::Boolean(*value),
        Data::DateTime(value) => moment(value),
        Data::DateTimeIso(text) => iso(text),
        Data::DurationIso(text) => Cell::Text(Cow::Borrowed(text)),
        Data::Error(error) => Cell::Error(error.to_string().into()),
        _ => Cell::Nothing,
    }
}

pub(super) fn xlsx_fault(error: XlsxError) -> Fault {
    match error {
        XlsxError::Password => Fault::Protected,
        XlsxError::Io(error) if error.kind() != std::io::ErrorKind::InvalidData => Fault::Io(error),
        other => Fault::Workbook(other.to_string()),
    }
}
