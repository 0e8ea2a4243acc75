//! What lookouts saw last, and which are to take what they see as right.

use std::collections::{HashMap, HashSet};
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;

/// Folders, files and bytes.
type Counts = (u64, u64, u64);

/// What lookouts saw last.
#[derive(Debug, Default)]
pub(crate) struct Looks {
    last: Mutex<HashMap<String, (Timestamp, Counts)>>,
    right: Mutex<HashSet<String>>,
}

impl Looks {
    pub fn note(&self, name: &str, at: Timestamp, counts: Counts) {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        last.insert(name.to_owned(), (at, counts));
    }

    pub fn last(&self, name: &str) -> Option<(Timestamp, Counts)> {
        self.last.lock().unwrap_or_else(PoisonError::into_inner).get(name).copied()
    }

    pub fn take_as_right(&self, name: &str) {
        self.right.lock().unwrap_or_else(PoisonError::into_inner).insert(name.to_owned());
    }

    /// Whether it was said since it was asked last.
    pub fn taken_as_right(&self, name: &str) -> bool {
        self.right.lock().unwrap_or_else(PoisonError::into_inner).remove(name)
    }
}
