//! What an attempt to tell came to.

use std::time::Duration;

/// What an attempt came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Delivered {
    /// The receiver has it.
    Taken,
    /// It is tried again: why.
    Later(String),
    /// It is tried again after this time: why.
    After(Duration, String),
    /// It will never take it: why.
    Refused(String),
}
