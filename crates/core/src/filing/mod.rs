//! Filing: moving a worked source to its place, exactly once, over nothing.
//!
//! The target is in the ledger before the file is moved, so that a recovery
//! finds the file whether the move had happened or not.

mod folders;
mod moving;

pub(crate) use folders::{Folders, numbered, sync_folder};
pub(crate) use moving::{Moved, Moving, move_to, rename_over_nothing, sum_of};
