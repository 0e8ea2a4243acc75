//! The server's types and errors, in our words.

use postgres::error::SqlState;
use vadegate_tables::Kind;

use crate::work::load::destination::{DbError, Refusal};

/// The words of an error, with the server's detail and hint.
pub(crate) fn error_text(error: &postgres::Error) -> String {
    let Some(told) = error.as_db_error() else {
        let mut words = error.to_string();
        let mut source = std::error::Error::source(error);
        while let Some(cause) = source {
            words = format!("{words}: {cause}");
            source = cause.source();
        }
        return words;
    };
    let mut words = told.message().to_owned();
    for more in [told.detail(), told.hint()].into_iter().flatten() {
        words = format!("{words}; {more}");
    }
    words
}

/// An error that is about no row.
#[expect(clippy::needless_pass_by_value, reason = "it stands where an error is mapped")]
pub(crate) fn away(error: postgres::Error) -> DbError {
    DbError::Away(error_text(&error))
}

/// An error of connecting, with what helps against the commonest one.
pub(crate) fn not_connected(error: postgres::Error) -> DbError {
    match away(error) {
        DbError::Away(why) if why.contains("certificate") => DbError::Away(format!(
            "{why}; name the certificate that vouches for it in `certificates`, or do without \
             encryption by ?sslmode=disable in `to`"
        )),
        other => other,
    }
}

/// An error of writing rows: the server's refusal of one, or something else.
pub(crate) fn told(error: postgres::Error) -> DbError {
    let Some(told) = error.as_db_error() else { return away(error) };
    // Classes of PostgreSQL's appendix A: data exceptions, constraints, a view's check,
    // and what a trigger raises.
    let about_rows = ["22", "23", "44"].iter().any(|class| told.code().code().starts_with(class))
        || *told.code() == SqlState::RAISE_EXCEPTION;
    if !about_rows {
        return away(error);
    }
    let (column, value) = place(told.where_().unwrap_or_default());
    DbError::Refused(Refusal {
        why: error_text(&error),
        at: None,
        column: column.or(told.column().map(str::to_owned)),
        value,
    })
}

/// What a type of the server is taken for.
pub(crate) fn kind_of(name: &str) -> Option<Kind> {
    Some(match name {
        "bool" => Kind::Boolean,
        "int2" | "int4" | "int8" => Kind::Integer,
        "numeric" => Kind::Decimal,
        "float4" | "float8" => Kind::Real,
        "text" | "varchar" | "bpchar" | "citext" => Kind::Text,
        "date" => Kind::Date,
        "time" | "timetz" => Kind::Time,
        "timestamp" | "timestamptz" => Kind::Timestamp,
        _ => return None,
    })
}

pub(crate) fn word(kind: Kind) -> &'static str {
    match kind {
        Kind::Text => "text",
        Kind::Integer => "bigint",
        Kind::Decimal => "numeric",
        Kind::Real => "double precision",
        Kind::Boolean => "boolean",
        Kind::Date => "date",
        Kind::Time => "time",
        Kind::Timestamp => "timestamp",
    }
}

/// A number for an advisory lock, the same for the same name.
pub(crate) fn lock_number(name: &str) -> i64 {
    let sum = crate::files::sha256::Sum::of(name.as_bytes());
    let [a, b, c, d, e, f, g, h, ..] = *sum.bytes();
    i64::from_be_bytes([a, b, c, d, e, f, g, h])
}

/// The column and the value in the server's words about a line of a COPY: `COPY waves,
/// line 3, column height_m: "x"`.
pub(crate) fn place(words: &str) -> (Option<String>, Option<String>) {
    let Some((_, after)) = words.split_once(", column ") else { return (None, None) };
    let after = after.lines().next().unwrap_or_default();
    match after.split_once(": ") {
        Some((column, value)) => {
            let value = value.strip_prefix('"').unwrap_or(value);
            let value = value.strip_suffix('"').unwrap_or(value);
            (Some(column.to_owned()), Some(value.to_owned()))
        }
        None => (Some(after.to_owned()), None),
    }
}
