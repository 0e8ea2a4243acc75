//! Which gates have no output that is committed and not in its place: so that a pass at which
//! nothing was committed need not ask.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// What is known of gates. Only recording a batch as worked can leave such an output, and only
/// this process records: a gate at which none was found has none until then.
#[derive(Default)]
pub(crate) struct NonePending(Mutex<HashMap<String, Known>>);

#[derive(Clone, Copy, Default)]
struct Known {
    /// Records that are being made.
    open: u32,
    /// Grows when one begins and when it ends.
    changes: u64,
    /// None was found at this change.
    none_at: Option<u64>,
}

impl NonePending {
    fn change<T>(&self, gate: &str, change: impl FnOnce(&mut Known) -> T) -> T {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match known.get_mut(gate) {
            Some(known) => change(known),
            None => change(known.entry(gate.to_owned()).or_default()),
        }
    }

    /// A batch of the gate is being recorded until what is given is dropped: what was found
    /// before counts no more, and what is found meanwhile does not count.
    pub fn recording<'p>(&'p self, gate: &'p str) -> Recording<'p> {
        self.change(gate, |known| {
            known.open += 1;
            known.changes += 1;
        });
        Recording { pending: self, gate }
    }

    /// Whether it is known that there is none; else what [`NonePending::none_found`] wants.
    pub fn is_known(&self, gate: &str) -> Result<(), u64> {
        self.change(gate, |known| match known.open == 0 && known.none_at == Some(known.changes) {
            true => Ok(()),
            false => Err(known.changes),
        })
    }

    /// None was found by who was given this before asking.
    pub fn none_found(&self, gate: &str, asked: u64) {
        self.change(gate, |known| known.none_at = Some(asked));
    }
}

/// A batch that is being recorded.
pub(crate) struct Recording<'p> {
    pending: &'p NonePending,
    gate: &'p str,
}

impl Drop for Recording<'_> {
    fn drop(&mut self) {
        self.pending.change(self.gate, |known| {
            known.open -= 1;
            known.changes += 1;
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(pending: &NonePending) -> u64 {
        pending.is_known("tide").expect_err("it is not known")
    }

    #[test]
    fn what_was_found_counts_until_the_next_batch_is_recorded() {
        let pending = NonePending::default();
        pending.none_found("tide", asked(&pending));
        assert_eq!(pending.is_known("tide"), Ok(()));
        assert!(pending.is_known("waves").is_err());
        drop(pending.recording("tide"));
        pending.none_found("tide", asked(&pending));
        assert_eq!(pending.is_known("tide"), Ok(()));
    }

    #[test]
    fn what_was_found_while_a_batch_is_recorded_never_counts() {
        let pending = NonePending::default();
        // Asked before, found while it is recorded, or after it.
        let before = asked(&pending);
        let recording = pending.recording("tide");
        pending.none_found("tide", before);
        assert!(pending.is_known("tide").is_err());
        let meanwhile = asked(&pending);
        pending.none_found("tide", meanwhile);
        assert!(pending.is_known("tide").is_err(), "it may be recorded at any moment");
        let second = pending.recording("tide");
        drop(recording);
        pending.none_found("tide", asked(&pending));
        assert!(pending.is_known("tide").is_err(), "the other is being recorded");
        drop(second);
        for old in [before, meanwhile] {
            pending.none_found("tide", old);
            assert!(pending.is_known("tide").is_err());
        }
        pending.none_found("tide", asked(&pending));
        assert_eq!(pending.is_known("tide"), Ok(()));
    }
}
