//! How long something is still to be waited for, whatever the wall clock does.
//!
//! The ledger has times of the wall clock, which people set. What lasts is measured on
//! the monotonic clock, from the moment at which this process first saw the time; of what
//! an earlier process wrote down it believes the lesser of both: never more than the
//! whole span from now on.

use std::collections::HashMap;
use std::time::Duration;

use crate::ledger::ids::{BatchId, EntryId};

/// What is waited for: an entry or a batch, and the time that the ledger has for it, in
/// milliseconds. With another time it is another wait.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Wait {
    /// A ready entry waits until then.
    Again(EntryId, i64),
    /// A lease lasts until then.
    Lease(BatchId, i64),
    /// An entry is ready since then.
    Ready(EntryId, i64),
}

/// A moment on both clocks.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Now {
    pub monotonic_now: Duration,
    pub wall_ms: i64,
}

/// What a gate waits for.
#[derive(Debug, Default)]
pub(crate) struct Waits {
    /// When each wait is over, or began, on the monotonic clock from a point that lies
    /// before all that can be.
    known: HashMap<Wait, (Duration, u64)>,
    round: u64,
}

/// Times before this process began must not be negative.
const BEFORE: Duration = Duration::from_secs(1 << 40);

fn span(ms: i64) -> Duration {
    Duration::from_millis(u64::try_from(ms).unwrap_or(0))
}

impl Waits {
    /// How long it still is until a time of the ledger; at the most `whole`.
    pub fn left(&mut self, wait: Wait, whole: Duration, now: Now) -> Duration {
        let (Wait::Again(_, until) | Wait::Lease(_, until) | Wait::Ready(_, until)) = wait;
        let left = span(until.saturating_sub(now.wall_ms)).min(whole);
        let round = self.round;
        let known = self.known.entry(wait).or_insert((now.monotonic_now + left, round));
        known.1 = round;
        known.0.saturating_sub(now.monotonic_now)
    }

    /// How long ago a time of the ledger was.
    pub fn since(&mut self, wait: Wait, now: Now) -> Duration {
        let (Wait::Again(_, at) | Wait::Lease(_, at) | Wait::Ready(_, at)) = wait;
        let ago = span(now.wall_ms.saturating_sub(at)).min(BEFORE);
        let (round, here) = (self.round, BEFORE + now.monotonic_now);
        let known = self.known.entry(wait).or_insert((here.saturating_sub(ago), round));
        known.1 = round;
        here.saturating_sub(known.0)
    }

    /// Forgets what was not asked about in this round and the one before.
    pub fn end_round(&mut self) {
        let round = self.round;
        self.known.retain(|_, (_, asked)| *asked + 1 >= round);
        self.round += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECOND: Duration = Duration::from_secs(1);
    const DAY_MS: i64 = 86_400_000;

    fn at(seconds: u64, wall_ms: i64) -> Now {
        Now { monotonic_now: Duration::from_secs(seconds), wall_ms }
    }

    #[test]
    fn a_clock_that_is_set_changes_no_wait_that_was_begun() {
        let mut waits = Waits::default();
        let lease = Wait::Lease(BatchId::of(1), 1_000_000 + 60_000);
        assert_eq!(waits.left(lease, 60 * SECOND, at(100, 1_000_000)), 60 * SECOND);
        for jump in [-DAY_MS, 0, 2 * DAY_MS] {
            let left = waits.left(lease, 60 * SECOND, at(130, 1_030_000 + jump));
            assert_eq!(left, 30 * SECOND, "{jump}");
        }
        let ready = Wait::Ready(EntryId::of(7), 1_000_000);
        assert_eq!(waits.since(ready, at(100, 1_000_000)), Duration::ZERO);
        assert_eq!(waits.since(ready, at(105, 1_000_000 - DAY_MS)), 5 * SECOND);
    }

    #[test]
    fn over_a_restart_the_lesser_of_both_is_waited() {
        let whole = 60 * SECOND;
        // The clock was set back by a day: from now on, the whole time.
        let again = Wait::Again(EntryId::of(1), 1_060_000);
        assert_eq!(Waits::default().left(again, whole, at(0, 1_000_000 - DAY_MS)), whole);
        // It was set forward, or the service was away for long: nothing is left.
        assert_eq!(Waits::default().left(again, whole, at(0, 9_000_000)), Duration::ZERO);
        // An entry that is ready since the future is ready since now.
        let mut waits = Waits::default();
        let ready = Wait::Ready(EntryId::of(7), 1_000_000);
        assert_eq!(waits.since(ready, at(0, 1_000_000 - DAY_MS)), Duration::ZERO);
        assert_eq!(waits.since(ready, at(20, 1_000_000 - DAY_MS)), 20 * SECOND);
        assert_eq!(Waits::default().since(ready, at(3, 1_009_000)), 9 * SECOND);
    }

    #[test]
    fn what_nobody_asks_about_any_more_is_forgotten() {
        let mut waits = Waits::default();
        waits.left(Wait::Again(EntryId::of(1), 5), SECOND, at(0, 0));
        for _ in 0..3 {
            waits.end_round();
        }
        assert!(waits.known.is_empty());
    }
}
