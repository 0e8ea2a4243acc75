//! What one request alone does at a time.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};

/// What is being done, by name.
#[derive(Default)]
pub(crate) struct BeingDone(Arc<Mutex<HashSet<String>>>);

/// One of them, until it is dropped.
pub(crate) struct Alone {
    name: String,
    all: Arc<Mutex<HashSet<String>>>,
}

impl BeingDone {
    /// Begins with one, unless somebody is at it.
    pub fn begin(&self, name: &str) -> Option<Alone> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let name = name.to_owned();
        all.insert(name.clone()).then(|| Alone { name, all: Arc::clone(&self.0) })
    }
}

impl Drop for Alone {
    fn drop(&mut self) {
        self.all.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.name);
    }
}
