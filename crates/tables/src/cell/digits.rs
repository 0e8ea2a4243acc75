//! Dates and times as ISO 8601 has them, written by hand, because tables have millions
//! of them.

use std::fmt::{self, Write};

use jiff::civil::{Date, Time};

/// The digits of a number below 100.
fn two(number: i8) -> [u8; 2] {
    let number = number.unsigned_abs();
    [b'0' + number / 10, b'0' + number % 10]
}

fn push(out: &mut String, ascii: &[u8]) {
    out.push_str(std::str::from_utf8(ascii).unwrap_or_default());
}

/// The letters of a date: `2026-01-31`; none before the year 0.
pub(crate) fn iso_digits(date: Date) -> Option<[u8; 10]> {
    if date.year() < 0 {
        return None;
    }
    let ([a, b], [c, d]) = (two((date.year() / 100) as i8), two((date.year() % 100) as i8));
    let ([e, f], [g, h]) = (two(date.month()), two(date.day()));
    Some([a, b, c, d, b'-', e, f, b'-', g, h])
}

/// Writes a date: `2026-01-31`.
pub(super) fn date(out: &mut String, date: Date) -> fmt::Result {
    match iso_digits(date) {
        Some(letters) => {
            push(out, &letters);
            Ok(())
        }
        None => write!(out, "{date}"),
    }
}

/// Writes a time of day: `12:34:56`, with a fraction where it has one.
pub(super) fn time(out: &mut String, time: Time) -> fmt::Result {
    if time.subsec_nanosecond() != 0 {
        return write!(out, "{time}");
    }
    let ([a, b], [c, d], [e, f]) = (two(time.hour()), two(time.minute()), two(time.second()));
    push(out, &[a, b, b':', c, d, b':', e, f]);
    Ok(())
}
