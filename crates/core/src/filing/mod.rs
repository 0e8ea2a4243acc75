//! Filing: moving a worked source to its place, exactly once, over nothing.
//!
//! The target is in the ledger before the file is moved, so that a recovery
//! finds the file whether the move had happened or not.

pub(crate) mod create;
pub(crate) mod folders;
pub(crate) mod in_place;
pub(crate) mod moving;
pub(crate) mod packing;
pub(crate) mod publish;
pub(crate) mod staging;
