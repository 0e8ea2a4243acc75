//! Times of the clock on the wall, as instants.

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::{AmbiguousOffset, TimeZone};

/// The instant of a time in a zone: of one that summer time skips the first after it, of one
/// that comes twice the first.
pub(crate) fn instant(zone: &TimeZone, at: DateTime) -> Option<Timestamp> {
    let found = zone.to_ambiguous_timestamp(at);
    match found.offset() {
        AmbiguousOffset::Gap { .. } => {
            // The clock was put forward over it: the first instant after is that of the change.
            let before = found.earlier().ok()?;
            zone.following(before).next().map(|change| change.timestamp())
        }
        _ => found.earlier().ok(),
    }
}
