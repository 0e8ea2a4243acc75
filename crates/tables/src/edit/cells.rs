//! Cells as they stand in a sheet, and where.

use quick_xml::events::BytesStart;

use crate::edit::styles::Styles;
use crate::edit::value::{CellValue, fraction, serial};
use crate::edit::xml::{XmlOut, attribute, escaped};
use crate::edit::{CellPlace, EditFault};
use crate::workbook::parse_cell;

/// Rows and columns of a sheet, by the format.
pub(super) const ROWS: u32 = 1_048_576;
pub(super) const COLUMNS: u32 = 16_384;

/// Writes a cell with a value, in a style in which it is shown as what it is.
pub(super) fn write_cell(
    x: &str,
    epoch_1904: bool,
    place: CellPlace,
    style: Option<u32>,
    value: &CellValue,
    writer: &mut XmlOut<'_>,
    styles: &mut Styles,
) -> Result<(), EditFault> {
    let needed = styles.for_value(style.unwrap_or(0), value)?;
    let style = match (style, needed) {
        (None, 0) => String::new(),
        (_, style) => format!(" s=\"{style}\""),
    };
    let plain = |number: String| format!("><{x}v>{number}</{x}v></{x}c>");
    let days = |date, time| serial(date, time, epoch_1904).map(|days| days.to_string());
    let rest = match value {
        CellValue::Nothing => "/>".to_owned(),
        CellValue::Text(text) => {
            let space = if text.trim() == text { "" } else { " xml:space=\"preserve\"" };
            let text = in_cell(text);
            format!(" t=\"inlineStr\"><{x}is><{x}t{space}>{text}</{x}t></{x}is></{x}c>")
        }
        CellValue::Number(digits) => plain(digits.clone()),
        CellValue::Date(date) => plain(days(*date, jiff::civil::Time::midnight())?),
        CellValue::Moment(moment) => plain(days(moment.date(), moment.time())?),
        CellValue::Time(time) => plain(fraction(*time).to_string()),
        CellValue::Boolean(value) => {
            format!(" t=\"b\"><{x}v>{}</{x}v></{x}c>", u8::from(*value))
        }
        CellValue::Formula(formula) => format!("><{x}f>{}</{x}f></{x}c>", escaped(formula)),
    };
    writer.raw(&format!("<{x}c r=\"{place}\"{style}{rest}"))
}

/// A text as it stands in a cell: letters that XML cannot hold are written by their numbers
/// (ECMA-376, 22.9.2.19), and so is what would be read as one.
fn in_cell(text: &str) -> String {
    let mut written = String::with_capacity(text.len());
    for (at, letter) in text.char_indices() {
        match letter {
            '\t' | '\n' => written.push(letter),
            '\u{FFFE}' | '\u{FFFF}' => written.push_str(&format!("_x{:04X}_", letter as u32)),
            letter if letter < ' ' => written.push_str(&format!("_x{:04X}_", letter as u32)),
            '_' if is_number_of_letter(&text[at..]) => written.push_str("_x005F_"),
            letter => written.push(letter),
        }
    }
    escaped(&written)
}

fn is_number_of_letter(text: &str) -> bool {
    let bytes = text.as_bytes();
    bytes.len() >= 7
        && bytes[1] == b'x'
        && bytes[2..6].iter().all(u8::is_ascii_hexdigit)
        && bytes[6] == b'_'
}

/// The number of a row, from 0: one without a number follows the one before it.
pub(super) fn row_number(tag: &BytesStart<'_>, before: Option<u32>) -> Result<u32, &'static str> {
    let next = before.map_or(0, |before| before + 1);
    let row = match attribute(tag, "r") {
        Some(text) => text.parse::<u32>().ok().and_then(|row| row.checked_sub(1)),
        None => Some(next),
    };
    match row.filter(|row| *row < ROWS) {
        Some(row) if row >= next => Ok(row),
        Some(_) => Err("the rows are not in order"),
        None => Err("a row has a number that there is not"),
    }
}

/// The column of a cell, from 0.
pub(super) fn column_number(
    tag: &BytesStart<'_>,
    row: u32,
    before: Option<u32>,
) -> Result<u32, &'static str> {
    let next = before.map_or(0, |before| before + 1);
    let column = match attribute(tag, "r") {
        Some(text) => {
            parse_cell(&text).filter(|(found, _)| *found == row).map(|(_, column)| column)
        }
        None => Some(next),
    };
    match column.filter(|column| *column < COLUMNS) {
        Some(column) if column >= next => Ok(column),
        Some(_) => Err("the cells of a row are not in order"),
        None => Err("a cell has a place that there is not"),
    }
}
