//! Why a source, or a row of it, cannot take part.

use std::io;

use crate::fault::Fault;

/// A value that does not fit its column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// Name of the source.
    pub source: String,
    /// The sheet of a workbook.
    pub sheet: Option<String>,
    /// Line or row of the source.
    pub row: u64,
    /// The column.
    pub column: String,
    /// The value.
    pub value: String,
    /// The rule that it breaks, in words.
    pub rule: String,
}

impl std::fmt::Display for Misfit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Misfit { sheet, row, column, value, rule, .. } = self;
        if let Some(sheet) = sheet {
            write!(f, "sheet `{sheet}`, row {row}, ")?;
        } else {
            write!(f, "line {row}, ")?;
        }
        let shown: String = value.chars().take(40).collect();
        write!(f, "column `{column}`: `{shown}` {rule}")
    }
}

/// Why a source cannot take part in a merge.
#[derive(Debug, thiserror::Error)]
pub enum MergeError {
    /// The source itself is faulty.
    #[error(transparent)]
    Source(#[from] Fault),
    /// A column is to be added that the source already has.
    #[error(
        "line 1: the header already has column `{column}`, which the merge adds; rename the added one"
    )]
    AddedTwice {
        /// The column's name.
        column: String,
    },
    /// Two columns of the source go into one of the output.
    #[error(
        "line 1: the columns `{one}` and `{other}` both go into `{to}`; say names = \"exact\", or rename one"
    )]
    SameColumn {
        /// The one.
        one: String,
        /// The other.
        other: String,
        /// The column of the output.
        to: String,
    },
    /// The source has none of the chosen columns.
    #[error("line 1: none of the columns {wanted} is there; the header has {found}")]
    NoneChosen {
        /// The chosen columns.
        wanted: String,
        /// The source's columns.
        found: String,
    },
    /// The output exists with fixed columns, and the source has another.
    #[error(
        "line 1: column `{column}` is not in the output, which has {fixed}; give the output another name, or choose `columns`"
    )]
    NotInOutput {
        /// The column that is too many.
        column: String,
        /// The output's columns.
        fixed: String,
    },
    /// Rows do not fit.
    #[error("{rows} {} not fit{}: {}", if *rows == 1 { "row does" } else { "rows do" }, allowed.as_deref().unwrap_or(""), listed_misfits(first))]
    Misfits {
        /// How many rows.
        rows: u64,
        /// How many there may be, in words.
        allowed: Option<String>,
        /// The first of the values.
        first: Vec<Misfit>,
    },
    /// The output could not be written.
    #[error("the merged output cannot be written: {0}")]
    Output(#[source] io::Error),
    /// The rows do not add up.
    #[error("the rows do not add up: {0}")]
    Unbalanced(String),
}

fn listed_misfits(misfits: &[Misfit]) -> String {
    misfits.iter().map(Misfit::to_string).collect::<Vec<_>>().join("; ")
}

/// Names in a row, the first of many.
pub(super) fn listed<'n>(names: impl Iterator<Item = &'n str>) -> String {
    /// Names that are told.
    const SHOWN: usize = 20;
    let mut names: Vec<String> = names.map(|name| format!("`{name}`")).collect();
    if names.len() > SHOWN + 1 {
        let more = names.split_off(SHOWN).len();
        names.push(format!("… and {more} more"));
    }
    names.join(", ")
}
