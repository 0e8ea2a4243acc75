//! Whether a place that did not answer is left alone for a while.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use crate::Fault;

/// The shortest and the longest time for which a place is left alone.
const SHORTEST: Duration = Duration::from_secs(1);
const LONGEST: Duration = Duration::from_secs(60);

/// How it stands with a place: after each connection that failed it is left alone for longer,
/// so that many gates of one place do not call at a closed door.
#[derive(Default)]
pub(crate) struct Standing(Mutex<Option<Failed>>);

struct Failed {
    why: String,
    times: u32,
    until: Instant,
}

impl Standing {
    /// Gives why nothing is connected now, if it is to be left alone.
    pub fn may_connect(&self) -> Result<(), Fault> {
        let failed = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match &*failed {
            Some(Failed { why, until, .. }) if *until > Instant::now() => {
                Err(Fault::Away(why.clone()))
            }
            _ => Ok(()),
        }
    }

    /// Notes what came of a connection.
    pub fn note<T>(&self, made: Result<T, Fault>) -> Result<T, Fault> {
        let mut failed = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match &made {
            Err(Fault::Away(why)) => {
                let times = failed.as_ref().map_or(0, |failed| failed.times) + 1;
                let until = Instant::now() + wait(times);
                *failed = Some(Failed { why: why.clone(), times, until });
            }
            _ => *failed = None,
        }
        made
    }
}

/// Twice as long after each failure, less up to a half, so that not all call at once.
fn wait(times: u32) -> Duration {
    let whole = SHORTEST.saturating_mul(1 << (times - 1).min(10)).min(LONGEST);
    let nanos = SystemTime::UNIX_EPOCH.elapsed().map_or(0, |since| since.subsec_nanos());
    whole - whole.mul_f64(f64::from(nanos % 1000) / 2000.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_that_is_away_is_left_alone_for_longer_each_time() {
        let standing = Standing::default();
        assert!(standing.may_connect().is_ok());
        let away = || Err::<(), _>(Fault::Away("nobody answers".into()));
        assert!(standing.note(away()).is_err());
        assert!(matches!(standing.may_connect(), Err(Fault::Away(why)) if why == "nobody answers"));
        let waits: Vec<Duration> = (1..12).map(wait).collect();
        assert!(waits[0] >= SHORTEST / 2 && waits[10] <= LONGEST && waits[10] >= LONGEST / 2);
        assert!(waits.iter().zip(&waits[1..4]).all(|(one, next)| one <= next), "{waits:?}");
        assert!(standing.note(Ok(())).is_ok() && standing.may_connect().is_ok());
        // Who says no has answered.
        assert!(standing.note(Err::<(), _>(Fault::NotLetIn("no".into()))).is_err());
        assert!(standing.may_connect().is_ok());
    }
}
