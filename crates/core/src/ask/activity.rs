//! What happened at the gates, by time.

use std::collections::{BTreeMap, HashSet};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::error::EngineError;
use crate::engine::shared::Context;

/// What happened at a gate in one piece of time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Activity {
    /// The gate.
    pub gate: String,
    /// When the piece began.
    #[schema(value_type = String, format = DateTime)]
    pub begins: Timestamp,
    /// Its length in minutes.
    pub minutes: u32,
    /// Files entered.
    pub entered: u64,
    /// Entries filed.
    pub filed: u64,
    /// Entries held.
    pub held: u64,
    /// Repeats.
    pub repeats: u64,
}

/// What happened at all gates in a span of time, which is divided into pieces.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ActivitySpan {
    /// When the first piece began.
    #[schema(value_type = String, format = DateTime)]
    pub begins: Timestamp,
    /// The length of a piece in minutes.
    pub minutes: u32,
    /// How many pieces there are, the last of which is not over yet.
    pub pieces: u32,
    /// Where something happened, by gate, oldest first; of all others nothing is said.
    pub activity: Vec<Activity>,
}

pub(crate) fn activity(
    context: &Context,
    hours: u32,
    minutes: u32,
) -> Result<ActivitySpan, EngineError> {
    // The ledger counts in pieces of five minutes.
    let minutes = (minutes / 5 * 5).clamp(5, 24 * 60);
    let step_ms = i64::from(minutes) * 60_000;
    let pieces = i64::from(hours.clamp(1, 24 * 31) * 60 / minutes).clamp(1, 3000);
    let first = Timestamp::now().as_millisecond().div_euclid(step_ms) - pieces + 1;
    let begins = |piece: i64| Timestamp::from_millisecond(piece * step_ms).unwrap_or_default();
    let known: HashSet<&str> = context.config.gates.iter().map(|gate| gate.name.as_str()).collect();
    let mut counts: BTreeMap<(String, i64), Activity> = BTreeMap::new();
    for slot in context.ledger.activity(begins(first))? {
        let piece = slot.begins.as_millisecond().div_euclid(step_ms);
        // What will come by a clock that was set back is none of it.
        if piece >= first + pieces || !known.contains(slot.gate.as_str()) {
            continue;
        }
        let count = counts.entry((slot.gate, piece)).or_insert_with_key(|(gate, piece)| Activity {
            gate: gate.clone(),
            begins: begins(*piece),
            minutes,
            entered: 0,
            filed: 0,
            held: 0,
            repeats: 0,
        });
        match slot.kind.as_str() {
            "entered" => count.entered += slot.count,
            "filed" => count.filed += slot.count,
            "held" => count.held += slot.count,
            _ => count.repeats += slot.count,
        }
    }
    let activity = counts.into_values().collect();
    Ok(ActivitySpan { begins: begins(first), minutes, pieces: pieces as u32, activity })
}
