//! Work: what a gate does with the files of a batch. Each work stages its
//! result; [`publish`] brings what was committed into its place. [`by_hand`] merges
//! without a gate and without the ledger.

pub mod by_hand;
pub(crate) mod deaths;
pub(crate) mod load;
pub(crate) mod merge;
pub(crate) mod publish;
pub(crate) mod run;
