//! Time that nobody sets.

use std::sync::OnceLock;
use std::time::{Duration, Instant};

/// Time on the monotonic clock, from a fixed point of this process.
pub(crate) fn monotonic_now() -> Duration {
    static START: OnceLock<Instant> = OnceLock::new();
    START.get_or_init(Instant::now).elapsed()
}
