//! A bound on bytes in a second.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// A bound on bytes in a second, shared by all who read and write under it.
#[derive(Debug)]
pub struct Pace {
    bytes_in_a_second: u64,
    /// When what was said to come so far may all have come.
    free_at: Mutex<Instant>,
}

/// So much may come at once after a pause.
const AT_ONCE: Duration = Duration::from_millis(250);

impl Pace {
    /// So many bytes in a second.
    pub fn new(bytes_in_a_second: u64) -> Self {
        let free_at = Mutex::new(Instant::now());
        Pace { bytes_in_a_second: bytes_in_a_second.max(1), free_at }
    }

    /// How long whoever moves so many bytes has to wait for it.
    pub fn wait(&self, bytes: usize) -> Duration {
        let takes = Duration::from_secs_f64(bytes as f64 / self.bytes_in_a_second as f64);
        let now = Instant::now();
        let mut free_at = self.free_at.lock().unwrap_or_else(PoisonError::into_inner);
        let from = (*free_at).max(now.checked_sub(AT_ONCE).unwrap_or(now));
        *free_at = from + takes;
        free_at.saturating_duration_since(now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_moved_together_is_bounded() {
        let pace = Pace::new(1_000_000);
        let waits: Vec<Duration> = (0..10).map(|_| pace.wait(100_000)).collect();
        assert!(waits[0] < Duration::from_millis(150), "{waits:?}");
        // A megabyte in a second, with a quarter of a second at once.
        let last = waits[9];
        assert!(
            last > Duration::from_millis(650) && last < Duration::from_millis(1010),
            "{last:?}"
        );
    }
}
