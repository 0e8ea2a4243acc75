//! What happened at the gates, by time.

use std::collections::BTreeMap;

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

pub(crate) fn activity(
    context: &Context,
    hours: u32,
    minutes: u32,
) -> Result<Vec<Activity>, EngineError> {
    // The ledger counts in pieces of five minutes.
    let minutes = (minutes / 5 * 5).clamp(5, 24 * 60);
    let step_ms = i64::from(minutes) * 60_000;
    let pieces = i64::from(hours.clamp(1, 24 * 31) * 60 / minutes).clamp(1, 3000);
    let first = Timestamp::now().as_millisecond().div_euclid(step_ms) - pieces + 1;
    let begins = |piece: i64| Timestamp::from_millisecond(piece * step_ms).unwrap_or_default();
    let mut counts: BTreeMap<(String, i64), Activity> = BTreeMap::new();
    for gate in &context.config.gates {
        for piece in first..first + pieces {
            let nothing = Activity {
                gate: gate.name.clone(),
                begins: begins(piece),
                minutes,
                entered: 0,
                filed: 0,
                held: 0,
                repeats: 0,
            };
            counts.insert((gate.name.clone(), piece), nothing);
        }
    }
    for slot in context.ledger.activity(begins(first))? {
        let piece = slot.begins.as_millisecond().div_euclid(step_ms);
        let Some(count) = counts.get_mut(&(slot.gate, piece)) else { continue };
        match slot.kind.as_str() {
            "entered" => count.entered += slot.count,
            "filed" => count.filed += slot.count,
            "held" => count.held += slot.count,
            _ => count.repeats += slot.count,
        }
    }
    Ok(counts.into_values().collect())
}
