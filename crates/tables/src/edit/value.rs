//! What a cell is set to.

use jiff::civil::{Date, DateTime, Time};

use crate::cell::Cell;
use crate::edit::{EditFault, refused};
use crate::kind::{Guess, Kind, Spelling, read_text};

/// Characters of one text, by the format.
const TEXT: usize = 32_767;
/// Characters of one formula, by the format.
const FORMULA: usize = 8_192;

/// As what a value is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueType {
    /// As what it looks like.
    Guess,
    /// As text.
    Text,
    /// As a number.
    Number,
    /// As a date, a time, or both.
    Date,
    /// As true or false.
    Boolean,
    /// As a formula.
    Formula,
}

/// A value of a cell.
#[derive(Debug, Clone, PartialEq)]
pub enum CellValue {
    /// Nothing stands there.
    Nothing,
    /// A text.
    Text(String),
    /// A number, in digits.
    Number(String),
    /// A date.
    Date(Date),
    /// A time of day.
    Time(Time),
    /// A date and a time of day.
    Moment(DateTime),
    /// True or false.
    Boolean(bool),
    /// A formula, without its equals sign.
    Formula(String),
}

impl std::fmt::Display for CellValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            CellValue::Nothing => Ok(()),
            CellValue::Text(text) | CellValue::Number(text) => f.write_str(text),
            CellValue::Date(date) => date.fmt(f),
            CellValue::Time(time) => time.fmt(f),
            CellValue::Moment(moment) => write!(f, "{} {}", moment.date(), moment.time()),
            CellValue::Boolean(true) => f.write_str("true"),
            CellValue::Boolean(false) => f.write_str("false"),
            CellValue::Formula(formula) => write!(f, "={formula}"),
        }
    }
}

impl CellValue {
    /// Reads a text as a value of a type. What is guessed is guessed with care: `007` is
    /// text, and so is what begins with an equals sign.
    ///
    /// # Errors
    /// [`EditFault::Refused`], where it is none.
    pub fn read(text: &str, as_type: ValueType) -> Result<Self, EditFault> {
        let kind = match as_type {
            ValueType::Guess => {
                let mut guess = Guess::default();
                guess.note(&Cell::Text(text.into()));
                guess.kind()
            }
            ValueType::Text => Kind::Text,
            ValueType::Number => Kind::Decimal,
            ValueType::Date => Kind::Timestamp,
            ValueType::Boolean => Kind::Boolean,
            ValueType::Formula => return formula(text),
        };
        if text.is_empty() {
            return Ok(CellValue::Nothing);
        }
        let spelling = Spelling { exponent: true, ..Spelling::default() };
        let value = match kind {
            Kind::Text => return bounded(text).map(CellValue::Text),
            Kind::Timestamp if as_type == ValueType::Date => moment(text, &spelling),
            kind => read_text(text, kind, &spelling).and_then(of_cell),
        };
        value.ok_or_else(|| {
            refused(format!(
                "`{text}` is no {}",
                if kind.is_number() { "number" } else { kind.word() }
            ))
        })
    }
}

fn of_cell(cell: Cell<'_>) -> Option<CellValue> {
    Some(match cell {
        Cell::Integer(number) => CellValue::Number(number.to_string()),
        Cell::Decimal(digits) => CellValue::Number(digits.into_owned()),
        Cell::Real(number) => CellValue::Number(number.to_string()),
        Cell::Boolean(value) => CellValue::Boolean(value),
        Cell::Date(date) => CellValue::Date(date),
        Cell::Time(time) => CellValue::Time(time),
        Cell::Timestamp(moment) => CellValue::Moment(moment),
        _ => return None,
    })
}

/// A date, a time of day, or both.
fn moment(text: &str, spelling: &Spelling) -> Option<CellValue> {
    let kinds = [Kind::Date, Kind::Time, Kind::Timestamp];
    kinds.into_iter().find_map(|kind| read_text(text, kind, spelling).and_then(of_cell))
}

fn bounded(text: &str) -> Result<String, EditFault> {
    match text.encode_utf16().count() {
        count if count > TEXT => {
            Err(refused(format!("a cell holds {TEXT} characters, and the value has {count}")))
        }
        _ => Ok(text.to_owned()),
    }
}

fn formula(text: &str) -> Result<CellValue, EditFault> {
    let bare = text.trim().strip_prefix('=').unwrap_or(text.trim());
    match bare.encode_utf16().count() {
        0 => Err(refused("a formula is empty")),
        count if count > FORMULA => {
            Err(refused(format!("a formula holds {FORMULA} characters, and this has {count}")))
        }
        _ => Ok(CellValue::Formula(bare.to_owned())),
    }
}

/// Days between 1899-12-30, from which the first system of dates counts, and 1904-01-01.
const TO_1904: i32 = 1462;

/// A moment as a workbook counts it: days since the end of 1899, or since 1904.
///
/// The first system has a 29 February 1900, which never was: what is before it counts one
/// less (ECMA-376, 18.17.4.1).
pub(super) fn serial(date: Date, time: Time, epoch_1904: bool) -> Result<f64, EditFault> {
    let before = || {
        let first = if epoch_1904 { "1904" } else { "1900" };
        refused(format!("{date} is before {first}, where the dates of the workbook begin"))
    };
    let zero = jiff::civil::date(1899, 12, 30);
    let days = (date - zero).get_days();
    let days = match (epoch_1904, days) {
        (true, days) if days >= TO_1904 => days - TO_1904,
        (false, days) if days > 60 => days,
        (false, days) if days > 1 => days - 1,
        _ => return Err(before()),
    };
    Ok(f64::from(days) + fraction(time))
}

/// A time of day as a part of a day.
pub(super) fn fraction(time: Time) -> f64 {
    let midnight = Time::midnight();
    let seconds = time.duration_since(midnight).as_secs_f64();
    seconds / 86_400.0
}
