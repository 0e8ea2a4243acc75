//! Types of columns: reading a text as a value of one, and guessing which.

mod fixed;
mod guess;
mod iso;
mod scaled;

use std::borrow::Cow;

use jiff::civil::{Date, DateTime, Time};
use jiff::fmt::strtime::BrokenDownTime;

use crate::cell::Cell;

pub(crate) use fixed::FixedDate;
pub use guess::Guess;
pub(crate) use iso::{is_iso_date, is_iso_time, iso_date_of, iso_time_of};
use iso::{iso_date, iso_time};
pub(crate) use scaled::MOST_DIGITS;
pub use scaled::Scaled;

/// The type of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// Any text.
    Text,
    /// Whole numbers that fit 64 bits.
    Integer,
    /// Numbers kept digit by digit.
    Decimal,
    /// Numbers in binary floating point.
    Real,
    /// True or false.
    Boolean,
    /// A date.
    Date,
    /// A time of day.
    Time,
    /// A date with a time of day.
    Timestamp,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 8] = [
        Kind::Text,
        Kind::Integer,
        Kind::Decimal,
        Kind::Real,
        Kind::Boolean,
        Kind::Date,
        Kind::Time,
        Kind::Timestamp,
    ];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Text => "text",
            Kind::Integer => "integer",
            Kind::Decimal => "decimal",
            Kind::Real => "real",
            Kind::Boolean => "boolean",
            Kind::Date => "date",
            Kind::Time => "time",
            Kind::Timestamp => "timestamp",
        }
    }

    /// The type of this name.
    pub fn of(word: &str) -> Option<Kind> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// Whether its values are numbers.
    pub fn is_number(self) -> bool {
        matches!(self, Kind::Integer | Kind::Decimal | Kind::Real)
    }
}

/// How texts of a type are written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spelling {
    /// strftime formats of dates and times; ISO 8601 when there is none.
    pub formats: Vec<String>,
    /// Stands before the fraction of numbers.
    pub point: char,
    /// Stands between groups of digits, and is left out.
    pub group: Option<char>,
    /// Whether decimal numbers may have an exponent, such as `1.5e3`; they are written
    /// out.
    pub exponent: bool,
}

impl Default for Spelling {
    fn default() -> Self {
        Spelling { formats: Vec::new(), point: '.', group: None, exponent: false }
    }
}

const TRUE: [&str; 4] = ["true", "yes", "1", "t"];
const FALSE: [&str; 4] = ["false", "no", "0", "f"];

/// Whether a text is a number written with digits, at most one point, and perhaps a
/// sign.
fn is_decimal(text: &str) -> bool {
    let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
    let (mut points, mut others) = (0_usize, false);
    for byte in digits.bytes() {
        points += usize::from(byte == b'.');
        others |= !byte.is_ascii_digit() && byte != b'.';
    }
    !others && points <= 1 && digits.len() > points
}

/// A text without the space around it. Most have none, which two bytes tell.
fn trimmed(text: &str) -> &str {
    match text.as_bytes() {
        [b'!'..=b'~'] | [b'!'..=b'~', .., b'!'..=b'~'] => text,
        _ => text.trim(),
    }
}

/// A number as it is spelled, with a point and without groups.
fn plain<'a>(text: &'a str, spelling: &Spelling) -> Cow<'a, str> {
    if spelling.point == '.' && spelling.group.is_none() {
        return Cow::Borrowed(text);
    }
    let letters = text.chars().filter(|c| Some(*c) != spelling.group);
    // A point that is not the fraction's makes it no number.
    letters
        .map(|c| match c {
            c if c == spelling.point => '.',
            '.' => '?',
            c => c,
        })
        .collect::<String>()
        .into()
}

/// Digits of a number with an exponent that are written out at the most.
const WRITTEN_OUT: usize = 60;

/// A number with an exponent as digits and a point: `1.5e3` is `1500`.
fn written_out(number: &str) -> Option<String> {
    let (digits, exponent) = number.split_once(['e', 'E'])?;
    if !is_decimal(digits) {
        return None;
    }
    let exponent: i32 = exponent.parse().ok()?;
    let (sign, digits) = match digits.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", digits.strip_prefix('+').unwrap_or(digits)),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let all = format!("{whole}{fraction}");
    let point = i32::try_from(whole.len()).ok()? + exponent;
    if point.unsigned_abs() as usize + all.len() > WRITTEN_OUT {
        return None;
    }
    let (before, after) = match usize::try_from(point) {
        Ok(point) if point >= all.len() => {
            (format!("{all}{}", "0".repeat(point - all.len())), String::new())
        }
        Ok(point) => (all[..point].to_owned(), all[point..].to_owned()),
        Err(_) => (String::new(), format!("{}{all}", "0".repeat(point.unsigned_abs() as usize))),
    };
    let before = before.trim_start_matches('0');
    let before = if before.is_empty() { "0" } else { before };
    let point = if after.is_empty() { "" } else { "." };
    Some(format!("{sign}{before}{point}{after}"))
}

/// Reads a cell as a value of a type; `None` when it is none. Space around a value that
/// is no text does not count.
pub fn read<'a>(cell: &Cell<'a>, kind: Kind, spelling: &Spelling) -> Option<Cell<'a>> {
    match cell {
        Cell::Nothing => Some(Cell::Nothing),
        Cell::Error(_) => None,
        Cell::Text(text) | Cell::Decimal(text) => match text {
            Cow::Borrowed(text) => read_text(text, kind, spelling),
            Cow::Owned(text) => read_text(text, kind, spelling).map(owned),
        },
        other => read_value(other, kind),
    }
}

/// A cell with text of its own.
pub fn owned<'b>(cell: Cell<'_>) -> Cell<'b> {
    match cell {
        Cell::Text(text) => Cell::Text(Cow::Owned(text.into_owned())),
        Cell::Decimal(text) => Cell::Decimal(Cow::Owned(text.into_owned())),
        Cell::Error(text) => Cell::Error(Cow::Owned(text.into_owned())),
        Cell::Nothing => Cell::Nothing,
        Cell::Integer(number) => Cell::Integer(number),
        Cell::Real(number) => Cell::Real(number),
        Cell::Boolean(value) => Cell::Boolean(value),
        Cell::Date(date) => Cell::Date(date),
        Cell::Time(time) => Cell::Time(time),
        Cell::Timestamp(time) => Cell::Timestamp(time),
    }
}

/// Reads a text as a value of a type; `None` when it is none.
pub(crate) fn read_text<'a>(text: &'a str, kind: Kind, spelling: &Spelling) -> Option<Cell<'a>> {
    if kind == Kind::Text {
        return Some(Cell::Text(Cow::Borrowed(text)));
    }
    let text = trimmed(text);
    match kind {
        Kind::Text => None,
        Kind::Integer => {
            if let Ok(number) = text.parse() {
                return Some(Cell::Integer(number));
            }
            let digits = plain(text, spelling);
            let digits = digits.strip_prefix('+').unwrap_or(&digits);
            let good = is_decimal(digits) && !digits.contains('.');
            good.then(|| digits.parse().ok().map(Cell::Integer))?
        }
        Kind::Decimal => {
            let number = plain(text, spelling);
            if spelling.exponent && number.contains(['e', 'E']) {
                return written_out(&number).map(|digits| Cell::Decimal(digits.into()));
            }
            is_decimal(&number).then_some(Cell::Decimal(number))
        }
        Kind::Real => {
            let number = plain(text, spelling);
            let odd = |byte: u8| !matches!(byte, b'0'..=b'9' | b'.' | b'-' | b'+' | b'e' | b'E');
            if number.bytes().any(odd) {
                return None;
            }
            number.parse().ok().filter(|real: &f64| real.is_finite()).map(Cell::Real)
        }
        Kind::Boolean => {
            let among = |words: [&str; 4]| words.iter().any(|word| word.eq_ignore_ascii_case(text));
            match (among(TRUE), among(FALSE)) {
                (true, _) => Some(Cell::Boolean(true)),
                (_, true) => Some(Cell::Boolean(false)),
                _ => None,
            }
        }
        Kind::Date => read_date(text, spelling).map(Cell::Date),
        Kind::Time => read_time(text, spelling).map(Cell::Time),
        Kind::Timestamp => read_timestamp(text, spelling).map(Cell::Timestamp),
    }
}

fn with_formats<T>(
    text: &str,
    spelling: &Spelling,
    fixed: impl Fn(&str, &str) -> Option<T>,
    take: impl Fn(&BrokenDownTime) -> Option<T>,
) -> Option<T> {
    let parse = |format: &String| {
        let whole = || BrokenDownTime::parse(format, text).ok().and_then(|parts| take(&parts));
        fixed(format, text).or_else(whole)
    };
    spelling.formats.iter().find_map(parse)
}

fn read_date(text: &str, spelling: &Spelling) -> Option<Date> {
    if spelling.formats.is_empty() {
        return iso_date(text);
    }
    with_formats(text, spelling, fixed::date, |parts| parts.to_date().ok())
}

fn read_time(text: &str, spelling: &Spelling) -> Option<Time> {
    if spelling.formats.is_empty() {
        return iso_time(text);
    }
    with_formats(text, spelling, fixed::time, |parts| parts.to_time().ok())
}

fn read_timestamp(text: &str, spelling: &Spelling) -> Option<DateTime> {
    if !spelling.formats.is_empty() {
        return with_formats(text, spelling, fixed::timestamp, |parts| parts.to_datetime().ok());
    }
    // With an offset it is taken at that offset's own clock, made UTC.
    let date = iso_date(text.get(..10)?)?;
    let rest = text.get(10..)?;
    let clock = rest.strip_prefix(['T', 't', ' '])?;
    if let Some(time) = iso_time(clock) {
        return Some(DateTime::from_parts(date, time));
    }
    let stamp: jiff::Timestamp = text.parse().ok()?;
    Some(stamp.to_zoned_datetime(jiff::tz::TimeZone::UTC).datetime())
}

/// A value of a workbook or of JSON as one of a type.
fn read_value<'a>(cell: &Cell<'a>, kind: Kind) -> Option<Cell<'a>> {
    match (cell, kind) {
        (Cell::Integer(_), Kind::Integer)
        | (Cell::Real(_), Kind::Real)
        | (Cell::Boolean(_), Kind::Boolean)
        | (Cell::Date(_), Kind::Date)
        | (Cell::Time(_), Kind::Time)
        | (Cell::Timestamp(_), Kind::Timestamp) => Some(cell.clone()),
        (_, Kind::Text) => Some(Cell::Text(cell.to_text().into())),
        (Cell::Integer(whole), Kind::Real) => Some(Cell::Real(*whole as f64)),
        (Cell::Integer(_) | Cell::Real(_), Kind::Decimal) => {
            let text = cell.to_text();
            is_decimal(&text).then_some(Cell::Decimal(text.into()))
        }
        (Cell::Integer(0), Kind::Boolean) => Some(Cell::Boolean(false)),
        (Cell::Integer(1), Kind::Boolean) => Some(Cell::Boolean(true)),
        (Cell::Date(date), Kind::Timestamp) => {
            Some(Cell::Timestamp(DateTime::from_parts(*date, Time::midnight())))
        }
        (Cell::Timestamp(time), Kind::Date) if time.time() == Time::midnight() => {
            Some(Cell::Date(time.date()))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests;
