//! A report as it is told.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::dues::types::{DueCell, DueState};
use crate::ledger::{GateFigures, Happening, HeldGroup, OutputFigures};

/// What a time did.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Report {
    /// From when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// The time zone of its days.
    pub zone: String,
    /// What was expected on its days, those first that need a person.
    pub dues: Vec<DueCell>,
    /// What came to each gate.
    pub gates: Vec<GateReport>,
    /// What is held now of all that came, by gate and reason.
    pub held: Vec<HeldGroup>,
    /// Unusual files.
    pub unusual: Vec<Happening>,
    /// Limits that were broken.
    pub breaches: Vec<Happening>,
    /// Troubles of gates.
    pub troubles: Vec<Happening>,
    /// Files that were removed by each rule.
    pub removed: Vec<RemovedFigures>,
    /// What was written.
    pub outputs: Vec<OutputFigures>,
    /// What happened when.
    pub timeline: Vec<TimelinePart>,
}

/// What came to a gate, beside the same time a week before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GateReport {
    /// In this time.
    #[serde(flatten)]
    pub now: GateFigures,
    /// Files in the same time a week before.
    pub files_before: u64,
    /// Bytes in the same time a week before.
    pub bytes_before: u64,
}

/// Files that were removed by a rule.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RemovedFigures {
    /// The rule.
    pub rule: String,
    /// So many.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// A piece of the time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TimelinePart {
    /// When it began.
    #[schema(value_type = String, format = DateTime)]
    pub begins: Timestamp,
    /// Files that were entered.
    pub entered: u64,
    /// Files that were filed.
    pub filed: u64,
    /// Files that were held.
    pub held: u64,
}

impl Report {
    /// How many expectations are in a state.
    pub fn count(&self, state: DueState) -> usize {
        self.dues.iter().filter(|cell| cell.state == state).count()
    }
}
