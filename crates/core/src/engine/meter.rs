//! What is counted and timed while gates pass, for those who watch.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use crate::ledger::words::WorkKind;

/// Upper bounds of the classes in which durations are counted, in seconds.
pub const BOUNDS: [f64; 12] =
    [0.001, 0.005, 0.01, 0.05, 0.1, 0.5, 1.0, 5.0, 10.0, 60.0, 300.0, 1800.0];

/// How long something took, each time that it was done.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Durations {
    /// How many took so long and no longer, by [`BOUNDS`]; each is counted in one class.
    pub classes: [u64; BOUNDS.len()],
    /// How many there were.
    pub count: u64,
    /// The time of all together, in seconds.
    pub seconds: f64,
}

impl Durations {
    fn add(&mut self, took: Duration) {
        let seconds = took.as_secs_f64();
        if let Some(class) = BOUNDS.iter().position(|bound| seconds <= *bound) {
            self.classes[class] += 1;
        }
        self.count += 1;
        self.seconds += seconds;
    }
}

/// What a batch came to.
#[derive(Debug, Clone, Copy)]
pub(crate) struct BatchFigures {
    pub work: WorkKind,
    pub files: u64,
    pub bytes: u64,
    pub rows: u64,
    pub took: Duration,
}

/// The figures of one gate since the service started.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct GateFigures {
    /// Its passes.
    pub passes: Durations,
    /// Its batches that were worked, by their work: from the claim to the record.
    pub batches: BTreeMap<WorkKind, Durations>,
    /// Files that were worked.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Rows that they gave.
    pub rows: u64,
    /// Batches that were not worked, by the kind of failure.
    pub failures: BTreeMap<&'static str, u64>,
}

/// The figures of all gates.
#[derive(Debug, Default)]
pub(crate) struct Meter(Mutex<BTreeMap<String, GateFigures>>);

impl Meter {
    fn at(&self, gate: &str, note: impl FnOnce(&mut GateFigures)) {
        let mut gates = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match gates.get_mut(gate) {
            Some(figures) => note(figures),
            None => note(gates.entry(gate.to_owned()).or_default()),
        }
    }

    /// A pass has ended.
    pub fn pass(&self, gate: &str, took: Duration) {
        self.at(gate, |figures| figures.passes.add(took));
    }

    /// A batch was worked.
    pub fn batch(&self, gate: &str, batch: &BatchFigures) {
        self.at(gate, |figures| {
            figures.batches.entry(batch.work).or_default().add(batch.took);
            figures.files += batch.files;
            figures.bytes += batch.bytes;
            figures.rows += batch.rows;
        });
    }

    /// A batch was not worked.
    pub fn failure(&self, gate: &str, kind: &'static str) {
        self.at(gate, |figures| *figures.failures.entry(kind).or_default() += 1);
    }

    /// The figures so far.
    pub fn figures(&self) -> BTreeMap<String, GateFigures> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_fall_into_the_first_class_that_holds_them() {
        let mut durations = Durations::default();
        for ms in [1, 2, 5, 6, 4_000_000] {
            durations.add(Duration::from_millis(ms));
        }
        assert_eq!(durations.classes[..3], [1, 2, 1]);
        assert_eq!(durations.classes.iter().sum::<u64>(), 4, "one took longer than all bounds");
        assert_eq!(durations.count, 5);
        assert!((durations.seconds - 4000.014).abs() < 1e-9);
    }
}
