//! Reading, merging and writing tables.
//!
//! This crate knows nothing of gates, ledgers or services: it takes byte
//! streams and gives byte streams, and says exactly where an input is wrong.
//!
//! * [`delimited`] reads and writes delimited text (RFC 4180).
//! * [`merge`] unites several delimited texts into one by column name.

pub mod delimited;
pub mod merge;

pub use delimited::{Fault, Reader, Record};
pub use merge::{Account, Added, MergeError, MergePlan, Merger, Tally};
