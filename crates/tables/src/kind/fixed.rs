//! Dates and times in formats of fixed width, such as `%d.%m.%Y`, read without a general
//! parser. What is not plainly so is left to that parser: a value that is read here is
//! one that it reads too.

use jiff::civil::{Date, DateTime, Time};

#[derive(Default)]
struct Parts {
    year: Option<i16>,
    month: Option<i8>,
    day: Option<i8>,
    hour: Option<i8>,
    minute: Option<i8>,
    second: Option<i8>,
}

/// Takes this many digits from the start of a text.
fn number(text: &mut &[u8], digits: usize) -> Option<i16> {
    let (taken, rest) = text.split_at_checked(digits)?;
    *text = rest;
    taken
        .iter()
        .try_fold(0, |sum, byte| byte.is_ascii_digit().then(|| sum * 10 + i16::from(byte - b'0')))
}

impl Parts {
    /// Reads a text by a format of which each letter stands for two or four digits; none
    /// when the format or the text has anything else, or one part twice.
    fn of(format: &str, mut text: &[u8]) -> Option<Self> {
        let mut parts = Parts::default();
        let mut letters = format.bytes();
        while let Some(letter) = letters.next() {
            if letter != b'%' {
                let (first, rest) = text.split_first()?;
                // Space stands for any space, which is not for here.
                if *first != letter || !letter.is_ascii_punctuation() && letter != b'T' {
                    return None;
                }
                text = rest;
                continue;
            }
            let letter = letters.next()?;
            let digits = number(&mut text, if letter == b'Y' { 4 } else { 2 })?;
            // The general parser wants each to be one of the calendar, needed or not.
            let good = match letter {
                b'm' => (1..=12).contains(&digits),
                b'd' => (1..=31).contains(&digits),
                b'H' => digits < 24,
                b'M' | b'S' => digits < 60,
                _ => true,
            };
            if !good {
                return None;
            }
            let before = match letter {
                b'Y' => parts.year.replace(digits).is_some(),
                b'm' => parts.month.replace(digits as i8).is_some(),
                b'd' => parts.day.replace(digits as i8).is_some(),
                b'H' => parts.hour.replace(digits as i8).is_some(),
                b'M' => parts.minute.replace(digits as i8).is_some(),
                b'S' => parts.second.replace(digits as i8).is_some(),
                _ => return None,
            };
            if before {
                return None;
            }
        }
        text.is_empty().then_some(parts)
    }

    fn date(&self) -> Option<Date> {
        Date::new(self.year?, self.month?, self.day?).ok()
    }

    fn time(&self) -> Option<Time> {
        Time::new(self.hour?, self.minute?, self.second?, 0).ok()
    }
}

/// A format of dates in which every part has its place.
#[derive(Debug, Clone)]
pub(crate) struct FixedDate {
    length: usize,
    year: usize,
    month: usize,
    day: usize,
    /// What stands between the parts, and where.
    others: Vec<(usize, u8)>,
}

impl FixedDate {
    /// The places of a format; none when it has not year, month and day, each once, or
    /// has anything else.
    pub fn of(format: &str) -> Option<Self> {
        let (mut year, mut month, mut day) = (None, None, None);
        let (mut others, mut at) = (Vec::new(), 0);
        let mut letters = format.bytes();
        while let Some(letter) = letters.next() {
            if letter != b'%' {
                if !letter.is_ascii_punctuation() && letter != b'T' {
                    return None;
                }
                others.push((at, letter));
                at += 1;
                continue;
            }
            let (part, digits) = match letters.next()? {
                b'Y' => (&mut year, 4),
                b'm' => (&mut month, 2),
                b'd' => (&mut day, 2),
                _ => return None,
            };
            if part.replace(at).is_some() {
                return None;
            }
            at += digits;
        }
        Some(FixedDate { length: at, year: year?, month: month?, day: day?, others })
    }

    /// Reads the letters of a date.
    #[inline]
    pub fn read(&self, text: &[u8]) -> Option<Date> {
        if text.len() != self.length || self.others.iter().any(|(at, byte)| text[*at] != *byte) {
            return None;
        }
        let part = |at: usize, digits| number(&mut text.get(at..)?, digits);
        let (year, month, day) = (part(self.year, 4)?, part(self.month, 2)?, part(self.day, 2)?);
        Date::new(year, month as i8, day as i8).ok()
    }
}

/// Reads a date.
pub(super) fn date(format: &str, text: &str) -> Option<Date> {
    Parts::of(format, text.as_bytes())?.date()
}

/// Reads a time of day.
pub(super) fn time(format: &str, text: &str) -> Option<Time> {
    Parts::of(format, text.as_bytes())?.time()
}

/// Reads a date with a time of day.
pub(super) fn timestamp(format: &str, text: &str) -> Option<DateTime> {
    let parts = Parts::of(format, text.as_bytes())?;
    Some(DateTime::from_parts(parts.date()?, parts.time()?))
}

#[cfg(test)]
mod tests {
    use jiff::fmt::strtime::BrokenDownTime;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]
        #[test]
        fn what_is_read_is_what_the_general_parser_reads(
            parts in prop::collection::vec(prop::sample::select(vec![
                "%Y", "%m", "%d", "%H", "%M", "%S", "-", ".", ":", "T", " ", "%y", "%%", "/",
            ]), 1..12),
            texts in prop::collection::vec(prop::sample::select(vec![
                "2026", "01", "12", "31", "29", "02", "00", "59", "60", "24", "7", "+1", "0000",
            ]), 12),
        ) {
            let format = parts.concat();
            let text: String = parts.iter().zip(&texts).map(|(part, text)| match *part {
                "%Y" | "%m" | "%d" | "%H" | "%M" | "%S" | "%y" => text,
                "%%" => "%",
                other => other,
            }).collect();
            let whole = BrokenDownTime::parse(&format, &text).ok();
            let whole = whole.as_ref();
            if let Some(found) = FixedDate::of(&format).and_then(|fixed| fixed.read(text.as_bytes())) {
                prop_assert_eq!(Some(found), whole.and_then(|whole| whole.to_date().ok()));
            }
            if let Some(found) = date(&format, &text) {
                prop_assert_eq!(Some(found), whole.and_then(|whole| whole.to_date().ok()));
            }
            if let Some(found) = time(&format, &text) {
                prop_assert_eq!(Some(found), whole.and_then(|whole| whole.to_time().ok()));
            }
            if let Some(found) = timestamp(&format, &text) {
                prop_assert_eq!(Some(found), whole.and_then(|whole| whole.to_datetime().ok()));
            }
        }
    }

    #[test]
    fn dates_as_people_write_them_are_read_here() {
        let day = jiff::civil::date(2026, 1, 31);
        assert_eq!(date("%d.%m.%Y", "31.01.2026"), Some(day));
        let fixed = FixedDate::of("%d.%m.%Y").expect("a format");
        assert_eq!(fixed.read(b"31.01.2026"), Some(day));
        assert!(
            ["31-01.2026", "31.02.2026", "31.01.26", ""]
                .iter()
                .all(|text| fixed.read(text.as_bytes()).is_none())
        );
        assert_eq!(date("%Y%m%d", "20260131"), Some(day));
        assert_eq!(
            timestamp("%d/%m/%YT%H:%M:%S", "31/01/2026T12:34:56"),
            Some(day.at(12, 34, 56, 0))
        );
        assert_eq!(date("%d.%m.%Y", "31.1.2026"), None, "left to the general parser");
        assert_eq!(date("%d.%m.%Y", "31.02.2026"), None);
    }
}
