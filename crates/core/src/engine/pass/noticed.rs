//! Versions that are seen for the first time.

use std::time::Duration;

use jiff::Timestamp;

use crate::arrivals::settle::Look;
use crate::arrivals::sweep::Seen;
use crate::engine::gate::state::{Arriving, Live};
use crate::engine::pass::complete::out_of_bounds;
use crate::files::version::Version;
use crate::pattern::Fields;

/// What is known of a file that is seen for the first time.
pub(crate) fn arriving(seen: &Seen, fields: Fields, now: Duration) -> Arriving {
    Arriving {
        version: seen.version,
        fields,
        look: Look { first_seen: now, changed_ns: seen.changed_ns },
        seen_at: Timestamp::now().as_millisecond(),
        because: "".into(),
        generation: 0,
        not_before: Duration::ZERO,
        noticed: now,
    }
}

/// When a file that is seen for the first time arrived, in milliseconds: now, or, when it lay
/// there before the service began, when its inode was changed last. So a file that lay at a
/// closed gate while the service was started anew did not come late.
fn arrived(changed_ns: i64, wall_ns: i64, started: Timestamp) -> i64 {
    let (changed, now) = (changed_ns.div_euclid(1_000_000), wall_ns.div_euclid(1_000_000));
    let lay_there = changed > 0 && changed < started.as_millisecond() && changed <= now;
    if lay_there { changed } else { now }
}

/// Takes note of a version that was not seen before.
pub(crate) fn new_version(
    live: &Live,
    path: &str,
    version: Version,
    changed_ns: i64,
    fields: Fields,
    generation: u32,
) {
    let clock = live.context.clock();
    // Where the inode's time says nothing it must not make a new version at each look.
    let version = if live.trusts_inode_time() { version } else { version.without_inode_time() };
    let mut state = live.state();
    if out_of_bounds(&live.gate, &version, clock.wall_ns).is_some() {
        state.arriving.remove(path);
        return;
    }
    let earlier = state.arriving.get(path).map(|arriving| (arriving.seen_at, arriving.noticed));
    let arriving = Arriving {
        version,
        fields,
        look: Look { first_seen: clock.monotonic_now, changed_ns },
        seen_at: earlier.map_or_else(
            || arrived(changed_ns, clock.wall_ns, live.context.started),
            |(seen_at, _)| seen_at,
        ),
        because: "just noticed".into(),
        generation,
        not_before: Duration::ZERO,
        noticed: earlier.map_or(clock.monotonic_now, |(_, noticed)| noticed),
    };
    state.arriving.insert(path.into(), arriving);
    drop(state);
    if earlier.is_none() {
        live.context.pulse(&live.gate.name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lay_there_before_the_service_began_arrived_when_its_inode_changed() {
        let ns = |seconds: i64| seconds * 1_000_000_000;
        let started = Timestamp::from_second(1000).unwrap();
        for (changed, now, arrived_at) in [
            (900, 1010, 900_000),
            (1005, 1010, 1_010_000),
            // Not known, and in the future: a clock was set.
            (0, 1010, 1_010_000),
            (950, 940, 940_000),
        ] {
            assert_eq!(arrived(ns(changed), ns(now), started), arrived_at, "{changed} {now}");
        }
    }
}
