//! Work: what a gate does with the files of a batch. Each work stages its
//! result; [`publish`] brings what was committed into its place.

pub(crate) mod merge;
pub(crate) mod publish;
pub(crate) mod run;
