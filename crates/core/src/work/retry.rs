//! How long to wait before something is tried again.

use std::time::Duration;

use crate::settings::keys::duration;
use crate::settings::reader::Section;

/// How long is waited before something is tried again, and how often it is tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Retry {
    /// The first wait.
    pub wait: Duration,
    /// The longest.
    pub up_to: Duration,
    /// How often, before the entry is held.
    pub tries: u32,
}

impl Retry {
    /// The wait after try number `tries`; `seed` tells entries apart.
    pub fn after(self, tries: u32, seed: i64) -> Duration {
        backoff(self.wait, self.up_to, tries, seed)
    }

    /// The longest wait after try number `tries`.
    pub fn longest(self, tries: u32) -> Duration {
        let doubled = self.wait.saturating_mul(1 << tries.saturating_sub(1).min(20));
        // A pause is a tenth more or less.
        doubled.min(self.up_to.max(self.wait)) * 11 / 10
    }

    /// Reads `wait`, `wait_up_to` and `tries` of a work's section.
    pub fn read(section: &mut Section<'_>) -> Self {
        let wait = duration(section, "wait").unwrap_or(Duration::from_secs(30));
        let up_to = duration(section, "wait_up_to").unwrap_or(Duration::from_secs(1800));
        Retry { wait, up_to, tries: section.count("tries").unwrap_or(20) }
    }
}

/// The wait after try number `tries`: `wait` after the first, doubling up to `up_to`,
/// a tenth more or less so that many entries do not come back in one instant. `seed`
/// tells them apart.
fn backoff(wait: Duration, up_to: Duration, tries: u32, seed: i64) -> Duration {
    let doubled =
        wait.saturating_mul(1u32.checked_shl(tries.saturating_sub(1)).unwrap_or(u32::MAX));
    let wait = doubled.min(up_to.max(wait));
    // Steps of SplitMix64: any spread will do.
    let mut mixed = seed.cast_unsigned() ^ (u64::from(tries) << 32) ^ 0x9E37_79B9_7F4A_7C15;
    mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    let share = 0.9 + 0.2 * ((mixed >> 11) as f64 / (1u64 << 53) as f64);
    wait.mul_f64(share)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn waits_double_to_their_bound_with_a_tenth_of_spread(
            tries in 1u32..200, seed in any::<i64>(), wait_ms in 1u64..60_000,
        ) {
            let wait = Duration::from_millis(wait_ms);
            let up_to = Duration::from_secs(1800);
            let plain = wait.as_secs_f64() * 2f64.powi(i32::try_from(tries).unwrap() - 1);
            let plain = plain.min(up_to.as_secs_f64().max(wait.as_secs_f64()));
            let found = backoff(wait, up_to, tries, seed).as_secs_f64();
            prop_assert!((plain * 0.899..=plain * 1.101).contains(&found), "{plain} {found}");
        }
    }
}
