//! What is expected, and whether it is here: told of the ledger and the rules alone, so that
//! a rule that is written today tells the last month too.

pub(crate) mod cells;
pub(crate) mod facts;
pub(crate) mod learn;
pub mod types;

pub use learn::{Learned, LearnedDay};
pub use types::{DueCell, DueCount, DueState, DueView};

#[cfg(test)]
mod tests;
