//! Reading, shaping, merging and writing tables.
//!
//! This crate knows nothing of gates, ledgers or services: it takes files and gives
//! bytes, and says exactly where an input is wrong.
//!
//! * [`source`] reads delimited text in its dialects, workbooks and JSON records as
//!   tables, row by row.
//! * [`layout`] says what the columns of an output are, and what their values must be.
//! * [`merge`] unites tables by column name, and accounts for every row.
//! * [`mod@write`] writes delimited text, JSON Lines, workbooks and Parquet.
//! * [`sample`] tells what is in a file.
//! * [`edit`] sets cells of workbooks and words of texts.

mod budget;
pub mod cell;
mod container;
mod decode;
pub mod delimited;
pub mod dialect;
pub mod edit;
mod eight;
pub mod fault;
pub mod kind;
pub mod layout;
pub mod merge;
mod pool;
mod records;
pub mod sample;
mod scan;
pub mod source;
pub mod workbook;
pub mod write;

pub use budget::MOST_COLUMNS;
pub use cell::{Cell, Row};
pub use delimited::{Reader, Record};
pub use fault::Fault;
pub use kind::Kind;
pub use layout::{Column, Layout, Names};
pub use merge::{
    Account, Added, Depth, Input, MergeError, Merger, Misfit, Misfits, Options, Part, Plan,
    Repeated, Tally, UpTo, existing, write_rejects,
};
pub use source::{Bytes, Format, Header, Merged, Reading, Sheets};
pub use write::{
    Columns, Digits, Form, Head, Lines, Packing, Room, Sink, Stacking, Way, Writing, sheet_name,
};
