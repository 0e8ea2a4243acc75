//! Rows as columns of values of one type each.

use std::io;

use jiff::civil::{Date, Time};

use super::{Head, invalid};
use crate::cell::Cell;
use crate::kind::{Kind, Scaled};

/// The values of a column, without those where nothing stands.
pub(crate) enum Values {
    /// Texts one behind the other, and where each ends.
    Text(Vec<u8>, Vec<u32>),
    Integer(Vec<i64>),
    /// Whole numbers of this scale, of 18 digits at most.
    Decimal(Vec<i64>, u32),
    /// Whole numbers of this scale, of 38 digits at most.
    Long(Vec<i128>, u32),
    Real(Vec<f64>),
    Boolean(Vec<bool>),
    Days(Vec<i32>),
    Micros(Vec<i64>),
}

/// A value on its way to its column.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Plain<'t> {
    Nothing,
    Text(&'t [u8]),
    Number(Scaled),
    Real(f64),
    Boolean(bool),
    Days(i32),
    Micros(i64),
}

/// A column of some rows.
pub(crate) struct Pending {
    pub values: Values,
    /// One for each row: whether something stands there.
    pub there: Vec<i16>,
}

/// Rows of an output, by columns.
pub struct Columns {
    pub(crate) columns: Vec<Pending>,
    pub(crate) rows: usize,
}

/// Digits of a decimal that 64 bits always hold.
pub(super) const SHORT: u32 = 18;

impl Columns {
    /// No rows yet, of these columns.
    pub fn of(heads: &[Head]) -> Self {
        let pending = |head| Pending { values: Values::of(head), there: Vec::new() };
        Columns { columns: heads.iter().map(pending).collect(), rows: 0 }
    }

    /// Adds a row.
    ///
    /// # Errors
    /// `InvalidData` for a number that its column cannot hold.
    pub fn push(&mut self, cells: &[Cell<'_>]) -> io::Result<()> {
        self.rows += 1;
        self.columns.iter_mut().zip(cells).try_for_each(|(column, cell)| column.push(cell))
    }

    /// Adds a row of values of the columns' own types; none when one of them is not, and
    /// nothing is added.
    #[inline]
    pub(crate) fn push_plain(&mut self, values: &mut [Plain<'_>]) -> Option<()> {
        for (column, value) in self.columns.iter().zip(values.iter_mut()) {
            if let Plain::Number(number) = value {
                let scale = match &column.values {
                    Values::Integer(_) => 0,
                    Values::Decimal(_, scale) | Values::Long(_, scale) => *scale,
                    _ => return None,
                };
                let digits = number.with_scale(scale)?;
                if !matches!(column.values, Values::Long(..)) {
                    i64::try_from(digits).ok()?;
                }
                *number = Scaled { digits, scale };
            }
        }
        self.rows += 1;
        for (column, value) in self.columns.iter_mut().zip(values) {
            column.push_plain(value);
        }
        Some(())
    }

    /// Bytes of its values, about.
    pub(super) fn bytes(&self) -> usize {
        self.columns.iter().map(|column| column.values.bytes() + column.there.len() * 2).sum()
    }
}

impl Values {
    fn of(head: &Head) -> Self {
        match head.kind {
            Kind::Text => Values::Text(Vec::new(), Vec::new()),
            Kind::Integer => Values::Integer(Vec::new()),
            Kind::Decimal => match head.digits {
                Some(digits) if digits.precision <= SHORT => {
                    Values::Decimal(Vec::new(), digits.scale)
                }
                Some(digits) => Values::Long(Vec::new(), digits.scale),
                // More digits than any number has there: they are kept as text.
                None => Values::Text(Vec::new(), Vec::new()),
            },
            Kind::Real => Values::Real(Vec::new()),
            Kind::Boolean => Values::Boolean(Vec::new()),
            Kind::Date => Values::Days(Vec::new()),
            Kind::Time | Kind::Timestamp => Values::Micros(Vec::new()),
        }
    }

    fn bytes(&self) -> usize {
        match self {
            Values::Text(bytes, ends) => bytes.len() + ends.len() * 4,
            Values::Integer(values) | Values::Decimal(values, _) | Values::Micros(values) => {
                values.len() * 8
            }
            Values::Long(values, _) => values.len() * 16,
            Values::Real(values) => values.len() * 8,
            Values::Boolean(values) => values.len(),
            Values::Days(values) => values.len() * 4,
        }
    }
}

/// A decimal as a whole number of a scale.
fn scaled(cell: &Cell<'_>, scale: u32) -> io::Result<i128> {
    let number = match cell {
        Cell::Integer(whole) => Some(Scaled { digits: (*whole).into(), scale: 0 }),
        Cell::Decimal(text) => Scaled::of(text),
        other => Scaled::of(&other.to_text()),
    };
    let number = number.and_then(|number| number.with_scale(scale));
    number.ok_or_else(|| {
        let text = cell.to_text();
        invalid(format!("`{text}` has more digits than the values that were seen before"))
    })
}

fn text_of(bytes: &mut Vec<u8>, ends: &mut Vec<u32>, cell: &Cell<'_>) -> io::Result<()> {
    match cell {
        Cell::Text(text) | Cell::Decimal(text) | Cell::Error(text) => {
            bytes.extend_from_slice(text.as_bytes());
        }
        other => bytes.extend_from_slice(other.to_text().as_bytes()),
    }
    let end = u32::try_from(bytes.len());
    ends.push(end.map_err(|_| invalid("texts longer than 4 GB".into()))?);
    Ok(())
}

impl Pending {
    #[inline(always)]
    fn push_plain(&mut self, value: &Plain<'_>) {
        let there = match (&mut self.values, value) {
            (_, Plain::Nothing) => false,
            (Values::Text(bytes, ends), Plain::Text(text)) => {
                bytes.extend_from_slice(text);
                // A piece of a text is shorter than that.
                ends.push(bytes.len() as u32);
                true
            }
            (Values::Integer(values) | Values::Decimal(values, _), Plain::Number(number)) => {
                values.push(number.digits as i64);
                true
            }
            (Values::Long(values, _), Plain::Number(number)) => {
                values.push(number.digits);
                true
            }
            (Values::Real(values), Plain::Real(real)) => {
                values.push(*real);
                true
            }
            (Values::Boolean(values), Plain::Boolean(value)) => {
                values.push(*value);
                true
            }
            (Values::Days(values), Plain::Days(days)) => {
                values.push(*days);
                true
            }
            (Values::Micros(values), Plain::Micros(micros)) => {
                values.push(*micros);
                true
            }
            _ => false,
        };
        self.there.push(there.into());
    }

    #[inline]
    fn push(&mut self, cell: &Cell<'_>) -> io::Result<()> {
        let there = match (&mut self.values, cell) {
            (_, Cell::Nothing) => false,
            (Values::Text(bytes, ends), cell) => {
                text_of(bytes, ends, cell)?;
                true
            }
            (Values::Integer(numbers), Cell::Integer(whole)) => {
                numbers.push(*whole);
                true
            }
            (Values::Decimal(numbers, scale), cell) => {
                let number = i64::try_from(scaled(cell, *scale)?);
                numbers.push(number.map_err(|_| invalid("a number beyond 18 digits".into()))?);
                true
            }
            (Values::Long(numbers, scale), cell) => {
                numbers.push(scaled(cell, *scale)?);
                true
            }
            (Values::Real(reals), cell) => {
                let real = match cell {
                    Cell::Real(real) => Some(*real),
                    Cell::Integer(whole) => Some(*whole as f64),
                    Cell::Decimal(text) => text.parse().ok(),
                    _ => None,
                };
                reals.extend(real);
                real.is_some()
            }
            (Values::Boolean(values), Cell::Boolean(value)) => {
                values.push(*value);
                true
            }
            (Values::Days(days), Cell::Date(day)) => {
                days.push(days_of(*day));
                true
            }
            (Values::Micros(values), Cell::Time(time)) => {
                values.push(micros_of(*time));
                true
            }
            (Values::Micros(values), Cell::Timestamp(time)) => {
                let days = i64::from(days_of(time.date()));
                values.push(days * 86_400_000_000 + micros_of(time.time()));
                true
            }
            _ => false,
        };
        self.there.push(there.into());
        Ok(())
    }
}

/// Microseconds since midnight.
pub(crate) fn micros_of(time: Time) -> i64 {
    let minutes = i64::from(time.hour()) * 60 + i64::from(time.minute());
    let seconds = minutes * 60 + i64::from(time.second());
    seconds * 1_000_000 + i64::from(time.subsec_nanosecond()) / 1000
}

/// Days since 1970-01-01 of a date of the proleptic Gregorian calendar: of years that
/// begin in March the leap day is the last, and 400 of them have 146,097 days.
pub(crate) fn days_of(day: Date) -> i32 {
    let (month, day_of_month) = (i32::from(day.month()), i32::from(day.day()));
    let year = i32::from(day.year()) - i32::from(month <= 2);
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let from_march = (month + 9) % 12;
    let day_of_year = (153 * from_march + 2) / 5 + day_of_month - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    const BEFORE_1970: i32 = 719_468;
    era * 146_097 + day_of_era - BEFORE_1970
}

#[cfg(test)]
mod tests {
    use jiff::civil::date;

    use super::*;

    #[test]
    fn days_are_those_of_the_calendar() {
        let epoch = date(1970, 1, 1);
        let mut day = date(-400, 1, 1);
        while day < date(2800, 1, 1) {
            let since = day.duration_since(epoch).as_hours() / 24;
            assert_eq!(i64::from(days_of(day)), since, "{day}");
            day = day.saturating_add(jiff::Span::new().days(13));
        }
    }
}
