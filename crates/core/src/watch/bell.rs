//! Waiting until something happens, or until a time.

use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

/// It is looked that often at the latest: a clock may be set, and a file of days off changed.
const LONGEST: Duration = Duration::from_secs(30);

/// Something that is rung and waited for.
#[derive(Debug, Default)]
pub(crate) struct Bell {
    rung: Mutex<bool>,
    ringing: Condvar,
}

impl Bell {
    /// Rings it.
    pub fn ring(&self) {
        *self.rung.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.ringing.notify_all();
    }

    /// Waits until it rings, or for a time.
    pub fn wait(&self, patience: Duration) {
        let rung = self.rung.lock().unwrap_or_else(PoisonError::into_inner);
        let (mut rung, _) = self
            .ringing
            .wait_timeout_while(rung, patience, |rung| !*rung)
            .unwrap_or_else(PoisonError::into_inner);
        *rung = false;
    }
}

/// How long it is until a time.
pub(crate) fn until(next: Option<Timestamp>) -> Duration {
    let Some(next) = next else { return LONGEST };
    let wait = next.duration_since(Timestamp::now()).max(SignedDuration::ZERO);
    // A little more, so that the time has come then.
    Duration::try_from(wait)
        .unwrap_or(LONGEST)
        .saturating_add(Duration::from_millis(5))
        .min(LONGEST)
}
