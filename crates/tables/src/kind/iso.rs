//! Dates and times as ISO 8601 has them, read by hand, because tables have millions of
//! them.

use jiff::civil::{Date, Time};

/// `2026-01-31`, read by hand, because tables have millions of them.
pub(super) fn iso_date(text: &str) -> Option<Date> {
    iso_date_of(text.as_bytes())
}

/// The same of its letters.
#[inline]
pub(crate) fn iso_date_of(bytes: &[u8]) -> Option<Date> {
    if bytes.len() != 10 || bytes[4] != b'-' || bytes[7] != b'-' {
        return None;
    }
    let number = |from: usize, to: usize| {
        bytes[from..to].iter().try_fold(0i16, |sum, byte| {
            byte.is_ascii_digit().then(|| sum * 10 + i16::from(byte - b'0'))
        })
    };
    Date::new(number(0, 4)?, number(5, 7)? as i8, number(8, 10)? as i8).ok()
}

/// Whether letters are a date as ISO 8601 has it, just so.
#[inline]
pub(crate) fn is_iso_date(text: &[u8]) -> bool {
    let [y0, y1, y2, y3, b'-', m0, m1, b'-', d0, d1] = text else { return false };
    let digits = [y0, y1, y2, y3, m0, m1, d0, d1];
    if !digits.iter().all(|byte| byte.is_ascii_digit()) {
        return false;
    }
    let two = |tens: &u8, ones: &u8| (tens - b'0') * 10 + (ones - b'0');
    let (month, day) = (two(m0, m1), two(d0, d1));
    // Up to the 28th every month has it; beyond, the calendar knows.
    matches!(month, 1..=12)
        && (matches!(day, 1..=28) || {
            let year = i16::from(two(y0, y1)) * 100 + i16::from(two(y2, y3));
            Date::new(year, month as i8, day as i8).is_ok()
        })
}

/// Whether letters are a time of day with its seconds and no more, just so.
#[inline]
pub(crate) fn is_iso_time(text: &[u8]) -> bool {
    let [h0, h1, b':', m0, m1, b':', s0, s1] = text else { return false };
    let digits = [h0, h1, m0, m1, s0, s1];
    digits.iter().all(|byte| byte.is_ascii_digit())
        && (*h0 < b'2' || *h0 == b'2' && *h1 < b'4')
        && *m0 < b'6'
        && *s0 < b'6'
}

/// `12:34`, `12:34:56` or `12:34:56.789`, read by hand for the same reason.
pub(super) fn iso_time(text: &str) -> Option<Time> {
    iso_time_of(text.as_bytes())
}

/// The same of its letters.
#[inline]
pub(crate) fn iso_time_of(bytes: &[u8]) -> Option<Time> {
    let two = |at: usize| match (bytes.get(at), bytes.get(at + 1)) {
        (Some(tens @ b'0'..=b'9'), Some(ones @ b'0'..=b'9')) => {
            Some(((tens - b'0') * 10 + (ones - b'0')) as i8)
        }
        _ => None,
    };
    let (hour, minute) = (two(0)?, two(3)?);
    if bytes.get(2) != Some(&b':') {
        return None;
    }
    if bytes.len() == 5 {
        return Time::new(hour, minute, 0, 0).ok();
    }
    // A leap second is taken for the one before it.
    let second = two(6).filter(|_| bytes[5] == b':')?;
    let second = if second == 60 { 59 } else { second };
    if bytes.len() == 8 {
        return Time::new(hour, minute, second, 0).ok();
    }
    let fraction =
        bytes.get(9..).filter(|digits| bytes[8] == b'.' && (1..=9).contains(&digits.len()))?;
    let mut nanoseconds = 0;
    for at in 0..9 {
        let digit = *fraction.get(at).unwrap_or(&b'0');
        if !digit.is_ascii_digit() {
            return None;
        }
        nanoseconds = nanoseconds * 10 + i32::from(digit - b'0');
    }
    Time::new(hour, minute, second, nanoseconds).ok()
}
