//! COPY in its binary format (PostgreSQL's documentation of COPY, "Binary Format"): the
//! server need not read numbers and times from their texts, which is most of its work.
//! Decimals are of any length; the driver's own writer has no type for them.

use jiff::civil::{Date, DateTime, Time, date};
use postgres::Client;
use postgres::types::Type;
use vadegate_tables::{Cell, Kind};

use crate::work::load::block::Block;
use crate::work::load::destination::{DbError, Job};
use crate::work::load::postgres::words::away;

/// Signature, flags, and the length of what could follow the header.
pub(super) const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

/// What stands behind the last row.
pub(super) const END: &[u8] = &(-1_i16).to_be_bytes();

/// The day from which the server counts.
const EPOCH: Date = date(2000, 1, 1);

/// How the values of a column are sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Wire {
    Int2,
    Int4,
    Int8,
    Float4,
    Float8,
    Numeric,
    Text,
    Boolean,
    Date,
    Time,
    Timestamp,
}

/// Why a row cannot be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Unfit {
    /// The number of its column.
    pub column: usize,
    pub value: String,
    /// As the server would say it.
    pub why: String,
}

/// How values of a kind are sent to a column of this type; none where the server reads them
/// from their texts.
fn wire(kind: Kind, column: &Type) -> Option<Wire> {
    let wire = match *column {
        Type::INT2 => Wire::Int2,
        Type::INT4 => Wire::Int4,
        Type::INT8 => Wire::Int8,
        Type::FLOAT4 => Wire::Float4,
        Type::FLOAT8 => Wire::Float8,
        Type::NUMERIC => Wire::Numeric,
        Type::TEXT | Type::VARCHAR | Type::BPCHAR => Wire::Text,
        Type::BOOL => Wire::Boolean,
        Type::DATE => Wire::Date,
        Type::TIME => Wire::Time,
        // The session's zone is UTC.
        Type::TIMESTAMP | Type::TIMESTAMPTZ => Wire::Timestamp,
        _ => return None,
    };
    let fits = match wire {
        Wire::Int2 | Wire::Int4 | Wire::Int8 => kind == Kind::Integer,
        Wire::Float4 | Wire::Float8 => kind.is_number(),
        Wire::Numeric => matches!(kind, Kind::Integer | Kind::Decimal),
        Wire::Text => true,
        Wire::Boolean => kind == Kind::Boolean,
        Wire::Date => kind == Kind::Date,
        Wire::Time => kind == Kind::Time,
        Wire::Timestamp => matches!(kind, Kind::Timestamp | Kind::Date),
    };
    fits.then_some(wire)
}

/// How the columns of a job are sent to a table; none where one of them must be text.
pub(super) fn wires(
    client: &mut Client,
    table: &str,
    job: &Job,
) -> Result<Option<Vec<Wire>>, DbError> {
    let sql = "SELECT attname::text, atttypid FROM pg_attribute
               WHERE attrelid = to_regclass($1) AND attnum > 0 AND NOT attisdropped";
    let rows = client.query(sql, &[&table]).map_err(away)?;
    let wire_of = |head: &vadegate_tables::Head| {
        let row = rows.iter().find(|row| row.get::<_, &str>(0) == head.name)?;
        wire(head.kind, &Type::from_oid(row.get(1))?)
    };
    Ok(job.columns.iter().map(wire_of).collect())
}

/// Writes a row.
pub(super) fn encode(
    out: &mut Vec<u8>,
    block: &Block,
    row: usize,
    wires: &[Wire],
) -> Result<(), Unfit> {
    // A table has no more than 1,600 columns.
    let count = i16::try_from(wires.len()).unwrap_or(i16::MAX);
    out.extend_from_slice(&count.to_be_bytes());
    for (column, (cell, wire)) in block.row(row).zip(wires).enumerate() {
        if matches!(cell, Cell::Nothing) {
            out.extend_from_slice(&(-1_i32).to_be_bytes());
            continue;
        }
        let begin = out.len();
        out.extend_from_slice(&[0; 4]);
        let written = value(out, *wire, &cell);
        written.map_err(|why| Unfit { column, value: cell.to_text(), why })?;
        // A cell is bounded far below that.
        let length = i32::try_from(out.len() - begin - 4).unwrap_or(i32::MAX);
        out[begin..begin + 4].copy_from_slice(&length.to_be_bytes());
    }
    Ok(())
}

fn value(out: &mut Vec<u8>, wire: Wire, cell: &Cell<'_>) -> Result<(), String> {
    match (wire, cell) {
        (Wire::Int2, Cell::Integer(number)) => {
            let number = i16::try_from(*number).map_err(|_| beyond(*number, "smallint"))?;
            out.extend_from_slice(&number.to_be_bytes());
        }
        (Wire::Int4, Cell::Integer(number)) => {
            let number = i32::try_from(*number).map_err(|_| beyond(*number, "integer"))?;
            out.extend_from_slice(&number.to_be_bytes());
        }
        (Wire::Int8, Cell::Integer(number)) => out.extend_from_slice(&number.to_be_bytes()),
        (Wire::Float4, Cell::Real(number)) => {
            let single = *number as f32;
            // What is too large or too small for it is no number of it.
            if single.is_infinite() != number.is_infinite() || (single == 0.0) != (*number == 0.0) {
                return Err(format!("\"{number}\" is out of range for type real"));
            }
            out.extend_from_slice(&single.to_be_bytes());
        }
        (Wire::Float4, Cell::Integer(number)) => {
            out.extend_from_slice(&(*number as f32).to_be_bytes());
        }
        (Wire::Float4, Cell::Decimal(text)) => {
            let number: f32 = text.parse().map_err(|_| no_value(text, "real"))?;
            if number.is_infinite() || (number == 0.0 && text.contains(|c| matches!(c, '1'..='9')))
            {
                return Err(format!("\"{text}\" is out of range for type real"));
            }
            out.extend_from_slice(&number.to_be_bytes());
        }
        (Wire::Float8, Cell::Real(number)) => out.extend_from_slice(&number.to_be_bytes()),
        (Wire::Float8, Cell::Integer(number)) => {
            out.extend_from_slice(&(*number as f64).to_be_bytes());
        }
        (Wire::Float8, Cell::Decimal(text)) => {
            let number: f64 = text.parse().map_err(|_| no_value(text, "double precision"))?;
            out.extend_from_slice(&number.to_be_bytes());
        }
        (Wire::Numeric, Cell::Integer(number)) => {
            numeric(out, &number.to_string()).ok_or_else(|| no_value(number, "numeric"))?;
        }
        (Wire::Numeric, Cell::Decimal(text)) => {
            numeric(out, text).ok_or_else(|| no_value(text, "numeric"))?;
        }
        (Wire::Text, Cell::Text(text) | Cell::Decimal(text) | Cell::Error(text)) => {
            out.extend_from_slice(text.as_bytes());
        }
        (Wire::Text, other) => out.extend_from_slice(other.to_text().as_bytes()),
        (Wire::Boolean, Cell::Boolean(value)) => out.push(u8::from(*value)),
        (Wire::Date, Cell::Date(day)) => {
            let days = days(*day).ok_or_else(|| no_value(day, "date"))?;
            out.extend_from_slice(&days.to_be_bytes());
        }
        (Wire::Time, Cell::Time(time)) => {
            out.extend_from_slice(&since_midnight(*time).to_be_bytes());
        }
        (Wire::Timestamp, Cell::Timestamp(time)) => {
            let micros = micros(*time).ok_or_else(|| no_value(time, "timestamp"))?;
            out.extend_from_slice(&micros.to_be_bytes());
        }
        (Wire::Timestamp, Cell::Date(day)) => {
            let micros = micros(day.at(0, 0, 0, 0)).ok_or_else(|| no_value(day, "timestamp"))?;
            out.extend_from_slice(&micros.to_be_bytes());
        }
        (wire, other) => {
            return Err(no_value(&other.to_text(), &format!("{wire:?}").to_lowercase()));
        }
    }
    Ok(())
}

fn beyond(number: i64, kind: &str) -> String {
    format!("value \"{number}\" is out of range for type {kind}")
}

fn no_value(value: &(impl std::fmt::Display + ?Sized), kind: &str) -> String {
    format!("invalid input syntax for type {kind}: \"{value}\"")
}

/// Days since the server's first; none for years that it does not read either.
fn days(day: Date) -> Option<i32> {
    if day.year() < 1 {
        return None;
    }
    i32::try_from(day.duration_since(EPOCH).as_secs().div_euclid(86_400)).ok()
}

/// Microseconds of a day; of two that are as near the even one, as the server has it.
fn since_midnight(time: Time) -> i64 {
    let seconds =
        i64::from(time.hour()) * 3600 + i64::from(time.minute()) * 60 + i64::from(time.second());
    let nanos = i64::from(time.subsec_nanosecond());
    let (whole, rest) = (nanos / 1000, nanos % 1000);
    let up = rest > 500 || (rest == 500 && whole % 2 == 1);
    seconds * 1_000_000 + whole + i64::from(up)
}

fn micros(time: DateTime) -> Option<i64> {
    Some(i64::from(days(time.date())?) * 86_400_000_000 + since_midnight(time.time()))
}

/// A decimal of any length: its digits in fours, from the point to both sides, without the
/// zeros before and behind them. None where it is no decimal, or is too long for the server.
fn numeric(out: &mut Vec<u8>, text: &str) -> Option<()> {
    const NEGATIVE: u16 = 0x4000;
    let (negative, digits) = match text.as_bytes() {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        all => (false, all),
    };
    let point = digits.iter().position(|byte| *byte == b'.');
    let (whole, fraction) = match point {
        Some(at) => (&digits[..at], &digits[at + 1..]),
        None => (digits, &digits[..0]),
    };
    let are_digits = |part: &[u8]| part.iter().all(u8::is_ascii_digit);
    if whole.len() + fraction.len() == 0 || !are_digits(whole) || !are_digits(fraction) {
        return None;
    }
    let begin = out.len();
    out.extend_from_slice(&[0; 8]);
    let four =
        |digits: &[u8]| digits.iter().fold(0, |sum, digit| sum * 10 + i16::from(digit - b'0'));
    // The first group has what is left over; the last one zeros behind it.
    let first = whole.len() % 4;
    let lead = (first > 0).then(|| four(&whole[..first]));
    let last = fraction.chunks_exact(4).remainder();
    let padded = (!last.is_empty()).then(|| four(last) * 10_i16.pow(4 - last.len() as u32));
    let groups = lead
        .into_iter()
        .chain(whole[first..].chunks_exact(4).map(four))
        .chain(fraction.chunks_exact(4).map(four))
        .chain(padded);
    let mut weight = i64::try_from(whole.len().div_ceil(4)).ok()? - 1;
    let (mut count, mut zeros) = (0_i64, 0_usize);
    for group in groups {
        match (group, count) {
            (0, 0) => weight -= 1,
            (0, _) => zeros += 1,
            _ => {
                // Zeros count only between others.
                out.extend(std::iter::repeat_n(0, zeros * 2));
                out.extend_from_slice(&group.to_be_bytes());
                count += 1 + zeros as i64;
                zeros = 0;
            }
        }
    }
    let zero = count == 0;
    let sign = if negative && !zero { NEGATIVE } else { 0 };
    let weight = if zero { 0 } else { i16::try_from(weight).ok()? };
    // So many digits behind the point, as the server bounds it.
    let scale = u16::try_from(fraction.len()).ok().filter(|scale| *scale <= 16_383)?;
    let count = i16::try_from(count).ok()?;
    for (at, part) in
        [count.to_be_bytes(), weight.to_be_bytes(), sign.to_be_bytes(), scale.to_be_bytes()]
            .iter()
            .enumerate()
    {
        out[begin + at * 2..begin + at * 2 + 2].copy_from_slice(part);
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn encoded(text: &str) -> Option<Vec<i16>> {
        let mut out = Vec::new();
        numeric(&mut out, text)?;
        Some(out.chunks(2).map(|pair| i16::from_be_bytes([pair[0], pair[1]])).collect())
    }

    /// As the server writes it out again.
    fn decoded(parts: &[i16]) -> String {
        let [count, weight, sign, scale, groups @ ..] = parts else { panic!("{parts:?}") };
        assert_eq!(usize::try_from(*count).unwrap(), groups.len());
        let group = |at: i16| usize::try_from(at).ok().and_then(|at| groups.get(at)).unwrap_or(&0);
        let mut whole = String::new();
        for at in 0..=*weight {
            whole.push_str(&format!("{:04}", group(at)));
        }
        let (mut fraction, mut at) = (String::new(), weight + 1);
        while fraction.len() < usize::try_from(*scale).unwrap() {
            fraction.push_str(&format!("{:04}", group(at)));
            at += 1;
        }
        fraction.truncate(usize::try_from(*scale).unwrap());
        let whole = whole.trim_start_matches('0');
        let whole = if whole.is_empty() { "0" } else { whole };
        let sign = if *sign == 0 { "" } else { "-" };
        let point = if fraction.is_empty() { "" } else { "." };
        format!("{sign}{whole}{point}{fraction}")
    }

    #[test]
    fn decimals_are_written_as_the_server_has_them() {
        // Count of groups, weight of the first, sign, digits behind the point, groups.
        for (text, wanted) in [
            ("0", vec![0, 0, 0, 0]),
            ("-0.00", vec![0, 0, 0, 2]),
            ("1", vec![1, 0, 0, 0, 1]),
            ("12345.67", vec![3, 1, 0, 2, 1, 2345, 6700]),
            ("-10000", vec![1, 1, 0x4000, 0, 1]),
            (".0001", vec![1, -1, 0, 4, 1]),
            ("0.00000100", vec![1, -2, 0, 8, 100]),
            ("+100000000.5", vec![4, 2, 0, 1, 1, 0, 0, 5000]),
        ] {
            assert_eq!(encoded(text), Some(wanted), "{text}");
        }
        for text in ["", "-", ".", "1e5", "1.2.3", "NaN", "١"] {
            assert_eq!(encoded(text), None, "{text}");
        }
    }

    proptest! {
        #[test]
        fn every_decimal_can_be_read_again(
            negative in any::<bool>(), whole in "[0-9]{1,30}", fraction in "[0-9]{0,30}",
        ) {
            let point = if fraction.is_empty() { "" } else { "." };
            let sign = if negative { "-" } else { "" };
            let read = decoded(&encoded(&format!("{sign}{whole}{point}{fraction}")).unwrap());
            let shown = whole.trim_start_matches('0');
            let shown = if shown.is_empty() { "0" } else { shown };
            let zero = shown == "0" && fraction.bytes().all(|digit| digit == b'0');
            let sign = if negative && !zero { "-" } else { "" };
            prop_assert_eq!(read, format!("{sign}{shown}{point}{fraction}"));
        }
    }

    #[test]
    fn times_are_counted_from_the_servers_first_day() {
        assert_eq!(days(date(2000, 1, 1)), Some(0));
        assert_eq!(days(date(1999, 12, 31)), Some(-1));
        assert_eq!(days(date(2026, 11, 29)), Some(9829));
        assert_eq!(days(date(0, 12, 31)), None);
        assert_eq!(micros(date(2000, 1, 2).at(0, 0, 1, 1_500)), Some(86_401_000_002));
        assert_eq!(micros(date(2000, 1, 1).at(0, 0, 0, 500)), Some(0));
        assert_eq!(micros(date(1999, 12, 31).at(23, 59, 59, 999_999_600)), Some(0));
    }

    #[test]
    fn what_is_no_value_of_its_column_is_told_as_the_server_tells_it() {
        let unfit = |wire, cell: Cell<'_>| value(&mut Vec::new(), wire, &cell).unwrap_err();
        assert_eq!(
            unfit(Wire::Int2, Cell::Integer(70_000)),
            "value \"70000\" is out of range for type smallint"
        );
        assert_eq!(
            unfit(Wire::Numeric, Cell::Decimal("1e5".into())),
            "invalid input syntax for type numeric: \"1e5\""
        );
        for cell in [Cell::Real(1e300), Cell::Real(1e-60), Cell::Decimal("9".repeat(40).into())] {
            let why = unfit(Wire::Float4, cell);
            assert!(why.ends_with("is out of range for type real"), "{why}");
        }
        assert!(unfit(Wire::Date, Cell::Boolean(true)).contains("for type date: \"true\""));
        assert_eq!(wire(Kind::Real, &Type::NUMERIC), None);
        assert_eq!(wire(Kind::Text, &Type::JSONB), None);
        assert_eq!(wire(Kind::Date, &Type::TIMESTAMPTZ), Some(Wire::Timestamp));
    }
}
