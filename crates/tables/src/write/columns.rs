//! Rows as columns of values of one type each.

use std::io;

use jiff::civil::{Date, Time};

use super::{Head, invalid};
use crate::cell::Cell;
use crate::kind::{Kind, MOST_DIGITS, Scaled};

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

/// A number of no more than 18 digits.
fn short(number: i128) -> Option<i64> {
    let number = i64::try_from(number).ok()?;
    (number.unsigned_abs() < 10_u64.pow(SHORT)).then_some(number)
}

/// A number of no more than 38 digits.
fn long(number: i128) -> Option<i128> {
    (number.unsigned_abs() < 10_u128.pow(MOST_DIGITS)).then_some(number)
}

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
fn scaled<T>(cell: &Cell<'_>, scale: u32, held: impl Fn(i128) -> Option<T>) -> io::Result<T> {
    let number = match cell {
        Cell::Integer(whole) => Some(Scaled { digits: (*whole).into(), scale: 0 }),
        Cell::Decimal(text) => Scaled::of(text),
        other => Scaled::of(&other.to_text()),
    };
    let number = number.and_then(|number| number.with_scale(scale)).and_then(held);
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
    /// Adds that nothing stands there.
    #[inline(always)]
    pub fn put_nothing(&mut self) -> Option<()> {
        self.there.push(0);
        Some(())
    }

    #[inline(always)]
    pub fn put_text(&mut self, text: &[u8]) -> Option<()> {
        let Values::Text(bytes, ends) = &mut self.values else { return None };
        bytes.extend_from_slice(text);
        // A piece of a text is shorter than that.
        ends.push(bytes.len() as u32);
        self.there.push(1);
        Some(())
    }

    /// Adds a number; none when the column does not hold it.
    #[inline(always)]
    pub fn put_number(&mut self, number: Scaled) -> Option<()> {
        match &mut self.values {
            Values::Integer(values) if number.scale == 0 => {
                values.push(i64::try_from(number.digits).ok()?);
            }
            Values::Decimal(values, scale) => {
                values.push(short(number.with_scale(*scale)?)?);
            }
            Values::Long(values, scale) => values.push(long(number.with_scale(*scale)?)?),
            _ => return None,
        }
        self.there.push(1);
        Some(())
    }

    #[inline(always)]
    pub fn put_real(&mut self, real: f64) -> Option<()> {
        let Values::Real(values) = &mut self.values else { return None };
        values.push(real);
        self.there.push(1);
        Some(())
    }

    #[inline(always)]
    pub fn put_boolean(&mut self, value: bool) -> Option<()> {
        let Values::Boolean(values) = &mut self.values else { return None };
        values.push(value);
        self.there.push(1);
        Some(())
    }

    #[inline(always)]
    pub fn put_days(&mut self, days: i32) -> Option<()> {
        let Values::Days(values) = &mut self.values else { return None };
        values.push(days);
        self.there.push(1);
        Some(())
    }

    #[inline(always)]
    pub fn put_micros(&mut self, micros: i64) -> Option<()> {
        let Values::Micros(values) = &mut self.values else { return None };
        values.push(micros);
        self.there.push(1);
        Some(())
    }

    /// Takes the last value back.
    pub fn pop(&mut self) {
        if self.there.pop() != Some(1) {
            return;
        }
        match &mut self.values {
            Values::Text(bytes, ends) => {
                ends.pop();
                bytes.truncate(ends.last().map_or(0, |end| *end as usize));
            }
            Values::Integer(values) | Values::Decimal(values, _) | Values::Micros(values) => {
                values.pop();
            }
            Values::Long(values, _) => drop(values.pop()),
            Values::Real(values) => drop(values.pop()),
            Values::Boolean(values) => drop(values.pop()),
            Values::Days(values) => drop(values.pop()),
        }
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
                numbers.push(scaled(cell, *scale, short)?);
                true
            }
            (Values::Long(numbers, scale), cell) => {
                numbers.push(scaled(cell, *scale, long)?);
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
