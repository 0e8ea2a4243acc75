//! Sheets of workbooks as tables. Of xlsx cells are read one after the other; the
//! older kinds are held in memory by the library that reads them.

use std::borrow::Cow;
use std::io::{Read, Seek};
use std::panic::{AssertUnwindSafe, catch_unwind};

use calamine::{
    Data, DataRef, Dimensions, ExcelDateTime, Ods, OdsError, Range, Reader as _, SheetType,
    SheetVisible, Xls, XlsError, Xlsx, XlsxCellReader, XlsxError,
};
use jiff::civil::{Date, DateTime, Time};

use crate::cell::{Cell, Row};
use crate::container;
use crate::fault::Fault;
use crate::source::{Format, Header, Merged, Reading, Sheets, Table, Visit};

/// Cells in the order of rows and columns, both counted from 0.
trait Cells {
    fn next_cell(&mut self) -> Result<Option<(u32, u32, Cell<'_>)>, Fault>;
}

struct Streamed<'a, R: Read + Seek> {
    cells: XlsxCellReader<'a, R>,
    last: Option<calamine::Cell<DataRef<'a>>>,
    /// The reader must not be asked again after its end.
    ended: bool,
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

struct Held {
    cells: Range<Data>,
    at: usize,
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

fn number(value: f64) -> Cell<'static> {
    // Workbooks know no whole numbers; those that are whole up to 2^53 are exact.
    if value.fract() == 0.0 && value.abs() < 9_007_199_254_740_992.0 {
        Cell::Integer(value as i64)
    } else {
        Cell::Real(value)
    }
}

fn moment(value: &ExcelDateTime) -> Cell<'static> {
    if value.is_duration() {
        let seconds = (value.as_f64() * 86_400.0).round() as i64;
        let (sign, seconds) = (if seconds < 0 { "-" } else { "" }, seconds.abs());
        let (hours, minutes) = (seconds / 3600, seconds / 60 % 60);
        return Cell::Text(format!("{sign}{hours}:{minutes:02}:{:02}", seconds % 60).into());
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
fn iso(text: &str) -> Cell<'_> {
    if let Ok(date) = text.parse::<Date>()
        && text.len() == 10
    {
        Cell::Date(date)
    } else if let Ok(time) = text.parse::<DateTime>() {
        Cell::Timestamp(time)
    } else if let Ok(time) = text.parse::<Time>() {
        Cell::Time(time)
    } else {
        Cell::Text(Cow::Borrowed(text))
    }
}

fn cell_of_ref<'a>(value: &'a DataRef<'_>) -> Cell<'a> {
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

fn cell_of(value: &Data) -> Cell<'_> {
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

fn xlsx_fault(error: XlsxError) -> Fault {
    match error {
        XlsxError::Password => Fault::Protected,
        XlsxError::Io(error) if error.kind() != std::io::ErrorKind::InvalidData => Fault::Io(error),
        other => Fault::Workbook(other.to_string()),
    }
}

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

/// A range of a sheet, such as `B3:F200` or `B3:` for all that follows: first row and
/// column, last row and column, from 0.
pub fn parse_range(text: &str) -> Option<[u32; 4]> {
    let place = |text: &str| -> Option<(u32, u32)> {
        let digits = text.find(|c: char| c.is_ascii_digit())?;
        let (column, row) = text.split_at(digits);
        let mut number = 0u32;
        for letter in column.chars() {
            let value = u32::from(letter.to_ascii_uppercase()).checked_sub(u32::from('A'))?;
            number = (value < 26).then(|| number.checked_mul(26)?.checked_add(value + 1))??;
        }
        Some((row.parse::<u32>().ok()?.checked_sub(1)?, number.checked_sub(1)?))
    };
    let (first, last) = text.split_once(':')?;
    let (row, column) = place(first)?;
    let (last_row, last_column) = if last.is_empty() { (u32::MAX, u32::MAX) } else { place(last)? };
    (row <= last_row && column <= last_column).then_some([row, column, last_row, last_column])
}

/// One sheet, its header read.
struct SheetTable<C> {
    name: String,
    cells: C,
    /// The cell that was read last and belongs to a later row.
    ahead: Option<(u32, u32)>,
    ahead_cell: Row,
    range: [u32; 4],
    /// Number of each named column in the sheet.
    places: Vec<u32>,
    columns: Vec<String>,
    /// The first row, where there is no header.
    first: Option<(u32, Row)>,
    merged: Vec<Dimensions>,
    /// Values of merged cells that go on below.
    filling: Vec<(Dimensions, Row)>,
}

impl<C: Cells> SheetTable<C> {
    fn open(
        name: String,
        cells: C,
        merged: Vec<Dimensions>,
        reading: &Reading,
    ) -> Result<Option<Self>, Fault> {
        let mut table = SheetTable {
            name,
            cells,
            ahead: None,
            ahead_cell: Row::default(),
            range: reading.range.unwrap_or([0, 0, u32::MAX, u32::MAX]),
            places: Vec::new(),
            columns: Vec::new(),
            first: None,
            merged,
            filling: Vec::new(),
        };
        let mut row = Row::default();
        let wanted = match reading.header {
            Header::Row(row) => Some(row.saturating_sub(1)),
            _ => None,
        };
        let at = loop {
            match table.read_row(&mut row)? {
                None => return Ok(None),
                Some(at) if row.is_blank() || wanted.is_some_and(|wanted| at < wanted) => {}
                Some(at) => break at,
            }
        };
        table.read_header(at, row, reading.header)?;
        Ok(Some(table))
    }

    fn read_header(&mut self, at: u32, row: Row, header: Header) -> Result<(), Fault> {
        let line = u64::from(at) + 1;
        let mut named: Vec<String> = Vec::new();
        for (place, cell) in row.cells().enumerate() {
            let column = self.range[1] + place as u32;
            let name = if header == Header::None {
                format!("column_{}", place + 1)
            } else {
                crate::delimited::column_name(&cell.to_text()).to_owned()
            };
            if name.is_empty() {
                continue;
            }
            if named.contains(&name) {
                return Err(Fault::TwiceNamed { line, name });
            }
            named.push(name);
            self.places.push(column);
        }
        if header == Header::None {
            self.first = Some((at, row));
        } else if named.iter().all(|name| crate::delimited::looks_like_value(name)) {
            return Err(Fault::NoHeader { line, text: named.join(",").chars().take(60).collect() });
        }
        self.columns = named;
        Ok(())
    }

    /// Reads the cells of the next row that has any within the range; gives its number.
    fn read_row(&mut self, row: &mut Row) -> Result<Option<u32>, Fault> {
        row.clear();
        let [first_row, first_column, last_row, last_column] = self.range;
        let mut current = None;
        if let Some((at, column)) = self.ahead.take() {
            place_cell(row, column - first_column, &self.ahead_cell.cell(0))?;
            current = Some(at);
        }
        while let Some((at, column, cell)) = self.cells.next_cell()? {
            if at > last_row {
                break;
            }
            let inside = at >= first_row && (first_column..=last_column).contains(&column);
            if !inside || cell.is_nothing() {
                continue;
            }
            if current.is_some_and(|current| current != at) {
                self.ahead_cell.clear();
                self.ahead_cell.push(&cell);
                self.ahead = Some((at, column));
                break;
            }
            current = Some(at);
            place_cell(row, column - first_column, &cell)?;
        }
        if let Some(at) = current {
            self.fill_merged(at, row);
        }
        Ok(current)
    }

    /// Puts the value of merged cells into all of them.
    fn fill_merged(&mut self, at: u32, row: &mut Row) {
        if self.merged.is_empty() && self.filling.is_empty() {
            return;
        }
        let first_column = self.range[1];
        self.filling.retain(|(area, _)| area.end.0 >= at);
        for area in self.merged.extract_if(.., |area| area.start.0 <= at) {
            let mut value = Row::default();
            if area.start.0 == at {
                let place = area.start.1.checked_sub(first_column);
                value.push(&place.map_or(Cell::Nothing, |place| row.cell(place as usize)));
            }
            self.filling.push((area, value));
        }
        if self.filling.is_empty() {
            return;
        }
        let end = self.filling.iter().map(|(area, _)| area.end.1 + 1).max().unwrap_or(0);
        let length = row.len().max(end.saturating_sub(first_column) as usize);
        let mut filled = Row::default();
        filled.number = row.number;
        for place in 0..length {
            let column = first_column + place as u32;
            let area = self.filling.iter().find(|(area, _)| area.contains(at, column));
            match area {
                Some((_, value)) => filled.push(&value.cell(0)),
                None => filled.push(&row.cell(place)),
            }
        }
        *row = filled;
    }
}

fn place_cell(row: &mut Row, place: u32, cell: &Cell<'_>) -> Result<(), Fault> {
    let place = place as usize;
    if place < row.len() {
        return Err(Fault::Workbook("the cells of a sheet are not in order".into()));
    }
    row.fill_to(place);
    row.push(cell);
    Ok(())
}

impl<C: Cells> Table for SheetTable<C> {
    fn sheet(&self) -> Option<&str> {
        Some(&self.name)
    }

    fn columns(&self) -> &[String] {
        &self.columns
    }

    fn next(&mut self, row: &mut Row) -> Result<bool, Fault> {
        let mut read = Row::default();
        let at = match self.first.take() {
            Some((at, first)) => {
                read = first;
                at
            }
            None => match self.read_row(&mut read)? {
                Some(at) => at,
                None => return Ok(false),
            },
        };
        row.clear();
        row.number = u64::from(at) + 1;
        let mut named = self.places.iter().peekable();
        for (place, cell) in read.cells().enumerate() {
            let column = self.range[1] + place as u32;
            if named.next_if(|named| **named == column).is_some() {
                row.push(&cell);
            } else if !cell.is_nothing() {
                return Err(Fault::BeyondHeader { row: row.number, column: letters(column) });
            }
        }
        row.fill_to(self.columns.len());
        Ok(true)
    }
}

/// Names of the sheets that are to be read.
fn wanted(sheets: &[calamine::Sheet], reading: &Reading) -> Result<Vec<String>, Fault> {
    let tables = || sheets.iter().filter(|sheet| sheet.typ == SheetType::WorkSheet);
    let shown = |sheet: &&calamine::Sheet| reading.hidden || sheet.visible == SheetVisible::Visible;
    let found: Vec<String> = match &reading.sheets {
        Sheets::First => tables().find(shown).map(|sheet| sheet.name.clone()).into_iter().collect(),
        Sheets::All => tables().filter(shown).map(|sheet| sheet.name.clone()).collect(),
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
    let read = AssertUnwindSafe(|| read_sheets(bytes, format, reading, visit));
    catch_unwind(read).unwrap_or_else(|_| {
        Err(Fault::Workbook("it is damaged, and its reader gave up".into()).into())
    })
}

fn read_sheets<R: Read + Seek + Again, E: From<Fault>>(
    bytes: R,
    format: Format,
    reading: &Reading,
    visit: Visit<'_, E>,
) -> Result<(), E> {
    match format {
        Format::Ods => {
            let mut book = Ods::new(bytes).map_err(|error| match error {
                OdsError::Password => Fault::Protected,
                other => Fault::Workbook(other.to_string()),
            })?;
            let names = wanted(book.sheets_metadata(), reading)?;
            each_held(names, reading, visit, |name| {
                book.worksheet_range(name).map_err(|error| Fault::Workbook(error.to_string()))
            })
        }
        Format::Xls => {
            container::check(bytes.again())?;
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

fn each_streamed<R: Read + Seek, E: From<Fault>>(
    bytes: R,
    reading: &Reading,
    visit: Visit<'_, E>,
) -> Result<(), E> {
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
