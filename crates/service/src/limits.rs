//! Bounds of what one caller may ask for.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Requests that one caller may send at once.
const BURST: f64 = 600.0;

/// Requests a second that one caller may go on with.
const RATE: f64 = 100.0;

/// Streams of events that one caller may have at a time.
const STREAMS: usize = 32;

/// Callers that are kept apart; more only where thousands call in a minute.
const CALLERS: usize = 10_000;

/// What each caller has asked for lately. The local token is not bound: who has it could as
/// well stop the service.
#[derive(Default)]
pub(crate) struct Limits {
    callers: Mutex<HashMap<String, Bucket>>,
    streams: Arc<Mutex<HashMap<String, usize>>>,
}

struct Bucket {
    left: f64,
    at: Instant,
    /// Whether it was told that it asks for too much.
    told: bool,
}

/// That somebody asks for too much.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Exceeded {
    /// How long to wait.
    pub wait: Duration,
    /// Whether it is the first time.
    pub first: bool,
}

/// A stream, until it is dropped.
pub(crate) struct Stream {
    caller: String,
    streams: Arc<Mutex<HashMap<String, usize>>>,
}

impl Limits {
    /// Takes a request of a caller into account.
    pub fn request(&self, caller: &str, now: Instant) -> Result<(), Exceeded> {
        let mut callers = self.callers.lock().unwrap_or_else(PoisonError::into_inner);
        if callers.len() >= CALLERS && !callers.contains_key(caller) {
            let full = Duration::from_secs_f64(BURST / RATE);
            callers.retain(|_, bucket| now.saturating_duration_since(bucket.at) < full);
        }
        let fresh = Bucket { left: BURST, at: now, told: false };
        let bucket = callers.entry(caller.to_owned()).or_insert(fresh);
        let passed = now.saturating_duration_since(bucket.at).as_secs_f64();
        bucket.left = (bucket.left + passed * RATE).min(BURST);
        bucket.at = now;
        if bucket.left < 1.0 {
            let wait = Duration::from_secs_f64(((1.0 - bucket.left) / RATE).max(1.0));
            let first = !std::mem::replace(&mut bucket.told, true);
            return Err(Exceeded { wait, first });
        }
        bucket.left -= 1.0;
        if bucket.left > BURST / 2.0 {
            bucket.told = false;
        }
        Ok(())
    }

    /// Begins a stream of a caller.
    pub fn stream(&self, caller: &str) -> Option<Stream> {
        let mut streams = self.streams.lock().unwrap_or_else(PoisonError::into_inner);
        let count = streams.entry(caller.to_owned()).or_default();
        if *count >= STREAMS {
            return None;
        }
        *count += 1;
        Some(Stream { caller: caller.to_owned(), streams: Arc::clone(&self.streams) })
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        let mut streams = self.streams.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = streams.get_mut(&self.caller) {
            *count -= 1;
            if *count == 0 {
                streams.remove(&self.caller);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_asks_for_too_much_waits_and_the_others_do_not() {
        let (limits, begun) = (Limits::default(), Instant::now());
        for _ in 0..600 {
            limits.request("mara", begun).unwrap();
        }
        let refused = limits.request("mara", begun).unwrap_err();
        assert!(refused.first && refused.wait >= Duration::from_secs(1));
        assert!(!limits.request("mara", begun).unwrap_err().first, "it is told once");
        limits.request("ada", begun).unwrap();
        let later = begun + Duration::from_secs(1);
        for _ in 0..100 {
            limits.request("mara", later).unwrap();
        }
        limits.request("mara", later).unwrap_err();
    }

    #[test]
    fn a_stream_that_ends_makes_room_for_another() {
        let limits = Limits::default();
        let mut streams: Vec<_> = (0..STREAMS).map(|_| limits.stream("mara").unwrap()).collect();
        assert!(limits.stream("mara").is_none() && limits.stream("ada").is_some());
        streams.pop();
        assert!(limits.stream("mara").is_some());
    }
}
