//! SQLite's types and errors, in our words.

use rusqlite::ErrorCode;
use rusqlite::types::ValueRef;
use vadegate_tables::Kind;

use crate::work::load::destination::DbError;

/// An error that is not about a row.
#[expect(clippy::needless_pass_by_value, reason = "it stands where an error is mapped")]
pub(crate) fn away(error: rusqlite::Error) -> DbError {
    DbError::Away(error.to_string())
}

/// Whether an error is about the row that was written.
pub(crate) fn is_refusal(error: &rusqlite::Error) -> bool {
    matches!(
        error.sqlite_error_code(),
        Some(ErrorCode::ConstraintViolation | ErrorCode::TypeMismatch | ErrorCode::TooBig)
    )
}

/// What a declared type is taken for: the names that we give, and what SQLite itself
/// sees in others (<https://www.sqlite.org/datatype3.html>, section 3.1).
pub(crate) fn kind_of(declared: &str) -> Option<Kind> {
    let name = declared.split('(').next().unwrap_or_default().trim().to_ascii_uppercase();
    let has = |part: &str| name.contains(part);
    Some(match name.as_str() {
        "" | "ANY" => return None,
        "DATE" => Kind::Date,
        "TIME" => Kind::Time,
        "TIMESTAMP" | "DATETIME" => Kind::Timestamp,
        "BOOLEAN" | "BOOL" => Kind::Boolean,
        _ if has("INT") => Kind::Integer,
        _ if has("CHAR") || has("CLOB") || has("TEXT") => Kind::Text,
        _ if has("BLOB") => return None,
        _ if has("REAL") || has("FLOA") || has("DOUB") => Kind::Real,
        _ => Kind::Decimal,
    })
}

/// Whether a column of a declared type keeps decimals as numbers (affinity REAL or NUMERIC).
pub(crate) fn keeps_numbers(declared: &str) -> bool {
    matches!(kind_of(declared), Some(Kind::Real | Kind::Decimal))
}

pub(crate) fn word(kind: Kind) -> &'static str {
    match kind {
        Kind::Text => "TEXT",
        Kind::Integer => "INTEGER",
        Kind::Decimal => "NUMERIC",
        Kind::Real => "REAL",
        Kind::Boolean => "BOOLEAN",
        Kind::Date => "DATE",
        Kind::Time => "TIME",
        Kind::Timestamp => "TIMESTAMP",
    }
}

/// A value that was read, for people; none where nothing stands.
pub(crate) fn text(value: ValueRef<'_>) -> Option<String> {
    match value {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string()),
        ValueRef::Real(number) => Some(number.to_string()),
        ValueRef::Text(text) => Some(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Some(format!("{} bytes", bytes.len())),
    }
}
