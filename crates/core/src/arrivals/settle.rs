//! Whether a version counts as completely written. Plain data in, a verdict
//! out: nothing here reads a clock or a file.

use std::time::Duration;

/// What is known of one version of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Look {
    /// When we first saw this version, on the monotonic clock.
    pub first_seen: Duration,
    /// Time of the inode's last change on the wall clock, in nanoseconds.
    pub changed_ns: i64,
}

/// The present, on both clocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Clock {
    /// The monotonic clock.
    pub monotonic_now: Duration,
    /// The wall clock, in nanoseconds since 1970.
    pub wall_ns: i64,
    /// Whether the wall clock has gone with the monotonic one since we began;
    /// when it was set meanwhile, times of files cannot be trusted.
    pub trusted: bool,
}

/// Whether a version has been quiet for long enough.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It has; now ask whether somebody has it open.
    Quiet,
    /// Not before this time has passed.
    Wait(Duration),
}

/// Judges a version by its quiet time: how long we have seen it unchanged, or,
/// for a backlog that we see for the first time, how long ago its inode last
/// changed.
pub fn judge(look: &Look, quiet: Duration, clock: &Clock) -> Verdict {
    let by_looks = clock.monotonic_now.saturating_sub(look.first_seen);
    let age_ns = clock.wall_ns.saturating_sub(look.changed_ns);
    let by_inode = match u64::try_from(age_ns) {
        Ok(age_ns) if clock.trusted => Duration::from_nanos(age_ns),
        // The inode changed in the future: the clock was set, or the file
        // comes from another machine. Only our own looks count.
        _ => Duration::ZERO,
    };
    let unchanged = by_looks.max(by_inode);
    if unchanged >= quiet { Verdict::Quiet } else { Verdict::Wait(quiet - unchanged) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SECOND: i64 = 1_000_000_000;

    fn at(monotonic_now: u64, wall: i64, trusted: bool) -> Clock {
        Clock { monotonic_now: Duration::from_secs(monotonic_now), wall_ns: wall * SECOND, trusted }
    }

    fn look(first_seen: u64, changed: i64) -> Look {
        Look { first_seen: Duration::from_secs(first_seen), changed_ns: changed * SECOND }
    }

    const QUIET: Duration = Duration::from_secs(5);

    #[test]
    fn an_old_backlog_need_not_wait() {
        assert_eq!(judge(&look(100, 1000), QUIET, &at(100, 1005, true)), Verdict::Quiet);
        assert_eq!(
            judge(&look(100, 1001), QUIET, &at(100, 1005, true)),
            Verdict::Wait(Duration::from_secs(1))
        );
    }

    #[test]
    fn a_clock_that_was_set_makes_our_own_looks_decide() {
        assert_eq!(judge(&look(100, 1000), QUIET, &at(100, 9000, false)), Verdict::Wait(QUIET));
        assert_eq!(judge(&look(100, 9999), QUIET, &at(100, 1000, true)), Verdict::Wait(QUIET));
        assert_eq!(judge(&look(95, 9999), QUIET, &at(100, 1000, true)), Verdict::Quiet);
    }

    /// A file that is written at some seconds, looked at each second.
    fn taken_at(writes: &[u64], jumps: &[(u64, i64)]) -> Option<u64> {
        let mut wall = 10_000i64;
        let mut trusted = true;
        let mut seen: Option<Look> = None;
        for now in 0..200u64 {
            wall += 1;
            if let Some((_, by)) = jumps.iter().find(|(when, _)| *when == now) {
                wall += by;
                trusted = false;
            }
            if writes.contains(&now) {
                seen = Some(look(now, wall));
            }
            if let Some(seen) = &seen
                && judge(seen, QUIET, &at(now, wall, trusted)) == Verdict::Quiet
            {
                return Some(now);
            }
        }
        None
    }

    proptest! {
        #[test]
        fn never_taken_within_the_quiet_time_and_always_in_the_end(
            gaps in prop::collection::vec(1u64..5, 1..20),
            jumps in prop::collection::vec((0u64..100, -5000i64..5000), 0..3),
        ) {
            let writes: Vec<u64> = gaps.iter().scan(0, |at, gap| { *at += gap; Some(*at) }).collect();
            let last = *writes.last().unwrap();
            prop_assert_eq!(taken_at(&writes, &jumps), Some(last + 5));
        }
    }
}
