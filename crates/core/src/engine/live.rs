//! What a gate knows of its drop folder at the moment: shared between the
//! gate's thread, which changes it, and those who ask.

use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, MutexGuard};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::context::Context;
use crate::arrivals::{Look, Version};
use crate::config::Gate;
use crate::pattern::Fields;

/// What one pass did.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PassReport {
    /// The gate.
    pub gate: String,
    /// Files that settled and were entered.
    pub entered: u64,
    /// Of these, repeats.
    pub repeats: u64,
    /// Entries that were worked.
    pub worked: u64,
    /// Entries that were filed.
    pub filed: u64,
    /// Entries that were held.
    pub held: u64,
    /// Files that are still arriving.
    pub arriving: u64,
    /// Whether the gate is paused, so that nothing was taken.
    pub paused: bool,
    /// Standing problems of the gate.
    pub problems: Vec<String>,
}

/// A version that has not settled yet.
#[derive(Debug, Clone)]
pub(super) struct Arriving {
    pub version: Version,
    pub fields: Fields,
    pub look: Look,
    pub seen_at: i64,
    /// Why it is not taken yet.
    pub because: String,
    pub generation: u32,
    /// On the monotonic clock: not looked at again before this.
    pub not_before: std::time::Duration,
    /// On the monotonic clock: when the path was first noticed.
    pub noticed: std::time::Duration,
}

/// A version in the drop folder that has an entry.
#[derive(Debug, Clone, Copy)]
pub(super) struct Known {
    pub version: Version,
    pub entry: i64,
    pub generation: u32,
}

#[derive(Default)]
pub(super) struct State {
    pub arriving: HashMap<String, Arriving>,
    pub known: HashMap<String, Known>,
    /// Standing problems, by what they are about.
    pub problems: BTreeMap<String, String>,
    /// Markers that speak for their folder: path, version and time of change.
    pub markers: HashMap<String, (Version, i64)>,
    /// How the folder is watched, in words.
    pub watching: String,
    pub paused: bool,
    /// What is being done right now, in words.
    pub doing: Option<String>,
    pub last_pass: Option<Timestamp>,
    pub next_pass: Option<Timestamp>,
    /// False until the ledger's entries of this folder have been read.
    pub loaded: bool,
}

pub(super) struct Live {
    pub context: Arc<Context>,
    pub gate: Gate,
    /// Whether the kernel can tell who has a file of the drop folder open.
    pub lease: AtomicBool,
    /// Another configuration is in force: it ends after what it is doing.
    pub retired: AtomicBool,
    state: Mutex<State>,
}

impl Live {
    pub fn new(context: Arc<Context>, gate: Gate) -> Self {
        let paused = context.ledger.paused(&gate.name).unwrap_or(false);
        let state = State { paused, ..State::default() };
        let lease = AtomicBool::new(crate::arrivals::lease_tells(&gate.drop).is_ok());
        Live { context, gate, lease, retired: AtomicBool::new(false), state: Mutex::new(state) }
    }

    pub fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    pub fn set_paused(&self, paused: bool) {
        self.state().paused = paused;
    }

    /// Notes a standing problem, or that there is none any more; each is
    /// logged once.
    pub fn problem(&self, about: &str, problem: Option<String>) {
        let mut state = self.state();
        let changed = match problem {
            Some(problem) => {
                let old = state.problems.insert(about.to_owned(), problem.clone());
                if old.as_ref() != Some(&problem) {
                    tracing::warn!(gate = %self.gate.name, "{problem}");
                }
                old.as_ref() != Some(&problem)
            }
            None => {
                let old = state.problems.remove(about);
                if let Some(old) = &old {
                    tracing::info!(gate = %self.gate.name, "no longer: {old}");
                }
                old.is_some()
            }
        };
        drop(state);
        if changed {
            self.context.pulse(&self.gate.name);
        }
    }

    /// Reads which versions in the drop folder have an entry, once.
    pub fn load_known(&self) -> Result<(), crate::ledger::LedgerError> {
        if self.state().loaded {
            return Ok(());
        }
        let mut known = HashMap::new();
        self.context.ledger.each_in_drop(&self.gate.name, |path, version, entry| {
            known.insert(path, Known { version, entry, generation: 0 });
        })?;
        let mut state = self.state();
        // Another may have read it meanwhile, and the gate may have gone on.
        if state.loaded {
            return Ok(());
        }
        state.known = known;
        state.loaded = true;
        Ok(())
    }
}
