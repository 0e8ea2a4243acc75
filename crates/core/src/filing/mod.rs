//! Filing: moving a worked source to its place, exactly once, over nothing.
//!
//! The target is in the ledger before the file is moved, so that a recovery
//! finds the file whether the move had happened or not.

mod folders;
mod moving;

pub(crate) use folders::{FolderError, Folders, numbered};
pub(crate) use moving::{Moved, Moving, move_to, sum_of};
