//! What is wrong with values, and with what is said of columns.

use crate::kind::Kind;

/// The rule of a column that a value breaks.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BrokenRule {
    /// Nothing stands where something must.
    #[error("something must stand here")]
    Missing,
    /// It is no value of the column's type.
    #[error("must be {} {}{}", article(*kind), kind.word(), as_written(formats))]
    Kind {
        /// The type.
        kind: Kind,
        /// How values of it are written, where that is said.
        formats: Vec<String>,
    },
    /// It is less than this.
    #[error("must be {0} or more")]
    Least(String),
    /// It is more than this.
    #[error("must be {0} at most")]
    Most(String),
    /// It has fewer characters.
    #[error("must have {least} characters or more, has {length}")]
    Short {
        /// So many it must have.
        least: usize,
        /// So many it has.
        length: usize,
    },
    /// It has more characters.
    #[error("must have {most} characters at most, has {length}")]
    Long {
        /// So many it may have.
        most: usize,
        /// So many it has.
        length: usize,
    },
    /// It is none of these.
    #[error("must be one of {}", .0.join(", "))]
    Other(Vec<String>),
}

fn article(kind: Kind) -> &'static str {
    if kind == Kind::Integer { "an" } else { "a" }
}

fn as_written(formats: &[String]) -> String {
    match formats {
        [] => String::new(),
        formats => format!(" as {}", formats.join(" or ")),
    }
}

/// Why a text is no Table Schema.
#[derive(Debug, thiserror::Error)]
pub enum SchemaFault {
    /// It is no JSON.
    #[error("no JSON: {0}")]
    NoJson(#[from] serde_json::Error),
    /// It says nothing of columns.
    #[error("it has no list `fields`")]
    NoFields,
    /// A column has no name.
    #[error("field {0}: it has no `name`")]
    NoName(
        /// Which, from 1.
        usize,
    ),
    /// A column has a type that is none.
    #[error("field {at}: its type `{word}` is not known")]
    UnknownType {
        /// Which, from 1.
        at: usize,
        /// The type.
        word: String,
    },
}
