//! That it is not the time of a gate.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Why a gate takes nothing now, and when it does again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Closed {
    /// Why.
    pub because: String,
    /// When it takes files again, in the service's zone; in words.
    pub opens: String,
    /// When that is; none where it does not in the next year.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub opens_at: Option<Timestamp>,
}

impl Closed {
    pub(crate) fn new(because: String, opens_at: Option<Timestamp>, zone: &TimeZone) -> Self {
        let opens = match opens_at {
            Some(at) => zone.to_datetime(at).strftime("opens %a %Y-%m-%d %H:%M").to_string(),
            None => "does not open in the next year".to_owned(),
        };
        Closed { because, opens, opens_at }
    }

    /// What is told of a file that is complete.
    pub(crate) fn of_file(&self) -> String {
        format!("complete; the gate is closed: {}, and {}", self.because, self.opens)
    }
}
