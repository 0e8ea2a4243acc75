//! Uniting delimited texts by column name.
//!
//! A merge goes in two rounds, so that memory does not grow with the inputs:
//! [`MergePlan::note`] takes the header of each source and settles the columns
//! of the output; [`Merger::copy`] then streams the rows. A value is copied as
//! it stands in its source, quotes included.

use std::io::{self, Read, Write};

use crate::delimited::{Fault, Reader, Record, write_field};

/// A column that is added to every row of a source, with a value of its own
/// for each source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Added {
    /// Name of the output's column.
    pub column: String,
    /// The value, for one source.
    pub value: String,
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
    /// The output could not be written.
    #[error("the merged output cannot be written: {0}")]
    Output(#[source] io::Error),
}

/// What went in and out of a merge for one source, in rows.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Tally {
    /// Rows read, the header not counted.
    pub rows: u64,
    /// Bytes written for them.
    pub bytes: u64,
}

/// What a whole merge wrote.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Account {
    /// Columns of the output, in order.
    pub columns: Vec<String>,
    /// Rows written, the header not counted.
    pub rows: u64,
}

/// The columns of an output as the sources' headers are noted.
#[derive(Debug, Clone)]
pub struct MergePlan {
    delimiter: u8,
    columns: Vec<String>,
    chosen: bool,
    fixed: bool,
}

impl MergePlan {
    /// A plan whose columns are the union of the sources', in order of first
    /// sight.
    pub fn union(delimiter: u8) -> Self {
        MergePlan { delimiter, columns: Vec::new(), chosen: false, fixed: false }
    }

    /// A plan with just these columns of the sources; others are left out.
    pub fn choosing(delimiter: u8, columns: Vec<String>) -> Self {
        MergePlan { delimiter, columns, chosen: true, fixed: false }
    }

    /// Fixes the columns to those of an existing output to which rows are
    /// appended: a source with another column is refused.
    pub fn fix(&mut self, columns: Vec<String>) {
        self.columns = columns;
        self.fixed = true;
    }

    /// Columns of the output, in order.
    pub fn columns(&self) -> &[String] {
        &self.columns
    }

    /// Notes the header of one source and the columns added to its rows, and
    /// reads the source to its end, so that a faulty one is refused before
    /// anything is written. The plan is unchanged when the source is refused.
    ///
    /// # Errors
    /// [`MergeError`], when the source cannot take part.
    pub fn note(&mut self, input: impl Read, added: &[Added]) -> Result<(), MergeError> {
        let mut reader = Reader::new(input, self.delimiter);
        let names = reader.header()?;
        while let Some(record) = reader.next()? {
            even(&record, names.len())?;
        }
        if let Some(twice) = added.iter().find(|add| names.contains(&add.column)) {
            return Err(MergeError::AddedTwice { column: twice.column.clone() });
        }
        if self.chosen && !names.iter().any(|name| self.columns.contains(name)) {
            return Err(MergeError::NoneChosen {
                wanted: listed(&self.columns),
                found: listed(&names),
            });
        }
        let from_source =
            names.into_iter().filter(|name| !self.chosen || self.columns.contains(name));
        let all = from_source.chain(added.iter().map(|add| add.column.clone()));
        let new: Vec<String> = all.filter(|name| !self.columns.contains(name)).collect();
        if self.fixed
            && let Some(column) = new.first()
        {
            return Err(MergeError::NotInOutput {
                column: column.clone(),
                fixed: listed(&self.columns),
            });
        }
        self.columns.extend(new);
        Ok(())
    }
}

fn even(record: &Record<'_>, expected: usize) -> Result<(), Fault> {
    let (line, found) = (record.line, record.len());
    if found == expected { Ok(()) } else { Err(Fault::Ragged { line, expected, found }) }
}

fn listed(names: &[String]) -> String {
    let quoted: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
    quoted.join(", ")
}

/// Where a column of the output comes from, for one source.
enum From {
    Field(usize),
    Value(Vec<u8>),
    Nothing,
}

/// Streams sources into one output.
pub struct Merger<W> {
    out: W,
    plan: MergePlan,
    account: Account,
}

impl<W: Write> Merger<W> {
    /// A merger that writes to `out`; the header is written when `header` is
    /// true (rows that are appended to an existing output have none).
    ///
    /// # Errors
    /// [`MergeError::Output`].
    pub fn new(mut out: W, plan: MergePlan, header: bool) -> Result<Self, MergeError> {
        if header {
            for (at, name) in plan.columns.iter().enumerate() {
                if at > 0 {
                    out.write_all(&[plan.delimiter]).map_err(MergeError::Output)?;
                }
                write_field(&mut out, name, plan.delimiter).map_err(MergeError::Output)?;
            }
            out.write_all(b"\n").map_err(MergeError::Output)?;
        }
        let account = Account { columns: plan.columns.clone(), rows: 0 };
        Ok(Merger { out, plan, account })
    }

    /// Copies the rows of one source.
    ///
    /// # Errors
    /// [`MergeError`]; some rows of the source may then have been written
    /// already, so the whole output must be thrown away.
    pub fn copy(&mut self, input: impl Read, added: &[Added]) -> Result<Tally, MergeError> {
        let delimiter = self.plan.delimiter;
        let mut reader = Reader::new(input, delimiter);
        let header = reader.header()?;
        let sources = self.sources(&header, added);
        let straight = sources.len() == header.len()
            && sources
                .iter()
                .enumerate()
                .all(|(at, from)| matches!(from, From::Field(i) if *i == at));
        let mut tally = Tally::default();
        let mut line = Vec::new();
        while let Some(record) = reader.next()? {
            even(&record, header.len())?;
            line.clear();
            if straight {
                line.extend_from_slice(record.raw());
            } else {
                for (at, from) in sources.iter().enumerate() {
                    if at > 0 {
                        line.push(delimiter);
                    }
                    match from {
                        From::Field(index) => line.extend_from_slice(record.verbatim(*index)),
                        From::Value(value) => line.extend_from_slice(value),
                        From::Nothing => {}
                    }
                }
            }
            line.push(b'\n');
            self.out.write_all(&line).map_err(MergeError::Output)?;
            tally.rows += 1;
            tally.bytes += line.len() as u64;
        }
        self.account.rows += tally.rows;
        Ok(tally)
    }

    fn sources(&self, header: &[String], added: &[Added]) -> Vec<From> {
        let source = |column: &String| {
            if let Some(index) = header.iter().position(|name| name == column) {
                return From::Field(index);
            }
            match added.iter().find(|add| add.column == *column) {
                Some(add) => {
                    let mut value = Vec::new();
                    write_field(&mut value, &add.value, self.plan.delimiter)
                        .expect("writing to memory does not fail");
                    From::Value(value)
                }
                None => From::Nothing,
            }
        };
        self.plan.columns.iter().map(source).collect()
    }

    /// Ends the merge and gives the account and the writer back.
    ///
    /// # Errors
    /// [`MergeError::Output`], when what is buffered cannot be written.
    pub fn finish(mut self) -> Result<(Account, W), MergeError> {
        self.out.flush().map_err(MergeError::Output)?;
        Ok((self.account, self.out))
    }
}

#[cfg(test)]
mod tests;
