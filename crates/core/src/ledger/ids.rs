//! Numbers in the ledger, of which one kind is never taken for another.

use std::fmt;
use std::num::ParseIntError;
use std::str::FromStr;

use rusqlite::ToSql;
use rusqlite::types::{FromSql, FromSqlResult, ToSqlOutput, ValueRef};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Makes a kind of number.
macro_rules! numbers {
    ($($(#[$meaning:meta])* $name:ident;)*) => {$(
        $(#[$meaning])*
        #[derive(
            Clone,
            Copy,
            PartialEq,
            Eq,
            PartialOrd,
            Ord,
            Hash,
            Serialize,
            Deserialize,
            ToSchema,
        )]
        #[serde(transparent)]
        pub struct $name(i64);

        impl $name {
            /// The one of this number.
            pub const fn of(number: i64) -> Self {
                $name(number)
            }

            /// Its number.
            pub const fn number(self) -> i64 {
                self.0
            }
        }

        // In a list, as lines of the log have them, they are plain numbers too.
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Debug::fmt(&self.0, f)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }

        impl FromStr for $name {
            type Err = ParseIntError;

            fn from_str(text: &str) -> Result<Self, ParseIntError> {
                text.parse().map($name)
            }
        }

        impl ToSql for $name {
            fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
                self.0.to_sql()
            }
        }

        impl FromSql for $name {
            fn column_result(value: ValueRef<'_>) -> FromSqlResult<Self> {
                i64::column_result(value).map($name)
            }
        }
    )*};
}

numbers! {
    /// The number of a batch; of a lease its fencing number. They only grow.
    BatchId;

    /// The number of an entry. They grow in the order in which files are entered.
    EntryId;

    /// The number of an output.
    OutputId;

    /// The number of a file that is being handed in or fetched.
    UploadId;

    /// The number of a version of a file at a place that is fetched from.
    RemoteId;

    /// The number of something that happened at a gate, a place or an arrival that is due.
    HappeningId;

    /// The number of a file that a rule has cleared, or is about to.
    RemovalId;

    /// The number of a change of an entry. They grow in the order in which it happened.
    ChangeId;

    /// The number of a change of a file of the configuration.
    ConfigChangeId;

    /// The number of a message to somebody who is told.
    MessageId;

    /// The number of a token.
    TokenId;

    /// The number of a session.
    SessionId;
}

impl EntryId {
    /// The one behind it.
    pub(crate) const fn after(self) -> Self {
        EntryId(self.0 + 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_is_written_and_read_as_it_is_everywhere() {
        let batch = BatchId::of(47);
        assert_eq!(batch.to_string(), "47");
        assert_eq!(format!("{batch:>5} {:?}", [batch]), "   47 [47]");
        assert_eq!("47".parse(), Ok(batch));
        assert!("4 7".parse::<BatchId>().is_err());
        assert_eq!(serde_json::to_string(&batch).unwrap(), "47");
        assert_eq!(serde_json::from_str::<BatchId>("47").unwrap(), batch);
        let ledger = rusqlite::Connection::open_in_memory().unwrap();
        let read = ledger.query_row("SELECT ?", [batch], |row| row.get::<_, BatchId>(0));
        assert_eq!(read.unwrap(), batch);
        assert!(BatchId::of(48) > batch);
    }
}
