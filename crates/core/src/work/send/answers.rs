//! What the answers of receivers mean.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;

use crate::words::visible;
use crate::work::outcome::Failure;
use crate::work::send::request::Answer;

/// A receiver may ask to be left alone for so long.
pub(crate) const LONGEST_WAIT: Duration = Duration::from_secs(24 * 3600);

/// Letters of an answer that are told.
const TOLD: usize = 300;

/// What the answer to a file means.
pub(crate) fn judge(answer: &Answer) -> Result<(), Failure> {
    let status = answer.status;
    match status {
        200..=299 => Ok(()),
        300..=399 => {
            let to = answer.location.as_deref().unwrap_or("nowhere that it names");
            Err(Failure::Refused(format!(
                "the receiver answers {status} and points to {}; redirects are not followed: correct `to`",
                visible(to)
            )))
        }
        408 | 425 | 429 | 500..=599 => {
            let wait =
                answer.retry_after.as_deref().and_then(|text| wait_of(text, Timestamp::now()));
            Err(Failure::Again(wait, format!("the receiver answers {status}{}", told(answer))))
        }
        _ => Err(Failure::Refused(format!("the receiver answers {status}{}", told(answer)))),
    }
}

/// A receiver does not tell whether it has a file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the receiver does not tell whether it has the file: it answers {status}{words}")]
pub(crate) struct NotTold {
    /// Its status.
    pub status: u16,
    /// The first words of its answer, behind a colon.
    pub words: String,
}

/// Whether a receiver has a file, by its answer.
///
/// # Errors
/// [`NotTold`].
pub(crate) fn judge_asked(answer: &Answer) -> Result<bool, NotTold> {
    match answer.status {
        200..=299 => Ok(true),
        404 => Ok(false),
        status => Err(NotTold { status, words: told(answer) }),
    }
}

/// The first words of an answer, behind a colon.
fn told(answer: &Answer) -> String {
    if answer.words.is_empty() {
        return String::new();
    }
    let words: String = answer.words.chars().take(TOLD).collect();
    format!(": {}", visible(&words.lines().take(3).collect::<Vec<_>>().join(" ")))
}

/// How long `Retry-After` asks to wait: seconds, or a date (RFC 9110, 10.2.3); a day at the
/// most.
pub(crate) fn wait_of(text: &str, now: Timestamp) -> Option<Duration> {
    let text = text.trim();
    let wait = match text.parse::<u64>() {
        Ok(seconds) => Duration::from_secs(seconds),
        Err(_) => {
            let at = jiff::fmt::rfc2822::parse(text).ok()?.timestamp();
            Duration::try_from(now.duration_until(at)).unwrap_or_default()
        }
    };
    Some(wait.min(LONGEST_WAIT))
}

/// Receivers that asked to be left alone, until when, by their host.
static ALONE: LazyLock<Mutex<HashMap<String, Instant>>> = LazyLock::new(Mutex::default);

fn host(address: &str) -> String {
    let parts: Vec<&str> = address.splitn(4, '/').collect();
    parts.get(2).copied().unwrap_or_default().to_ascii_lowercase()
}

/// Leaves the host of an address alone for a time, whatever gate sends there.
pub(crate) fn leave_alone(address: &str, wait: Duration) {
    let mut alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
    let now = Instant::now();
    alone.retain(|_, until| *until > now);
    let until = alone.entry(host(address)).or_insert(now);
    *until = (*until).max(now + wait);
}

/// How long the host of an address is still to be left alone.
pub(crate) fn left_alone(address: &str) -> Option<Duration> {
    let alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
    let left = alone.get(&host(address))?.saturating_duration_since(Instant::now());
    (!left.is_zero()).then_some(left)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(status: u16) -> Answer {
        let location = Some("https://other.example/x".to_owned());
        Answer { status, words: "so it is".into(), retry_after: Some("7".into()), location }
    }

    #[test]
    fn every_status_has_its_meaning() {
        assert!([200, 201, 204].iter().all(|status| judge(&answer(*status)).is_ok()));
        for status in [408, 425, 429, 500, 503, 599] {
            let Err(Failure::Again(wait, said)) = judge(&answer(status)) else {
                panic!("{status}")
            };
            assert_eq!(wait, Some(Duration::from_secs(7)));
            assert!(said.contains("so it is"), "{said}");
        }
        for status in [301, 308, 400, 401, 404, 409, 422] {
            let Err(Failure::Refused(why)) = judge(&answer(status)) else { panic!("{status}") };
            assert_eq!(why.contains("https://other.example/x"), status < 400, "{why}");
        }
        assert_eq!(judge_asked(&answer(204)), Ok(true));
        assert_eq!(judge_asked(&answer(404)), Ok(false));
        assert!(judge_asked(&answer(401)).is_err());
    }

    #[test]
    fn retry_after_is_seconds_or_a_date_and_a_day_at_the_most() {
        let now: Timestamp = "2026-01-31T06:00:00Z".parse().unwrap();
        let wait = |text: &str| wait_of(text, now);
        assert_eq!(wait(" 90 "), Some(Duration::from_secs(90)));
        assert_eq!(wait("Sat, 31 Jan 2026 06:02:00 GMT"), Some(Duration::from_secs(120)));
        assert_eq!(wait("Sat, 31 Jan 2026 05:00:00 GMT"), Some(Duration::ZERO));
        assert_eq!(wait("99999999"), Some(LONGEST_WAIT));
        assert_eq!(wait("soon"), None);
    }

    #[test]
    fn a_host_is_left_alone_whatever_its_path() {
        leave_alone("https://Alone.example/a", Duration::from_secs(60));
        assert!(left_alone("https://alone.example/b/c").is_some());
        assert!(left_alone("https://alone.example:444/b").is_none());
    }
}
