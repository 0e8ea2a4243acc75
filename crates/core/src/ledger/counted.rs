//! Counts of entries, by what they are counted.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// By what entries are counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CountBy {
    /// By gate.
    Gate,
    /// By state.
    State,
    /// By the day of entering, in the service's time zone.
    Day,
    /// By the value of a captured field.
    Field(String),
}

/// Nothing is counted by this word.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}`: expected gate, state, day or the name of a field")]
pub struct NotCounted(pub String);

impl CountBy {
    /// Reads `gate`, `state`, `day`, or the name of a field; `field:day` where a field has one
    /// of these names.
    ///
    /// # Errors
    /// [`NotCounted`], when it is none of these.
    pub fn of(word: &str) -> Result<Self, NotCounted> {
        let name = match word {
            "gate" => return Ok(CountBy::Gate),
            "state" => return Ok(CountBy::State),
            "day" => return Ok(CountBy::Day),
            word => word.strip_prefix("field:").unwrap_or(word),
        };
        let fits = |c: char| c.is_alphanumeric() || matches!(c, '_' | '-');
        if name.is_empty() || !name.chars().all(fits) {
            return Err(NotCounted(word.to_owned()));
        }
        Ok(CountBy::Field(name.to_owned()))
    }
}

/// How many entries there are of one kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Count {
    /// The gate, when counted by gate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gate: Option<String>,
    /// The state, when counted by state.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// The day, when counted by day.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub day: Option<String>,
    /// Values of fields, when counted by fields; empty where an entry has none.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub fields: BTreeMap<String, String>,
    /// How many.
    pub entries: u64,
    /// Their bytes; not told where entries are only counted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
}
