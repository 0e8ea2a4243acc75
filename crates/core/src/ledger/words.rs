//! The words of the ledger: what is worked, what is made and how it ended, as they stand
//! in the database, the API and the configuration.

use rusqlite::ToSql;
use rusqlite::types::{FromSql, FromSqlError, FromSqlResult, ToSqlOutput, ValueRef};
use serde::{Deserialize, Serialize};
use utoipa::openapi::RefOr;
use utoipa::openapi::schema::{ObjectBuilder, Schema, Type};
use utoipa::{PartialSchema, ToSchema};

use crate::files::compress::Compression;

/// An enum whose variants are words, one for each, wherever they are written.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$of:meta])* $variant:ident = $word:literal,)+ }) => {
        $(#[$about])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        pub enum $name {
            $($(#[$of])* #[serde(rename = $word)] $variant,)+
        }

        impl $name {
            /// All of them.
            pub const ALL: &'static [$name] = &[$($name::$variant),+];

            /// Its word.
            pub fn word(self) -> &'static str {
                match self {
                    $($name::$variant => $word,)+
                }
            }
        }

        impl PartialSchema for $name {
            fn schema() -> RefOr<Schema> {
                let words = $name::ALL.iter().map(|one| one.word());
                let text = ObjectBuilder::new().schema_type(Type::String);
                text.enum_values(Some(words)).build().into()
            }
        }

        impl ToSchema for $name {}

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.word())
            }
        }

        impl ToSql for $name {
            fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
                self.word().to_sql()
            }
        }

        impl FromSql for $name {
            fn column_result(value: ValueRef<'_>) -> FromSqlResult<Self> {
                let word = value.as_str()?;
                let found = $name::ALL.iter().find(|one| one.word() == word).copied();
                found.ok_or_else(|| FromSqlError::Other(format!("`{word}` is no word of this program").into()))
            }
        }
    };
}

words! {
    /// What a gate does with its files.
    WorkKind {
        /// Nothing: they are only filed.
        Nothing = "none",
        /// Their rows are merged into an output.
        Merge = "merge",
        /// Their rows are loaded into a table of a database.
        Load = "load",
        /// A program is run for each.
        Run = "run",
        /// Each is an archive that is unpacked.
        Unpack = "unpack",
        /// Each is copied to one place or several.
        Deliver = "deliver",
        /// Cells or words of each are set.
        Edit = "edit",
        /// Each is sent to a receiver by HTTP.
        Send = "send",
        /// They are handed out to workers that ask.
        Offer = "offer",
    }
}

words! {
    /// What can be known of an effect after an interruption.
    Effect {
        /// Nothing of it can be seen before it is committed.
        Staged = "staged",
        /// Where it is to be seen one can ask whether it is there.
        Proven = "proven",
        /// Nobody can know.
        Unprovable = "unprovable",
    }
}

words! {
    /// What an output is.
    OutputRole {
        /// The rows of the batch.
        Rows = "rows",
        /// Rows that did not fit.
        SetAside = "set aside",
        /// The account of the rows.
        Account = "account",
        /// The rows of all outputs.
        All = "all",
        /// Rows in a table of a database.
        Load = "load",
        /// The file itself, as it came, elsewhere.
        Copy = "copy",
        /// An archive of the files of the batch.
        Bundle = "bundle",
        /// A folder into which an archive was unpacked.
        Unpacked = "unpacked",
        /// A file that was in an archive.
        Member = "member",
        /// The file itself, with cells or words that were set.
        Edited = "edited",
    }
}

impl OutputRole {
    /// What it is called before people.
    pub fn label(self) -> &'static str {
        match self {
            OutputRole::Rows => "output",
            OutputRole::Load => "table",
            OutputRole::SetAside
            | OutputRole::Account
            | OutputRole::Copy
            | OutputRole::Bundle
            | OutputRole::Unpacked
            | OutputRole::Member
            | OutputRole::Edited => self.word(),
            OutputRole::All => "output of all",
        }
    }
}

impl OutputRole {
    /// Whether it is made of rows that are counted.
    pub(crate) fn is_of_rows(self) -> bool {
        !self.is_handed_over() && self != OutputRole::Unpacked
    }

    /// Whether it is made for somebody who takes it away.
    pub(crate) fn is_handed_over(self) -> bool {
        matches!(
            self,
            OutputRole::Copy | OutputRole::Bundle | OutputRole::Member | OutputRole::Edited
        )
    }

    /// Whether rows of an entry stand in it that can be shown, and taken out again.
    pub fn has_rows(self) -> bool {
        self == OutputRole::Load
    }
}

words! {
    /// How an output meets what is there.
    OutputMode {
        /// It is new.
        Create = "create",
        /// It is written behind what is there.
        Append = "append",
        /// It takes the place of what is there.
        Replace = "replace",
        /// It gets a name with a number.
        Number = "number",
        /// It takes the place of the version that it was made from, and of no other.
        Update = "update",
        /// It takes the place of the file of which it was made, in the drop folder.
        InPlace = "in place",
        /// What is there stays, and nothing is made.
        Leave = "leave",
        /// Rows are added to those of the table.
        Add = "add",
        /// Rows take the place of those with the same key.
        Upsert = "upsert",
    }
}

impl ToSql for Compression {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        self.word().to_sql()
    }
}

impl FromSql for Compression {
    fn column_result(value: ValueRef<'_>) -> FromSqlResult<Self> {
        let word = value.as_str()?;
        Compression::by_word(word).ok_or_else(|| {
            FromSqlError::Other(format!("`{word}` is no word of this program").into())
        })
    }
}

words! {
    /// How a batch ended.
    BatchOutcome {
        /// Its work is done.
        Worked = "worked",
        /// It is to be worked again later.
        Again = "again",
        /// Its entries were held.
        Held = "held",
        /// It was given up, and nothing of it is to be seen.
        Abandoned = "abandoned",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_is_read_as_it_is_written() {
        fn all<T: FromSql + ToSql + PartialEq + std::fmt::Debug>(words: &[T]) {
            for word in words {
                let ToSqlOutput::Borrowed(value) = word.to_sql().unwrap() else {
                    panic!("{word:?} is no text");
                };
                assert_eq!(&T::column_result(value).unwrap(), word);
            }
        }
        all(WorkKind::ALL);
        all(Effect::ALL);
        all(OutputRole::ALL);
        all(OutputMode::ALL);
        all(BatchOutcome::ALL);
        assert!(OutputRole::column_result(ValueRef::Text(b"unheard of")).is_err());
    }
}
