//! Wrong sign-ins: after some of them the next is not looked at for a while, and for longer
//! each time.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// So many wrong ones cost nothing: fingers slip.
const FREE: u32 = 5;

/// The longest pause of a name: nobody can keep its owner out for longer.
const LONGEST_OF_NAME: Duration = Duration::from_secs(60);

/// The longest pause of an address.
const LONGEST_OF_ADDRESS: Duration = Duration::from_secs(15 * 60);

/// After so long without a wrong one it begins anew.
const FORGET: Duration = Duration::from_secs(3600);

/// Names and addresses that are remembered.
const MOST: usize = 20_000;

/// Wrong sign-ins by name and by address.
#[derive(Default)]
pub(crate) struct Attempts {
    wrong: Mutex<HashMap<Of, Wrong>>,
}

/// Of what the attempts are counted.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Of {
    Name(String),
    Address(String),
}

struct Wrong {
    count: u32,
    last: Instant,
}

impl Wrong {
    fn pause(&self, of: &Of) -> Duration {
        let Some(over) = self.count.checked_sub(FREE) else { return Duration::ZERO };
        let longest = match of {
            Of::Name(_) => LONGEST_OF_NAME,
            Of::Address(_) => LONGEST_OF_ADDRESS,
        };
        Duration::from_secs(1 << over.min(12)).min(longest)
    }
}

fn all(name: Option<&str>, address: &str) -> Vec<Of> {
    let name = name.map(|name| Of::Name(name.to_lowercase()));
    name.into_iter().chain([Of::Address(address.to_owned())]).collect()
}

impl Attempts {
    /// How long to wait before the next attempt is looked at; none when it is now. It counts
    /// as one that was wrong until it is said that it was right: many at once are no way round.
    pub fn begin(&self, name: Option<&str>, address: &str, now: Instant) -> Result<(), Duration> {
        let mut wrong = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        if wrong.len() >= MOST {
            wrong.retain(|_, one| now.saturating_duration_since(one.last) < FORGET);
        }
        let all = all(name, address);
        let waits = all.iter().filter_map(|of| {
            let one = wrong.get(of)?;
            one.pause(of).checked_sub(now.saturating_duration_since(one.last))
        });
        let wait = waits.max().unwrap_or_default();
        if !wait.is_zero() {
            return Err(wait);
        }
        if wrong.len() >= MOST {
            // So many within an hour is an attack: nobody new is looked at for a while.
            return Err(LONGEST_OF_NAME);
        }
        for of in all {
            let one = wrong.entry(of).or_insert(Wrong { count: 0, last: now });
            if now.saturating_duration_since(one.last) >= FORGET {
                one.count = 0;
            }
            one.count = one.count.saturating_add(1);
            one.last = now;
        }
        Ok(())
    }

    /// The last attempt was right. The name begins anew; the address only has that one not
    /// counted, so that whoever has a name of their own cannot go on guessing others.
    pub fn right(&self, name: Option<&str>, address: &str) {
        let mut wrong = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        for of in all(name, address) {
            match (&of, wrong.get_mut(&of)) {
                (Of::Address(_), Some(one)) if one.count > 1 => one.count -= 1,
                _ => _ = wrong.remove(&of),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_wrong_one_makes_the_next_wait_longer_until_a_bound() {
        let (attempts, mut now) = (Attempts::default(), Instant::now());
        let mut pauses = Vec::new();
        for _ in 0..20 {
            while let Err(wait) = attempts.begin(Some("Mara"), "192.0.2.7", now) {
                pauses.push(wait.as_secs());
                now += wait;
            }
        }
        assert_eq!(pauses[..8], [1, 2, 4, 8, 16, 32, 64, 128]);
        assert_eq!(pauses.iter().max(), Some(&(15 * 60)));
        // From elsewhere only the name counts, and not for longer than a minute.
        let elsewhere = attempts.begin(Some("mara"), "192.0.2.8", now).unwrap_err();
        assert!(elsewhere <= LONGEST_OF_NAME);
        attempts.begin(Some("ada"), "192.0.2.8", now).unwrap();
        now += LONGEST_OF_ADDRESS;
        attempts.begin(Some("mara"), "192.0.2.7", now).unwrap();
        attempts.right(Some("mara"), "192.0.2.7");
        attempts.begin(Some("mara"), "192.0.2.7", now).unwrap_err();
        for _ in 0..FREE {
            attempts.begin(Some("mara"), "192.0.2.9", now).unwrap();
        }
        attempts.begin(Some("mara"), "192.0.2.9", now).unwrap_err();
    }
}
