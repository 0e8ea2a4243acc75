//! COPY in its binary format (PostgreSQL's documentation of COPY, "Binary Format"): the
//! server need not read numbers and times from their texts, which is most of its work.
//! Decimals are of any length; the driver's own writer has no type for them.

use jiff::civil::{Date, DateTime, Time, date};
use postgres::Client;
use postgres::types::Type;
use vadegate_tables::{Cell, Kind};

use crate::work::load::block::Block;
use crate::work::load::destination::{DbError, Job};
use crate::work::load::postgres::numeric::numeric;
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
    pub why: NoValue,
}

/// Why a value is none of its column, whose type is named.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum NoValue {
    /// It is too large or too small for it.
    Beyond(&'static str),
    /// It is something else.
    Other(&'static str),
}

impl Unfit {
    /// In the server's words.
    pub fn words(&self) -> String {
        let value = &self.value;
        match self.why {
            NoValue::Beyond(kind) => format!("value \"{value}\" is out of range for type {kind}"),
            NoValue::Other(kind) => format!("invalid input syntax for type {kind}: \"{value}\""),
        }
    }
}

impl Wire {
    /// The server's word for the type.
    fn word(self) -> &'static str {
        match self {
            Wire::Int2 => "smallint",
            Wire::Int4 => "integer",
            Wire::Int8 => "bigint",
            Wire::Float4 => "real",
            Wire::Float8 => "double precision",
            Wire::Numeric => "numeric",
            Wire::Text => "text",
            Wire::Boolean => "boolean",
            Wire::Date => "date",
            Wire::Time => "time",
            Wire::Timestamp => "timestamp",
        }
    }
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

fn value(out: &mut Vec<u8>, wire: Wire, cell: &Cell<'_>) -> Result<(), NoValue> {
    let (beyond, other) = (NoValue::Beyond(wire.word()), NoValue::Other(wire.word()));
    match (wire, cell) {
        (Wire::Int2, Cell::Integer(number)) => {
            let number = i16::try_from(*number).map_err(|_| beyond)?;
            out.extend_from_slice(&number.to_be_bytes());
        }
        (Wire::Int4, Cell::Integer(number)) => {
            let number = i32::try_from(*number).map_err(|_| beyond)?;
            out.extend_from_slice(&number.to_be_bytes());
        }
        (Wire::Int8, Cell::Integer(number)) => out.extend_from_slice(&number.to_be_bytes()),
        (Wire::Float4, number) => {
            out.extend_from_slice(&single(number)?.to_be_bytes());
        }
        (Wire::Float8, Cell::Real(number)) => out.extend_from_slice(&number.to_be_bytes()),
        (Wire::Float8, Cell::Integer(number)) => {
            out.extend_from_slice(&(*number as f64).to_be_bytes());
        }
        (Wire::Float8, Cell::Decimal(text)) => {
            let number: f64 = text.parse().map_err(|_| other)?;
            out.extend_from_slice(&number.to_be_bytes());
        }
        (Wire::Numeric, Cell::Integer(number)) => {
            numeric(out, &number.to_string()).ok_or(other)?;
        }
        (Wire::Numeric, Cell::Decimal(text)) => numeric(out, text).ok_or(other)?,
        (Wire::Text, Cell::Text(text) | Cell::Decimal(text) | Cell::Error(text)) => {
            out.extend_from_slice(text.as_bytes());
        }
        (Wire::Text, any) => out.extend_from_slice(any.to_text().as_bytes()),
        (Wire::Boolean, Cell::Boolean(value)) => out.push(u8::from(*value)),
        (Wire::Date, Cell::Date(day)) => {
            out.extend_from_slice(&days(*day).ok_or(other)?.to_be_bytes());
        }
        (Wire::Time, Cell::Time(time)) => {
            out.extend_from_slice(&since_midnight(*time).to_be_bytes());
        }
        (Wire::Timestamp, Cell::Timestamp(time)) => {
            out.extend_from_slice(&micros(*time).ok_or(other)?.to_be_bytes());
        }
        (Wire::Timestamp, Cell::Date(day)) => {
            let time = day.at(0, 0, 0, 0);
            out.extend_from_slice(&micros(time).ok_or(other)?.to_be_bytes());
        }
        _ => return Err(other),
    }
    Ok(())
}

/// A number of the shorter kind; what is too large or too small for it is none of it.
fn single(cell: &Cell<'_>) -> Result<f32, NoValue> {
    let kind = Wire::Float4.word();
    let (single, is_zero, is_infinite) = match cell {
        Cell::Real(number) => (*number as f32, *number == 0.0, number.is_infinite()),
        Cell::Integer(number) => (*number as f32, *number == 0, false),
        Cell::Decimal(text) => {
            let single: f32 = text.parse().map_err(|_| NoValue::Other(kind))?;
            (single, !text.contains(|letter| matches!(letter, '1'..='9')), false)
        }
        _ => return Err(NoValue::Other(kind)),
    };
    match (single == 0.0) == is_zero && single.is_infinite() == is_infinite {
        true => Ok(single),
        false => Err(NoValue::Beyond(kind)),
    }
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

#[cfg(test)]
mod tests {
    use super::*;

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
        let unfit = |wire, cell: Cell<'_>| {
            let why = value(&mut Vec::new(), wire, &cell).unwrap_err();
            Unfit { column: 0, value: cell.to_text(), why }.words()
        };
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
